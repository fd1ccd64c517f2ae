// Package telemetry sends traces and metrics of the service by OTLP, the protocol of OpenTelemetry, over HTTP, where somebody asks for it. A trace has a span
// for each request and each attempt at a job; the metrics are those of /metrics. Nothing of a table or of a person goes with them: spans tell routes, kinds of jobs,
// numbers of records and outcomes.
package telemetry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	bridge "go.opentelemetry.io/contrib/bridges/prometheus"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlpmetric/otlpmetrichttp"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"
	spans "go.opentelemetry.io/otel/trace"
)

// name is what the service is called in what it sends.
const name = "proudsieve"

// metricsEvery is how often metrics are sent.
const metricsEvery = 30 * time.Second

// Check says what is wrong with an address that traces and metrics are to be sent to.
func Check(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%q is no address that traces and metrics can be sent to; write it as http://host:4318", address)
	}
	if u.User != nil {
		return errors.New("the address for traces and metrics holds a name or password; leave them out, headers are told by OTEL_EXPORTER_OTLP_HEADERS")
	}
	return nil
}

// Start sends traces and metrics to an address, below which the protocol's own paths are (v1/traces, v1/metrics), until it is stopped; what is still held is sent
// then. A receiver that is not there costs nothing but what it would have been told.
func Start(ctx context.Context, address, node string, log *slog.Logger) (stop func(context.Context) error, err error) {
	if err := Check(address); err != nil {
		return nil, err
	}
	base, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	tracing, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(base.JoinPath("v1", "traces").String()), otlptracehttp.WithTimeout(10*time.Second))
	if err != nil {
		return nil, err
	}
	measuring, err := otlpmetrichttp.New(ctx, otlpmetrichttp.WithEndpointURL(base.JoinPath("v1", "metrics").String()), otlpmetrichttp.WithTimeout(10*time.Second))
	if err != nil {
		return nil, err
	}
	who := resource.NewSchemaless(attribute.String("service.name", name), attribute.String("service.instance.id", node))
	traces := trace.NewTracerProvider(trace.WithBatcher(tracing), trace.WithResource(who))
	metrics := metric.NewMeterProvider(metric.WithResource(who), metric.WithReader(metric.NewPeriodicReader(measuring, metric.WithInterval(metricsEvery), metric.WithProducer(bridge.NewMetricProducer()))))
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { log.Warn("traces or metrics could not be sent", "error", err) }))
	otel.SetTracerProvider(traces)
	otel.SetTextMapPropagator(propagation.TraceContext{})
	return func(ctx context.Context) error {
		return errors.Join(traces.Shutdown(ctx), metrics.Shutdown(ctx))
	}, nil
}

// Requests makes a span of each request, by its route.
func Requests(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := otel.GetTextMapPropagator().Extract(r.Context(), propagation.HeaderCarrier(r.Header))
		ctx, span := otel.Tracer(name).Start(ctx, r.Method, spans.WithSpanKind(spans.SpanKindServer))
		defer span.End()
		if !span.IsRecording() {
			next.ServeHTTP(w, r)
			return
		}
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(wrapped, r.WithContext(ctx))
		route := "/"
		if of := chi.RouteContext(r.Context()); of != nil && of.RoutePattern() != "" {
			route = of.RoutePattern()
		}
		span.SetName(r.Method + " " + route)
		span.SetAttributes(attribute.String("http.request.method", r.Method), attribute.String("http.route", route), attribute.Int("http.response.status_code", wrapped.Status()))
		if wrapped.Status() >= http.StatusInternalServerError {
			span.SetStatus(codes.Error, "")
		}
	})
}

// Attempt begins the span of an attempt at a job; end tells its outcome.
func Attempt(ctx context.Context, kind string, job int64) (_ context.Context, end func(outcome string)) {
	ctx, span := otel.Tracer(name).Start(ctx, "job "+kind, spans.WithSpanKind(spans.SpanKindConsumer), spans.WithAttributes(attribute.String("job.kind", kind), attribute.Int64("job.id", job)))
	return ctx, func(outcome string) {
		span.SetAttributes(attribute.String("job.outcome", outcome))
		if outcome == "failed" {
			span.SetStatus(codes.Error, "")
		}
		span.End()
	}
}

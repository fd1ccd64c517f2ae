package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"proudsieve/core/guard"
)

// What comes in is judged here once, so that nothing behind has to.

var requestTimes = promauto.NewHistogramVec(prometheus.HistogramOpts{Name: "proudsieve_request_seconds",
	Help:    "How long requests took, by route, method and status.",
	Buckets: []float64{0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.5, 2, 10}}, []string{"route", "method", "status"})

// numbered gives every request an id of our own making, which the answer carries and the log
// knows. Ids that callers make up are not taken over: each stands for one request.
func numbered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := rand.Text()[:16]
		w.Header().Set("X-Request-Id", id)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), middleware.RequestIDKey, id)))
	})
}

// logged writes one line for each request, and measures it.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		recorded := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		guard.Asked()
		who := &callerName{}
		r = r.WithContext(context.WithValue(r.Context(), callerNameKey{}, who))
		started := time.Now()
		next.ServeHTTP(recorded, r)
		status := recorded.Status()
		if status == 0 {
			status = http.StatusOK
		}
		route := "none"
		if c := chi.RouteContext(r.Context()); c != nil && c.RoutePattern() != "" {
			route = c.RoutePattern()
		}
		took := time.Since(started)
		requestTimes.WithLabelValues(route, r.Method, strconv.Itoa(status)).Observe(took.Seconds())
		s.Log.Info("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path", r.URL.Path, "status",
			status, "bytes", recorded.BytesWritten(),
			"took", took.Round(10*time.Microsecond), "caller", who.name, "from", s.addressOf(r))
	})
}

// callerName is filled in once it is known who calls.
type callerName struct{ name string }

type callerNameKey struct{}

// recovered turns a panic into the problem that is sent, with its stack in the log.
func (s *Server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			value := recover()
			if value == nil {
				return
			}
			if value == http.ErrAbortHandler {
				panic(value) // net/http's own way to cut an answer off
			}
			s.Log.Error("a request panicked", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path",
				r.URL.Path, "problem", value, "stack", string(debug.Stack()))
			problem(w, r, http.StatusInternalServerError, somethingWrong)
		}()
		next.ServeHTTP(w, r)
	})
}

const somethingWrong = "Something went wrong here. Quote the number of this request to whoever runs the service: its log says what."

// textual refuses an address that holds what is no text, which no record can hold.
func textual(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		query, err := unescaped(r.URL.RawQuery)
		switch {
		case !plainText(r.URL.Path) || err == nil && !plainText(query):
			problem(w, r, http.StatusUnprocessableEntity,
				"The address holds a NUL or bytes that are no UTF-8; no name or text of ours does.")
			return
		case err != nil:
			problem(w, r, http.StatusBadRequest, "The query of the address is not escaped as it should be.")
			return
		case len(r.URL.RawQuery) > 32<<10:
			problem(w, r, http.StatusRequestURITooLong, "The query of the address is longer than 32 kB.")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func unescaped(query string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(query); i++ {
		if query[i] != '%' {
			b.WriteByte(query[i])
			continue
		}
		if i+2 >= len(query) {
			return "", fmt.Errorf("an escape is cut off")
		}
		n, err := strconv.ParseUint(query[i+1:i+3], 16, 8)
		if err != nil {
			return "", err
		}
		b.WriteByte(byte(n))
		i += 2
	}
	return b.String(), nil
}

func plainText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// bodyLimit bounds what comes in as JSON, in bytes.
const bodyLimit = 8 << 20

// bodied refuses JSON in which a text holds a NUL. Uploads are bytes, which may hold anything.
func bodied(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body == nil || r.Body == http.NoBody || strings.HasSuffix(r.URL.Path, "/deliveries") || r.URL.Path == Prefix+"/arrivals" {
			next.ServeHTTP(w, r)
			return
		}
		raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, bodyLimit))
		var tooLarge *http.MaxBytesError
		switch {
		case errors.As(err, &tooLarge):
			problem(w, r, http.StatusRequestEntityTooLarge, fmt.Sprintf("The body is larger than %d bytes.", bodyLimit))
		case err != nil:
			problem(w, r, http.StatusBadRequest, "The body was cut off before its end.")
		case holdsNul(raw):
			problem(w, r, http.StatusUnprocessableEntity,
				"A text in the body holds a NUL; no name or text of ours does.")
		default:
			r.Body = io.NopCloser(bytes.NewReader(raw))
			next.ServeHTTP(w, r)
		}
	})
}

// holdsNul reports whether JSON has a text with a NUL in it, which can only stand there escaped.
func holdsNul(data []byte) bool {
	for i := 0; i+5 < len(data); i++ {
		if data[i] != '\\' {
			continue
		}
		if data[i+1] == 'u' && string(data[i+2:i+6]) == "0000" {
			return true
		}
		i++ // what is escaped
	}
	return slices.Contains(data, 0)
}

// named refuses a request for a host that is not the service's name, so that no page of
// another name that leads here can speak for somebody who is signed in.
func (s *Server) named(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
		if host == "localhost" || slices.Contains(s.Names, host) || ownAddress(r, host) {
			next.ServeHTTP(w, r)
			return
		}
		problem(w, r, http.StatusMisdirectedRequest,
			fmt.Sprintf("This service does not go by the name %q; whoever runs it can add the name with --name.", host))
	})
}

// ownAddress reports whether a host is a loopback address, or the one that the request came in by.
func ownAddress(r *http.Request, host string) bool {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	if ip.IsLoopback() {
		return true
	}
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return false
	}
	at, err := netip.ParseAddrPort(local.String())
	return err == nil && at.Addr().Unmap() == ip.Unmap()
}

// addressOf is where a request comes from: what a trusted proxy says, else the other end.
func (s *Server) addressOf(r *http.Request) string {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	ip := at.Addr().Unmap()
	forwarded := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(forwarded) - 1; i >= 0 && s.trusted(ip); i-- {
		before, err := netip.ParseAddr(strings.TrimSpace(forwarded[i]))
		if err != nil {
			break
		}
		ip = before.Unmap()
	}
	return ip.String()
}

func (s *Server) trusted(ip netip.Addr) bool {
	return slices.ContainsFunc(s.TrustedProxies, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// tell adds the number of the request to a problem.
func tell(ctx huma.Context, _ string, value any) (any, error) {
	if p, ok := value.(*huma.ErrorModel); ok {
		p.Instance = instance(ctx.Context())
	}
	return value, nil
}

func instance(ctx context.Context) string {
	return "urn:proudsieve:request:" + middleware.GetReqID(ctx)
}

// problem sends a problem outside the described operations.
func problem(w http.ResponseWriter, r *http.Request, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail,
		Instance: instance(r.Context())})
}

// drain reads what is left of a small body, so that the answer to a refused request arrives.
func drain(r *http.Request) { _, _ = io.CopyN(io.Discard, r.Body, 256<<10) }

// cutOff ends an answer that was begun and cannot be finished so that whoever reads it sees that it is not whole: a file that ends
// early would be taken for all there is.
func (s *Server) cutOff(what string, of int64, err error) {
	s.Log.Info("an answer was cut off", "what", what, "of", of, "error", err)
	panic(http.ErrAbortHandler)
}

// Package api is the service's HTTP interface: JSON under /api/v1, described by
// OpenAPI 3.1 that is made from the handlers, errors as RFC 9457 problems.
//
// Every route needs a caller who is signed in and has the route's right, unless it
// is listed in public.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// Prefix is where the operations are.
const Prefix = "/api/v1"

// public lists the operations that need no caller.
var public = []string{
	"POST " + Prefix + "/session",
	"GET " + Prefix + "/signing-key",
	"GET " + Prefix + "/openapi.json",
}

// Server answers the HTTP interface.
type Server struct {
	Store      *store.Store
	Files      *files.Directory
	Pool       *work.Pool
	Log        *slog.Logger
	SigningKey []byte // private JSON Web Key
	Console    http.Handler
	// UploadLimit is the largest delivery that is taken in, in bytes.
	UploadLimit int64

	api        huma.API
	remembered remembered
}

// Handler returns everything the service answers.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, s.logged, middleware.Recoverer, secured, http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("alive\n")) })
	r.Get("/readyz", s.ready)
	r.Handle("/metrics", promhttp.Handler())
	r.Route(Prefix, func(r chi.Router) {
		r.Use(s.identify)
		s.register(r)
		r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
			problem(w, http.StatusNotFound, "There is nothing at this address; the operations are listed at "+Prefix+"/openapi.json.")
		})
	})
	if s.Console != nil {
		r.NotFound(s.Console.ServeHTTP)
	}
	return r
}

// OpenAPI returns the description of the interface.
func OpenAPI() ([]byte, error) {
	s := &Server{Log: slog.New(slog.DiscardHandler)}
	s.register(chi.NewRouter())
	return json.MarshalIndent(s.api.OpenAPI(), "", " ")
}

func (s *Server) register(r chi.Router) {
	config := huma.DefaultConfig("Proud Sieve", "1")
	config.Info.Description = "Audits of incoming tables against declared rules, with their issues, fixes, merges and certificates."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	huma.DefaultArrayNullable = false // an empty list is sent as one
	config.Servers = []*huma.Server{{URL: Prefix}}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie},
	}
	config.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	s.api = humachi.New(r, config)
	r.Get("/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(s.api.OpenAPI())
	})
	s.sessions()
	s.datasets()
	s.declarations()
	s.deliveries(r)
	s.fetches()
	s.tables()
	s.relations()
	s.audits()
	s.judgement()
	s.issues()
	s.jobs()
	s.merges()
	s.certificates()
	s.desk()
}

// operation adds an operation that needs a right; "" means that everybody may.
func operation[I, O any](s *Server, right access.Right, method, path, id, summary string, handler func(context.Context, *I) (*O, error)) {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, MaxBodyBytes: 8 << 20}
	if method == http.MethodPost {
		op.DefaultStatus = http.StatusCreated
	}
	if right == "" {
		op.Security = []map[string][]string{}
	} else {
		op.Middlewares = huma.Middlewares{s.requires(right)}
		op.Errors = []int{http.StatusUnauthorized, http.StatusForbidden}
	}
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		if err != nil {
			return nil, s.refusal(err)
		}
		return out, nil
	})
}

func (s *Server) requires(right access.Right) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if caller(ctx.Context()) == nil {
			_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, unauthorized)
			return
		}
		if !caller(ctx.Context()).Role.May(right) {
			_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, forbidden(caller(ctx.Context()), right))
			return
		}
		next(ctx)
	}
}

const unauthorized = "This needs somebody who is signed in: send a token that is in force as \"Authorization: Bearer …\", or sign in to the console."

func forbidden(c *store.Caller, right access.Right) string {
	return c.Name + " is a " + string(c.Role) + ", and this needs the right to " + string(right) + "; ask an administrator."
}

type callerKey struct{}

// caller returns who makes the request, or nil.
func caller(ctx context.Context) *store.Caller {
	c, _ := ctx.Value(callerKey{}).(*store.Caller)
	return c
}

const sessionCookie = "proudsieve_session"

// identify finds out who makes the request. Nobody passes who is not known, but to
// what is listed as public.
func (s *Server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := s.callerOf(r)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.Log.Error("finding out who calls", "error", err)
			problem(w, http.StatusServiceUnavailable, "The database does not answer; try again in a moment.")
			return
		}
		if c == nil && !slices.Contains(public, r.Method+" "+r.URL.Path) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="Proud Sieve"`)
			problem(w, http.StatusUnauthorized, unauthorized)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, c)))
	})
}

func (s *Server) callerOf(r *http.Request) (*store.Caller, error) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return store.CallerByToken(r.Context(), s.Store.DB, access.Hash(token))
	}
	if cookie, err := r.Cookie(sessionCookie); err == nil {
		return store.CallerBySession(r.Context(), s.Store.DB, access.Hash(cookie.Value))
	}
	return nil, nil
}

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.Store.DB.PingContext(ctx); err != nil {
		problem(w, http.StatusServiceUnavailable, "The database does not answer.")
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		recorded := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		started := time.Now()
		next.ServeHTTP(recorded, r)
		s.Log.Debug("request", "method", r.Method, "path", r.URL.Path, "status", recorded.Status(), "took", time.Since(started), "id", middleware.GetReqID(r.Context()))
	})
}

// secured sets what every answer carries: nothing of ours is framed, sniffed or loaded from elsewhere.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		next.ServeHTTP(w, r)
	})
}

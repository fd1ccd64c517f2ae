// Package api is the service's HTTP interface: JSON under /api/v1, described by
// OpenAPI 3.1 that is made from the handlers, errors as RFC 9457 problems.
//
// Every route needs a caller who is signed in and has the route's right, unless it
// is listed in public.
//
// Each noun has its file, with its operations as literals: the method, the path, who may, what is
// asked and what is answered. To add one, write its literal in the file of its noun; its
// description, the client's method and the console's types are made from it (make generate,
// make build). What comes in is bounded at the edge (edge.go); what goes wrong is a problem in
// the words of errors.go.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/provider"
	"proudsieve/service/records"
	"proudsieve/service/signing"
	"proudsieve/service/store"
	"proudsieve/service/telemetry"
	"proudsieve/service/telling"
	"proudsieve/service/work"
)

// Prefix is where the operations are.
const Prefix = "/api/v1"

// public lists the operations that need no caller.
var public = []string{
	"GET " + Prefix + "/ways-in", "GET " + Prefix + signInPath, "GET " + Prefix + signInDonePath,
	"POST " + Prefix + "/session",
	"POST " + Prefix + "/sign-in-requests", "POST " + Prefix + "/sign-in-requests/outcome",
	"GET " + Prefix + "/signing-key",
	"GET " + Prefix + "/signing-keys",
	"GET " + Prefix + "/revocations",
	"GET " + Prefix + "/openapi.json",
}

// Server answers the HTTP interface.
type Server struct {
	Store   *store.Store
	Files   files.Store
	Pool    *work.Pool
	Log     *slog.Logger
	Signing *signing.Key
	Console http.Handler
	// UploadLimit is the largest delivery that is taken in, in bytes.
	UploadLimit int64
	// Names are the hosts, besides the loopback's own, by which the service is called.
	Names []string
	// TrustedProxies may say on whose behalf they call (X-Forwarded-For).
	TrustedProxies []netip.Prefix
	// Samples are made-up datasets that a person may bring to look around in.
	Samples []records.Sample
	// Secure says that people reach the service by https.
	Secure bool
	// Provider lets in whom it knows; nil for none.
	Provider *provider.Provider

	api        huma.API
	remembered remembered
	slowing    slowing
	refused    refused
	pace       pace
	noticed    noticed
}

// Handler returns everything the service answers.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(numbered, telemetry.Requests, s.logged, compressed(), s.recovered, s.secured, s.named, textual, http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("alive\n")) })
	r.Get("/readyz", s.ready)
	r.Handle("/metrics", promhttp.Handler())
	r.Route(Prefix, func(r chi.Router) {
		r.Use(tagged, s.identify, bodied)
		s.register(r)
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			problem(w, r, http.StatusNotFound, "There is nothing at this address; the operations are listed at "+Prefix+
				"/openapi.json.")
		})
	})
	r.Route(telling.AnswerPath, s.answerPages)
	if s.Console != nil {
		r.NotFound(s.Console.ServeHTTP)
	}
	return r
}

// discarded is the log of a server that answers nobody.
var discarded = slog.New(slog.DiscardHandler)

// OpenAPI returns the description of the interface.
func OpenAPI() ([]byte, error) {
	s := &Server{Log: discarded}
	s.register(chi.NewRouter())
	return json.MarshalIndent(s.api.OpenAPI(), "", " ")
}

func (s *Server) register(r chi.Router) {
	config := huma.DefaultConfig("Proud Sieve", "1")
	config.Info.Description = "Audits of incoming tables against declared rules, with their issues, fixes, merges and certificates."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	config.Formats = formats()
	config.Transformers = append(config.Transformers, tell)
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
	s.signIns(r)
	s.signInRequests()
	s.people()
	s.withdrawals()
	s.datasets()
	s.declarations()
	s.decisions()
	s.checks()
	s.samples()
	s.deliveries(r)
	s.arrivals(r)
	s.fetches()
	s.tables()
	s.relations()
	s.audits()
	s.leads()
	s.groups()
	s.comparisons()
	s.issues()
	s.sheets()
	s.jobs()
	s.fixes()
	s.merges()
	s.reconciling()
	s.traces()
	s.lineages()
	s.certificates()
	s.packing()
	s.certifiedPages()
	s.record()
	s.desk()
	s.search()
	s.notices()
	s.receivers()
	s.databases()
	s.credentials()
}

// operation is one of the interface: what may be asked, by whom, and what it does.
type operation struct {
	ID      string
	Method  string
	Path    string
	Summary string
	Right   access.Right // that the caller needs; empty where everybody may
}

// register adds an operation with what answers it.
func register[I, O any](s *Server, o operation, handler func(context.Context, *I) (*O, error)) {
	op := huma.Operation{OperationID: o.ID, Method: o.Method, Path: o.Path, Summary: o.Summary, MaxBodyBytes: bodyLimit,
		BodyReadTimeout: 30 * time.Second}
	if o.Method == http.MethodPost {
		op.DefaultStatus = http.StatusCreated
	}
	if o.Right == "" {
		op.Security = []map[string][]string{}
	} else {
		op.Middlewares = huma.Middlewares{s.requires(o.Right)}
		op.Errors = []int{http.StatusUnauthorized, http.StatusForbidden}
	}
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		if err != nil {
			if errors.Is(ctx.Err(), context.Canceled) { // whatever went wrong then went wrong because of that
				err = ctx.Err()
			}
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
		if !access.Role(caller(ctx.Context()).Role).May(right) {
			s.recordRefusal(ctx.Context(), caller(ctx.Context()), ctx.Operation().Summary, right)
			_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, forbidden(caller(ctx.Context()), right))
			return
		}
		if err := s.reach(ctx, right); err != nil {
			var told huma.StatusError
			if errors.As(err, &told) && told.GetStatus() == http.StatusForbidden {
				s.recordRefusal(ctx.Context(), caller(ctx.Context()), ctx.Operation().Summary, right)
			}
			_ = writeRefusal(s.api, ctx, err)
			return
		}
		next(ctx)
	}
}

// writeRefusal answers with an error before any handler is asked.
func writeRefusal(api huma.API, ctx huma.Context, err error) error {
	var told huma.StatusError
	if !errors.As(err, &told) {
		return huma.WriteErr(api, ctx, http.StatusInternalServerError, "")
	}
	return huma.WriteErr(api, ctx, told.GetStatus(), told.Error())
}

const unauthorized = "This needs somebody who is signed in: send a token that is in force as \"Authorization: Bearer …\", or sign in to the console."

func forbidden(c *store.Caller, right access.Right) string {
	return c.Name + " is a " + string(c.Role) + ", and this needs the right to " + string(right) +
		"; ask an administrator."
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
		secret, session := secretOf(r)
		var c *store.Caller
		if secret != "" {
			found, err := s.callerBy(r, secret, session)
			switch {
			case errors.Is(err, errWait):
				w.Header().Set("Retry-After", strconv.Itoa(int(s.slowing.wait(s.addressOf(r), access.Hash(secret)).
					Seconds())+1))
				problem(w, r, http.StatusTooManyRequests,
					"Too many wrong tokens were sent from this address; wait before the next one.")
				return
			case err != nil && !errors.Is(err, store.ErrNotFound):
				s.Log.Error("finding out who calls", "error", err)
				w.Header().Set("Retry-After", "2")
				problem(w, r, http.StatusServiceUnavailable, "The database does not answer; try again in a moment.")
				return
			}
			c = found
		}
		if c == nil && !slices.Contains(public, r.Method+" "+r.URL.Path) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="Proud Sieve"`)
			problem(w, r, http.StatusUnauthorized, unauthorized)
			return
		}
		ctx := context.WithValue(r.Context(), callerKey{}, c)
		if who, ok := ctx.Value(callerNameKey{}).(*callerName); ok && c != nil {
			who.name = c.Name
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, addressKey{}, s.addressOf(r))))
	})
}

type addressKey struct{}

// addressIn is where the request of a context comes from.
func addressIn(ctx context.Context) string {
	at, _ := ctx.Value(addressKey{}).(string)
	return at
}

// secretOf is the token or, where session is true, the session that came with a request.
func secretOf(r *http.Request) (secret string, session bool) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return token, false
	}
	if cookie, err := r.Cookie(sessionCookie); err == nil {
		return cookie.Value, true
	}
	return "", false
}

// errWait says that no secret is looked at yet that comes from an address.
var errWait = errors.New("wait")

// callerBy finds who has a secret, unless too many wrong ones came from the same address.
func (s *Server) callerBy(r *http.Request, secret string, session bool) (*store.Caller, error) {
	hash, address := access.Hash(secret), s.addressOf(r)
	if s.slowing.wait(address, hash) > 0 {
		return nil, errWait
	}
	find := store.CallerByToken
	if session {
		find = store.CallerBySession
	}
	c, err := find(r.Context(), s.Store.DB, hash)
	switch {
	case err == nil:
		s.slowing.succeeded(hash)
	case errors.Is(err, store.ErrNotFound) && !session: // a session ends by itself, which is no attempt at anything
		s.failed(r.Context(), address)
	}
	return c, err
}

// failed records, now and then, that wrong tokens come from an address.
func (s *Server) failed(ctx context.Context, address string) {
	n := s.slowing.fail(address)
	if n == 0 {
		return
	}
	s.Log.Warn("wrong tokens", "from", address, "count", n)
	if err := store.Record(context.WithoutCancel(ctx), s.Store.DB, 0, "was shown a wrong token", "address "+address,
		map[string]any{"count": n}); err != nil {
		s.Log.Error("recording wrong tokens", "error", err)
	}
}

// refused remembers whose refusals were recorded lately.
type refused struct {
	mutex sync.Mutex
	last  map[string]time.Time
}

// recordRefusal records that a caller has not the right to something, once a minute for each.
func (s *Server) recordRefusal(ctx context.Context, c *store.Caller, what string, right access.Right) {
	key := c.Name + "\x00" + what
	s.refused.mutex.Lock()
	if s.refused.last == nil || len(s.refused.last) > 10_000 {
		s.refused.last = map[string]time.Time{}
	}
	again := time.Since(s.refused.last[key]) < recordEvery
	s.refused.last[key] = time.Now()
	s.refused.mutex.Unlock()
	if again {
		return
	}
	if err := store.Record(context.WithoutCancel(ctx), s.Store.DB, c.ID, "was refused", what,
		map[string]any{"needs": right, "from": addressIn(ctx)}); err != nil {
		s.Log.Error("recording a refusal", "error", err)
	}
}

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.Store.DB.PingContext(ctx); err != nil {
		problem(w, r, http.StatusServiceUnavailable, "The database does not answer.")
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

// secured sets what every answer carries: nothing of ours is framed, sniffed or loaded from elsewhere.
func (s *Server) secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		if s.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		next.ServeHTTP(w, r)
	})
}

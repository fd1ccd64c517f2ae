package api

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// described is the interface as it describes itself, with nobody behind it.
func described() *Server {
	s := &Server{Log: slog.New(slog.DiscardHandler)}
	s.register(chi.NewRouter())
	return s
}

var (
	idShape   = regexp.MustCompile(`^[a-z]+(-[a-z]+)+$`)
	pathShape = regexp.MustCompile(`^(/([a-z-]+|\{[a-z]+\}))+$`)
)

// operationsOf lists the operations of an address by their methods.
func operationsOf(item *huma.PathItem) map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for method, o := range map[string]*huma.Operation{http.MethodGet: item.Get, http.MethodPost: item.Post,
		http.MethodPut: item.Put, http.MethodPatch: item.Patch, http.MethodDelete: item.Delete} {
		if o != nil {
			out[method] = o
		}
	}
	return out
}

func TestOperationsAreNamedAlike(t *testing.T) {
	ids := map[string]bool{}
	for path, item := range described().api.OpenAPI().Paths {
		if !pathShape.MatchString(path) {
			t.Errorf("the path %s is made otherwise than the others", path)
		}
		for method, o := range operationsOf(item) {
			switch {
			case !idShape.MatchString(o.OperationID):
				t.Errorf("%s %s has the id %q", method, path, o.OperationID)
			case ids[o.OperationID]:
				t.Errorf("two operations have the id %s", o.OperationID)
			case o.Summary == "" || strings.HasSuffix(o.Summary, ".") ||
				strings.ToUpper(o.Summary[:1]) != o.Summary[:1]:
				t.Errorf("%s says of itself %q", o.OperationID, o.Summary)
			}
			ids[o.OperationID] = true
		}
	}
	if len(ids) < 60 {
		t.Errorf("only %d operations are described", len(ids))
	}
}

// Whoever is not signed in gets nothing but what is listed as public, whatever the address.
func TestEveryOperationNeedsACaller(t *testing.T) {
	s := described()
	handler := s.Handler()
	refused := 0
	for path, item := range s.api.OpenAPI().Paths {
		for method := range operationsOf(item) {
			if slices.Contains(public, method+" "+Prefix+path) {
				continue
			}
			address := Prefix + regexp.MustCompile(`\{[a-z]+\}`).ReplaceAllString(path, "1")
			r := httptest.NewRequest(method, address, strings.NewReader("{}"))
			r.Host = "localhost"
			w := httptest.NewRecorder()
			handler.ServeHTTP(w, r)
			if w.Code != http.StatusUnauthorized || w.Header().Get("WWW-Authenticate") == "" {
				t.Errorf("%s %s without a caller: %d %s", method, address, w.Code, w.Body)
			}
			refused++
		}
	}
	if refused < 60 {
		t.Errorf("only %d operations were asked", refused)
	}
}

// What changes something needs more than the right to read.
func TestReadersChangeNothing(t *testing.T) {
	s := &Server{Log: slog.New(slog.DiscardHandler)}
	router := chi.NewRouter()
	s.register(router)
	// they answer questions
	asking := []string{"POST /rulebooks/check", "POST /fix-plans/check", "POST /merges/check", "POST /tables/{id}/conditions/check",
		"POST /rulebooks/outline", "POST /rulebooks/edit", "POST /fix-plans/edit", "POST /merges/edit", "POST /merges/meeting"}
	own := []string{"POST /session", "DELETE /session", "POST /tokens", "DELETE /tokens/{id}", "POST /notices/seen", "PUT /notices/choices",
		"POST /sign-in-requests", "POST /sign-in-requests/outcome", "POST /sign-in-requests/{code}/answer"} // the caller's
	reader := &store.Caller{Person: records.Person{Name: "Ines", Role: string(access.Reader)}}
	for path, item := range s.api.OpenAPI().Paths {
		for method, o := range operationsOf(item) {
			name := method + " " + path
			if method == http.MethodGet || slices.Contains(asking, name) || slices.Contains(own, name) ||
				o.OperationID == "add-delivery" || o.OperationID == "add-arrival" {
				continue
			}
			r := httptest.NewRequest(method, regexp.MustCompile(`\{[a-z]+\}`).ReplaceAllString(path, "1"),
				strings.NewReader("{}"))
			w := httptest.NewRecorder()
			// no record of it is made here
			s.refused.last = map[string]time.Time{reader.Name + "\x00" + o.Summary: time.Now()}
			router.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, reader)))
			if w.Code != http.StatusForbidden {
				t.Errorf("a reader who asks for %s (%s) gets %d", name, o.OperationID, w.Code)
			}
		}
	}
}

func TestTheClientsDescriptionNamesEveryRecord(t *testing.T) {
	raw, err := ForGenerators()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		OpenAPI    string `json:"openapi"`
		Components struct {
			Schemas map[string]map[string]any `json:"schemas"`
		} `json:"components"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil || !strings.HasPrefix(doc.OpenAPI, "3.0") {
		t.Fatalf("%s, %v", doc.OpenAPI, err)
	}
	for name, want := range map[string]string{"Job": "records.Job", "PageTable": "records.Page[records.Table]",
		"IssueShown": "records.IssueShown",
		"AuditShown": "json.RawMessage", "RowsPage": "json.RawMessage"} {
		if got := doc.Components.Schemas[name]["x-go-type"]; got != want {
			t.Errorf("%s is made to %v, want %s", name, got, want)
		}
	}
	change := doc.Components.Schemas["IssueChanged"]["properties"].(map[string]any)["assignee"].(map[string]any)
	if change["x-go-type-skip-optional-pointer"] != false {
		t.Errorf("an assignee that is left out is that of nobody: %v", change)
	}
}

// The methods that are committed are those that the description makes.
func TestTheClientsMethodsAreThoseOfTheInterface(t *testing.T) {
	made, err := os.ReadFile("../../client/operations.gen.go")
	if err != nil {
		t.Fatal(err)
	}
	byHand := []string{"follow-job", "follow-notices", "add-delivery", "add-arrival", "show-signing-key", "sign-in", "sign-out"}
	for path, item := range described().api.OpenAPI().Paths {
		for method, o := range operationsOf(item) {
			name := ""
			for _, word := range strings.Split(o.OperationID, "-") {
				name += strings.ToUpper(word[:1]) + word[1:]
			}
			calls := "// " + name + " calls " + method + " " + path + ":"
			if has := strings.Contains(string(made), calls); has == slices.Contains(byHand, o.OperationID) {
				t.Errorf("the client has %s: %v; run make generate", name, has)
			}
		}
	}
}

func TestAddressesThatHoldNoText(t *testing.T) {
	for query, want := range map[string]int{"a=b": 200, "a=%00": 422, "a=%ff": 422, "a=%zz": 400, "a=%2": 400,
		"a=%C3%A4": 200, "a=" + strings.Repeat("x", 33<<10): 414} {
		r := httptest.NewRequest(http.MethodGet, "/x", nil)
		r.URL.RawQuery = query
		w := httptest.NewRecorder()
		textual(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusOK) })).
			ServeHTTP(w, r)
		if w.Code != want {
			t.Errorf("%.20s: %d, want %d", query, w.Code, want)
		}
	}
}

func TestBodiesThatHoldANulAreRefused(t *testing.T) {
	for body, want := range map[string]int{
		`{"a":"b"}`: 200, `{"a":"\u0000"}`: 422, `{"a":"\\u0000"}`: 200, `{"a":"\\\u0000"}`: 422,
		"{\"a\":\"\x00\"}": 422, `{"a":"\u00e4"}`: 200, strings.Repeat(" ", bodyLimit+1): 413,
	} {
		w := httptest.NewRecorder()
		bodied(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if got, err := io.ReadAll(r.Body); err != nil || string(got) != body {
				t.Errorf("%.20q arrives as %.20q, %v", body, got, err)
			}
		})).ServeHTTP(w, httptest.NewRequest(http.MethodPost, "/x", strings.NewReader(body)))
		if w.Code != want {
			t.Errorf("%.20q: %d, want %d", body, w.Code, want)
		}
	}
}

func TestWhereARequestComesFrom(t *testing.T) {
	s := &Server{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}
	for _, c := range []struct{ from, forwarded, want string }{
		{"192.0.2.1:5", "", "192.0.2.1"},
		{"192.0.2.1:5", "198.51.100.7", "192.0.2.1"}, // nobody trusts it
		{"10.1.1.1:5", "198.51.100.7", "198.51.100.7"},
		{"10.1.1.1:5", "203.0.113.9, 198.51.100.7, 10.2.2.2", "198.51.100.7"},
		{"10.1.1.1:5", "made up", "10.1.1.1"},
		{"[::ffff:10.1.1.1]:5", "198.51.100.7", "198.51.100.7"},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.from
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		if got := s.addressOf(r); got != c.want {
			t.Errorf("from %s, forwarded for %q: %s, want %s", c.from, c.forwarded, got, c.want)
		}
	}
}

func TestAServiceIsCalledByItsNames(t *testing.T) {
	s := &Server{Names: []string{"sieve.example"}}
	for host, want := range map[string]int{"localhost:7305": 200, "127.0.0.1": 200, "[::1]:7305": 200,
		"Sieve.Example.:443": 200, "evil.example": 421, "192.0.2.1": 421} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.Host = host
		w := httptest.NewRecorder()
		s.named(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {})).ServeHTTP(w, r)
		if w.Code != want {
			t.Errorf("%s: %d, want %d", host, w.Code, want)
		}
	}
}

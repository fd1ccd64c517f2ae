package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/demo"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

var ctx = context.Background()

const book = `dataset: samples
columns:
  - {name: sample, pattern: "S[0-9]+"}
  - {name: value, type: decimal, required: true}
keys:
  - {id: one_sample, columns: [sample]}
measures: [value]
pass_mark: 50
`

func declare(t *testing.T, c *client.Client, kind, source string) *records.Declaration {
	t.Helper()
	return declareAfter(t, c, kind, source, 0)
}

func declareAfter(t *testing.T, c *client.Client, kind, source string, version int) *records.Declaration {
	t.Helper()
	d, err := c.DeclareAfter(ctx, kind, []byte(source), version)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// ease saves a rulebook that asks less than the version before; open issues of rules that are gone are closed by it.
func ease(t *testing.T, c *client.Client, source string, version int) *records.Declaration {
	t.Helper()
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatal(err)
	}
	issues, err := servicetest.All[records.Issue](ctx, c, "/issues?dataset="+book.Dataset)
	if err != nil {
		t.Fatal(err)
	}
	var lost []records.LostRule
	for _, i := range issues {
		lost = append(lost, records.LostRule{Rule: i.Rule})
	}
	d, err := c.Ease(ctx, []byte(source), version, "it asked too much", lost...)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func deliver(t *testing.T, c *client.Client, dataset, content string) *records.Delivered {
	t.Helper()
	d, err := c.Deliver(ctx, dataset, dataset+".csv", records.SourceNotes{Provider: "the laboratory", Note: "a note"},
		strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func audited(t *testing.T, c *client.Client, table int64) *api.AuditShown {
	t.Helper()
	a, err := client.Decode[api.AuditShown](c.AuditOf(ctx, table, nil))
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// refused checks that err is a problem with a status and a part of its text.
func refused(t *testing.T, what string, err error, status int, says string) {
	t.Helper()
	var p *client.Problem
	if !errors.As(err, &p) || p.Status != status || !strings.Contains(p.Error(), says) {
		t.Errorf("%s: %v, want %d with %q", what, err, status, says)
	}
}

func send(t *testing.T, method, url, token, body string, header ...string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response, string(text)
}

// operations lists method and path of everything the interface describes.
func operations(t *testing.T) [][2]string {
	t.Helper()
	raw, err := api.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var description struct {
		OpenAPI string                                `json:"openapi"`
		Paths   map[string]map[string]json.RawMessage `json:"paths"`
	}
	if err := json.Unmarshal(raw, &description); err != nil || !strings.HasPrefix(description.OpenAPI, "3.1") {
		t.Fatalf("OpenAPI %s, %v", description.OpenAPI, err)
	}
	var all [][2]string
	for path, methods := range description.Paths {
		for method := range methods {
			all = append(all, [2]string{strings.ToUpper(method), strings.NewReplacer("{id}", "1", "{name}", "samples",
				"{dataset}", "samples").Replace(path)})
		}
	}
	return all
}

func TestNobodyPassesWithoutAToken(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) {
		o.TrustedProxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	})
	public := []string{"POST /session", "GET /signing-key", "GET /signing-keys", "GET /revocations", "GET /ways-in", "POST /sign-in-requests", "POST /sign-in-requests/outcome"}
	all := operations(t)
	if len(all) < 40 {
		t.Errorf("only %d operations are described", len(all))
	}
	for i, o := range all {
		if slices.Contains(public, o[0]+" "+o[1]) {
			continue
		}
		for name, token := range map[string]string{"no token": "", "a wrong token": "ps_guessed"} {
			// each from an address of its own
			response, text := send(t, o[0], r.URL+api.Prefix+o[1], token, "{}", "X-Forwarded-For",
				fmt.Sprintf("203.0.113.%d", i%250+1))
			if response.StatusCode != http.StatusUnauthorized ||
				response.Header.Get("Content-Type") != "application/problem+json" ||
				!strings.Contains(text, "signed in") {
				t.Errorf("%s %s with %s: %d %s", o[0], o[1], name, response.StatusCode, text)
			}
		}
	}
	if response, _ := send(t, "GET", r.URL+api.Prefix+"/nothing/here", "",
		""); response.StatusCode != http.StatusUnauthorized {
		t.Errorf("an address that is none: %d", response.StatusCode)
	}
}

func TestRolesAreCheckedOnTheServer(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for _, c := range []struct {
		who          string
		caller       *client.Client
		method, path string
	}{
		{"a reader", r.Reader, "POST", "/datasets"}, {"a reader", r.Reader, "POST", "/rulebooks"},
		{"a reader", r.Reader, "POST", "/datasets/samples/deliveries"},
		{"a reader", r.Reader, "POST", "/tables/1/audits"}, {"a reader", r.Reader, "POST", "/tables/1/fixes"},
		{"a reader", r.Reader, "POST", "/issues/1/comments"},
		{"a reader", r.Reader, "PATCH", "/issues/1"}, {"a reader", r.Reader, "POST", "/issues/1/waiver"},
		{"a reader", r.Reader, "POST", "/jobs/1/stop"},
		{"a steward", r.Steward, "POST", "/tables/1/certificates"}, {"a steward", r.Steward, "POST", "/people"},
		{"a steward", r.Steward, "PATCH", "/people/Jonas"}, {"a steward", r.Steward, "POST", "/people/Jonas/reset"},
		{"a steward", r.Steward, "DELETE", "/tokens/1"},
		{"a reader", r.Reader, "POST", "/tables/1/withdrawal"},
		{"a reader", r.Reader, "PUT", "/datasets/samples/retention"},
		{"a certifier", r.Certifier, "POST", "/rulebooks"}, {"a certifier", r.Certifier, "POST",
			"/datasets/samples/deliveries"}, {"a certifier", r.Certifier, "POST", "/merges/samples/runs"},
	} {
		response, text := send(t, c.method, r.URL+api.Prefix+c.path, c.caller.Token,
			`{"source":"x","name":"x","text":"x","reason":"xxx","until":"2030-01-01","fix_plan":"x","person":"x","role":"reader"}`)
		if response.StatusCode != http.StatusForbidden || !strings.Contains(text, "ask an administrator") {
			t.Errorf("%s, %s %s: %d %s", c.who, c.method, c.path, response.StatusCode, text)
		}
	}
}

func TestTheOpenDoors(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for path, want := range map[string]string{"/healthz": "alive", "/readyz": "ready", "/metrics": "go_goroutines",
		api.Prefix + "/signing-key": "Ed25519", api.Prefix + "/openapi.json": `"openapi":"3.1`} {
		response, text := send(t, "GET", r.URL+path, "", "")
		if response.StatusCode != http.StatusOK || !strings.Contains(text, want) {
			t.Errorf("%s: %d %.100s", path, response.StatusCode, text)
		}
		if response.Header.Get("X-Content-Type-Options") != "nosniff" ||
			!strings.Contains(response.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'") {
			t.Errorf("%s: headers %v", path, response.Header)
		}
	}
}

func TestTheConsolesSession(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	response, text := send(t, "POST", r.URL+api.Prefix+"/session", "", `{"token":"ps_guessed"}`)
	if response.StatusCode != http.StatusUnauthorized || !strings.Contains(text, "not in force") {
		t.Errorf("a wrong token: %d %s", response.StatusCode, text)
	}
	response, _ = send(t, "POST", r.URL+api.Prefix+"/session", "", fmt.Sprintf(`{"token":%q}`, r.Steward.Token))
	cookie := response.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode ||
		strings.Contains(cookie.Value, r.Steward.Token) {
		t.Errorf("the cookie %+v", cookie)
	}
	_, text = send(t, "GET", r.URL+api.Prefix+"/me", "", "", "Cookie", cookie.Name+"="+cookie.Value)
	if !strings.Contains(text, `"name":"Mara"`) || !strings.Contains(text, `"work"`) ||
		strings.Contains(text, "certify") {
		t.Errorf("who is signed in: %s", text)
	}
	if response, _ := send(t, "POST", r.URL+api.Prefix+"/datasets", "", `{"name":"x"}`, "Cookie", cookie.Name+"="+
		cookie.Value, "Origin", "http://elsewhere.example", "Sec-Fetch-Site",
		"cross-site"); response.StatusCode != http.StatusForbidden {
		t.Errorf("another site's page acts in the session: %d", response.StatusCode)
	}
	send(t, "DELETE", r.URL+api.Prefix+"/session", "", "", "Cookie", cookie.Name+"="+cookie.Value)
	if response, _ := send(t, "GET", r.URL+api.Prefix+"/me", "", "", "Cookie", cookie.Name+"="+
		cookie.Value); response.StatusCode != http.StatusUnauthorized {
		t.Errorf("after signing out: %d", response.StatusCode)
	}
}

func TestTokens(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	tokens, err := servicetest.All[records.Token](ctx, r.Admin, "/tokens")
	if err != nil || len(tokens) != 4 {
		t.Fatalf("%d tokens, %v", len(tokens), err)
	}
	raw, err := json.Marshal(tokens)
	if err != nil || strings.Contains(string(raw), "ps_") {
		t.Errorf("secrets are listed: %s", raw)
	}
	// the newest: the reader's
	if err := servicetest.Delete(ctx, r.Admin, fmt.Sprintf("/tokens/%d", tokens[0].ID)); err != nil {
		t.Fatal(err)
	}
	_, err = servicetest.Get[records.Page[records.Dataset]](ctx, r.Reader, "/datasets")
	refused(t, "a revoked token", err, http.StatusUnauthorized, "token that is in force")
	_, err = servicetest.Post[records.Token](ctx, r.Admin, "/tokens", map[string]string{"person": "Mara"})
	refused(t, "a token in somebody else's name", err, http.StatusUnprocessableEntity, "person")
	_, err = servicetest.Post[records.Person](ctx, r.Admin, "/people",
		map[string]string{"name": "Mara", "role": "administrator"})
	refused(t, "another role for somebody", err, http.StatusConflict, `there is a person "Mara" already`)
	_, err = servicetest.Post[records.Person](ctx, r.Admin, "/people",
		map[string]string{"name": "Otto", "role": "emperor"})
	refused(t, "a role that is none", err, http.StatusUnprocessableEntity, "role")
	own, err := servicetest.Post[records.MadeToken](ctx, r.Steward, "/tokens",
		map[string]any{"note": "for a script", "days": 3})
	if err != nil || own.Person != "Mara" || own.ExpiresAt == nil {
		t.Errorf("a token of one's own: %+v, %v", own, err)
	}
	mine, err := servicetest.All[records.Token](ctx, r.Steward, "/tokens")
	if err != nil || len(mine) != 2 {
		t.Errorf("a steward sees %d tokens, %v", len(mine), err)
	}
	reset, err := servicetest.Post[records.MadePerson](ctx, r.Admin, "/people/Mara/reset", nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]*client.Client{"the first": r.Steward,
		"another": {Server: r.URL, Token: own.Secret}} {
		_, err = servicetest.Get[records.Page[records.Dataset]](ctx, c, "/datasets")
		refused(t, name+" token after a reset", err, http.StatusUnauthorized, "token that is in force")
	}
	mara := &client.Client{Server: r.URL, Token: reset.Secret}
	for disabled, want := range map[bool]int{true: http.StatusUnauthorized, false: 0} {
		if _, err := servicetest.Patch[records.Person](ctx, r.Admin, "/people/Mara",
			map[string]bool{"disabled": disabled}); err != nil {
			t.Fatal(err)
		}
		if _, err = servicetest.Get[records.Page[records.Dataset]](ctx, mara, "/datasets"); want == 0 && err != nil {
			t.Errorf("let in again: %v", err)
		} else if want > 0 {
			refused(t, "a person who is kept out", err, want, "token that is in force")
		}
	}
	_, err = servicetest.Patch[records.Person](ctx, r.Admin, "/people/administrator", map[string]bool{"disabled": true})
	refused(t, "the last administrator", err, http.StatusConflict, "is the last administrator who is let in")
	info, err := os.Stat(service.TokenFile(r.Directory))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the first token's file: %v, %v", info.Mode(), err)
	}
	info, err = os.Stat(filepath.Join(r.Directory, "signing-key.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the signing key's file: %v, %v", info.Mode(), err)
	}
}

func TestADeliveryIsAuditedAndItsIssuesFollowed(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\nS2,x\n")
	if d.Known || d.Table.Origin != "delivery" || d.Job.Kind != "audit" {
		t.Errorf("%+v", d)
	}
	a := audited(t, r.Steward, d.Table.ID)
	if !a.FellShort() || a.Rows != 3 || len(a.Result.Findings) != 2 || *a.Rulebook != 1 {
		t.Errorf("%+v", a.Audit)
	}
	issues, err := servicetest.All[records.Issue](ctx, r.Reader, "/issues?state=unsettled&dataset=samples")
	if err != nil || len(issues) != 2 {
		t.Fatalf("%+v, %v", issues, err)
	}
	again := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\nS2,x\n")
	if !again.Known || again.Table.ID != d.Table.ID || again.Job != nil ||
		!strings.Contains(again.Message, "arrived before") {
		t.Errorf("the same bytes again: %+v", again)
	}
	better := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS2,2\n")
	if a := audited(t, r.Steward, better.Table.ID); !a.HasPassed() || *a.Score != 100 {
		t.Errorf("%+v", a.Audit)
	}
	_, err = r.Steward.Waive(ctx, issues[0].ID, client.Waived{Reason: "too late", Until: "2099-01-01"})
	refused(t, "waiving a closed issue", err, http.StatusConflict, "is closed: there is nothing to accept")
	for _, i := range issues {
		shown, err := servicetest.Get[records.IssueShown](ctx, r.Steward, fmt.Sprintf("/issues/%d", i.ID))
		if err != nil || shown.State != "closed" || len(shown.Entries) != 2 || shown.Entries[1].Kind != "closed" {
			t.Errorf("%+v, %v", shown, err)
		}
	}
	var content bytes.Buffer
	if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/tables/%d/bytes", d.Table.ID), &content); err != nil ||
		content.String() != "sample,value\nS1,1\nS1,2\nS2,x\n" {
		t.Errorf("the bytes are %q, %v", content.String(), err)
	}
}

func TestADatasetWithoutARulebookIsDescribed(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	if _, err := servicetest.Post[records.Dataset](ctx, r.Steward, "/datasets",
		map[string]string{"name": "samples"}); err != nil {
		t.Fatal(err)
	}
	d := deliver(t, r.Steward, "samples", "sample;value\nS1;1,5\nS2;2,5\n")
	a := audited(t, r.Steward, d.Table.ID)
	if a.Rulebook != nil || a.Passed != nil || a.Score != nil || a.Result.Columns[1].Type != "decimal" || a.Result.Columns[1].Sum != "4" {
		t.Errorf("%+v", a.Result.Columns)
	}
	issues, err := servicetest.All[records.Issue](ctx, r.Steward, "/issues")
	if err != nil || len(issues) != 0 {
		t.Errorf("a draft opened issues: %+v, %v", issues, err)
	}
}

func TestRowsOfATable(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	var content strings.Builder
	content.WriteString("sample,value\n")
	for i := 1; i <= 2500; i++ {
		value := fmt.Sprint(i)
		if i%100 == 0 {
			value = ""
		}
		fmt.Fprintf(&content, "S%d,%s\n", i, value)
	}
	d := deliver(t, r.Steward, "samples", content.String())
	audited(t, r.Steward, d.Table.ID)
	page := func(query string) *api.RowsPage {
		t.Helper()
		p, err := servicetest.Get[api.RowsPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows%s", d.Table.ID, query))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	first := page("?limit=10")
	if first.Total != 2500 || first.Next != 10 || len(first.Rows) != 10 || first.Rows[9].Cells[0] != "S10" ||
		first.Rows[9].Line != 11 {
		t.Errorf("%+v", first)
	}
	last := page("?limit=10&after=2495")
	if len(last.Rows) != 5 || last.Next != 0 || last.Rows[4].Row != 2500 || len(last.Rows[4].Caught) != 1 ||
		last.Rows[4].Caught[0].Rule != "value.required" {
		t.Errorf("%+v", last)
	}
	caught := page("?limit=20&rule=value.required")
	if caught.Total != 25 || len(caught.Rows) != 20 || caught.Next != 2000 || caught.Rows[19].Row != 2000 {
		t.Errorf("%d of %d rows, next %d", len(caught.Rows), caught.Total, caught.Next)
	}
	if rest := page("?limit=20&rule=value.required&after=2000"); len(rest.Rows) != 5 || rest.Next != 0 {
		t.Errorf("%d rows, next %d", len(rest.Rows), rest.Next)
	}
	if p := page("?column=value&dimension=validity"); p.Total != 0 || len(p.Rows) != 0 {
		t.Errorf("%+v", p)
	}
	if p := page("?after=9999"); len(p.Rows) != 0 {
		t.Errorf("%+v", p)
	}
}

func TestBadInputIsAnswered(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) { o.UploadLimit = 1000 })
	declare(t, r.Steward, "rulebooks", book)
	_, err := r.Steward.Declare(ctx, "rulebooks", []byte("dataset: samples\ncolums: []\n"))
	refused(t, "a misspelt key", err, http.StatusUnprocessableEntity,
		`line 2, column 1: a rulebook has no "colums"; did you mean "columns"?`)
	_, err = r.Steward.Declare(ctx, "fix-plans",
		[]byte("fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, columns: [nope], reason: r}\n"))
	refused(t, "a column that is not there", err, http.StatusUnprocessableEntity,
		`line 4, column 26: there is no column "nope"`)
	_, err = r.Steward.Declare(ctx, "fix-plans", []byte("fix_plan: p\ndataset: other\nsteps: []\n"))
	refused(t, "a dataset that is not there", err, http.StatusNotFound, `there is no dataset "other"`)
	_, err = r.Steward.Declare(ctx, "merges", []byte("merge: m\nstack: [other]\n"))
	refused(t, "a merge of nothing", err, http.StatusNotFound, `there is no dataset "other"`)
	_, err = r.Steward.Deliver(ctx, "other", "f.csv", records.SourceNotes{}, strings.NewReader("a\n1\n"))
	refused(t, "a delivery to nowhere", err, http.StatusNotFound, `there is no dataset "other"`)
	_, err = r.Steward.Deliver(ctx, "samples", "f.csv", records.SourceNotes{}, strings.NewReader(""))
	refused(t, "an empty delivery", err, http.StatusUnprocessableEntity, "The file is empty")
	_, err = r.Steward.Deliver(ctx, "samples", "f.csv", records.SourceNotes{},
		strings.NewReader(strings.Repeat("x", 2000)))
	refused(t, "a delivery over the limit", err, http.StatusRequestEntityTooLarge, "larger than the 1000 bytes")
	for _, path := range []string{"/tables/99", "/tables/99/rows", "/tables/99/path", "/tables/99/bytes",
		"/tables/99/obstacles", "/tables/99/inputs", "/audits/99", "/issues/99", "/jobs/99", "/certificates/99",
		"/datasets/none", "/datasets/none/tables", "/rulebooks/samples/none", "/rulebooks/none/none",
		"/fix-plans/samples/none", "/nothing/here"} {
		_, err := servicetest.Get[map[string]any](ctx, r.Admin, path)
		refused(t, path, err, http.StatusNotFound, "here is no")
	}
	_, err = servicetest.Get[map[string]any](ctx, r.Admin, "/history?after=invented")
	refused(t, "an invented cursor", err, http.StatusNotFound, `"invented" is not a cursor that was handed out`)
	for _, path := range []string{"/tables/0", "/tables/abc", "/issues?state=lost", "/tables/1/rows?limit=0",
		"/tables/1/rows?dimension=beauty"} {
		if _, err := servicetest.Get[map[string]any](ctx, r.Admin, path); err == nil {
			t.Errorf("%s is answered", path)
		}
	}
	response, text := send(t, "POST", r.URL+api.Prefix+"/datasets", r.Steward.Token, `{"name": "Not A Name"}`)
	if response.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(text, "lower-case letters") {
		t.Errorf("a bad name: %d %s", response.StatusCode, text)
	}
	response, text = send(t, "POST", r.URL+api.Prefix+"/datasets", r.Steward.Token, `{"name": `)
	if response.StatusCode != http.StatusBadRequest ||
		response.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("broken JSON: %d %s", response.StatusCode, text)
	}
	tables, err := servicetest.All[records.Table](ctx, r.Reader, "/datasets/samples/tables")
	if err != nil || len(tables) != 0 || len(keptFiles(t, r.Directory)) != 0 {
		t.Errorf("something was kept: %+v, files %v, %v", tables, keptFiles(t, r.Directory), err)
	}
}

func keptFiles(t *testing.T, directory string) []string {
	t.Helper()
	var found []string
	if err := filepath.Walk(filepath.Join(directory, "files"), func(path string, info os.FileInfo, err error) error {
		if errors.Is(err, os.ErrNotExist) { // taken away meanwhile
			return nil
		}
		if err == nil && !info.IsDir() {
			found = append(found, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return found
}

func TestAFileThatCannotBeReadIsKeptAndSaidSo(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "\x7fELF\x02\x01\x00\x00")
	_, err := r.Steward.AuditOf(ctx, d.Table.ID, nil)
	var failed *client.JobFailed
	if !errors.As(err, &failed) || !strings.Contains(failed.Error(), "not delimited text") {
		t.Errorf("%v", err)
	}
	path, err := servicetest.Get[records.Path](ctx, r.Reader, fmt.Sprintf("/tables/%d/path", d.Table.ID))
	if err != nil || path.Stages[1].State != "held" || !strings.Contains(path.Stages[1].Says, "not delimited text") {
		t.Errorf("%+v, %v", path, err)
	}
	desk, err := servicetest.Get[api.Desk](ctx, r.Steward, "/desk")
	if err != nil || len(desk.Failed) != 1 {
		t.Errorf("%+v, %v", desk, err)
	}
	lacking := deliver(t, r.Steward, "samples", "sample,other\nS1,2\n")
	if a := audited(t, r.Steward, lacking.Table.ID); !a.FellShort() || len(a.Result.Findings) != 1 ||
		!strings.Contains(a.Result.Findings[0].Found, "no column value") {
		t.Errorf("a column that is not there: %+v", a.Result.Findings)
	}
}

// lines hands on what is written to it line by line.
type lines chan string

// Write implements io.Writer.
func (l lines) Write(p []byte) (int, error) {
	l <- string(p)
	return len(p), nil
}

func TestAnUploadThatIsCutOffLeavesNothing(t *testing.T) {
	t.Parallel()
	answered := make(lines, 1000)
	r := servicetest.Start(t, func(o *service.Options) { o.Log = slog.New(slog.NewTextHandler(answered, nil)) })
	declare(t, r.Steward, "rulebooks", book)
	for name, head := range map[string]string{"with a length": "Content-Length: 100000\r\n\r\n",
		"in chunks": "Transfer-Encoding: chunked\r\n\r\n10000\r\n"} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(r.URL, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "POST %s/datasets/samples/deliveries HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n%s%s",
			api.Prefix, r.Steward.Token, head, "sample,value\nS1,1\n")
		if err := conn.Close(); err != nil {
			t.Fatal(err)
		}
		for line := range answered { // what was done of it is logged at its end
			if strings.Contains(line, "/datasets/samples/deliveries") {
				break
			}
		}
		tables, err := servicetest.All[records.Table](ctx, r.Reader, "/datasets/samples/tables")
		if found := keptFiles(t, r.Directory); err != nil || len(tables) != 0 || len(found) != 0 {
			t.Errorf("%s: tables %+v, files %v, %v", name, tables, found, err)
		}
	}
}

func TestTwoPeopleAtOneIssue(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\n").Table.ID)
	url := r.URL + api.Prefix + "/issues/1"
	response, _ := send(t, "GET", url, r.Steward.Token, "")
	etag := response.Header.Get("ETag")
	if response, text := send(t, "PATCH", url, r.Steward.Token,
		`{"state":"asked"}`); response.StatusCode != http.StatusPreconditionRequired {
		t.Errorf("without If-Match: %d %s", response.StatusCode, text)
	}
	if response, text := send(t, "PATCH", url, r.Steward.Token, `{"state":"asked","assignee":"Jonas"}`, "If-Match",
		etag); response.StatusCode != http.StatusOK || !strings.Contains(text, `"state":"asked"`) ||
		!strings.Contains(text, `"assignee":"Jonas"`) {
		t.Errorf("with it: %d %s", response.StatusCode, text)
	}
	if response, text := send(t, "PATCH", url, r.Certifier.Token, `{"state":"open"}`, "If-Match",
		etag); response.StatusCode != http.StatusPreconditionFailed ||
		!strings.Contains(text, "somebody changed issue 1 in the meantime") {
		t.Errorf("with an old one: %d %s", response.StatusCode, text)
	}
	for until, status := range map[string]int{"2020-01-01": 422, "soon": 422, time.Now().AddDate(0, 0, 7).
		Format(time.DateOnly): 200} {
		response, _ := send(t, "GET", url, r.Steward.Token, "")
		response, text := send(t, "POST", url+"/waiver", r.Steward.Token,
			fmt.Sprintf(`{"reason":"It is meant that way.","until":%q}`, until), "If-Match",
			response.Header.Get("ETag"))
		if response.StatusCode != status && (status != 200 || response.StatusCode != 201) {
			t.Errorf("a waiver until %s: %d %s", until, response.StatusCode, text)
		}
	}
	if _, err := servicetest.Post[records.IssueShown](ctx, r.Certifier, "/issues/1/comments",
		map[string]string{"text": "Agreed."}); err != nil {
		t.Error(err)
	}
	i, err := servicetest.Get[records.IssueShown](ctx, r.Reader, "/issues/1")
	kinds := []string{}
	for _, e := range i.Entries {
		kinds = append(kinds, e.Kind)
	}
	if want := []string{"opened", "assigned", "asked", "waived", "comment"}; err != nil || i.State != "waived" ||
		len(i.Given) != 1 || i.Given[0].By != "Mara" || !slices.Equal(kinds, want) {
		t.Errorf("%s: %v, want %v; %v", i.State, kinds, want, err)
	}
	nobody := "Nobody Known"
	_, err = r.Steward.EditIssue(ctx, 1, client.IssueChanged{Assignee: &nobody})
	refused(t, "an assignee who is not there", err, http.StatusNotFound, `there is no person "Nobody Known"`)
}

func TestAJobCanBeStopped(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\n"+strings.Repeat("S1,1\nS2,2.5\nS3,x\n", 2_000_000))
	if _, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/jobs/%d/stop", d.Job.ID),
		nil); err != nil {
		t.Fatal(err)
	}
	_, err := r.Steward.Follow(ctx, d.Job.ID, nil)
	var failed *client.JobFailed
	if !errors.As(err, &failed) || failed.Job.State != "stopped" ||
		!strings.Contains(err.Error(), "nothing of it was kept") {
		t.Errorf("%v", err)
	}
	_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/jobs/%d/stop", d.Job.ID), nil)
	refused(t, "stopping it again", err, http.StatusConflict, "has ended already")
	audits, err := servicetest.All[records.Audit](ctx, r.Reader, "/audits")
	if err != nil || len(audits) != 0 {
		t.Errorf("%+v, %v", audits, err)
	}
}

// TestTheWholePathThroughTheClient takes the demo from its files to a certificate.
func TestTheWholePathThroughTheClient(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	read := func(name string) string {
		t.Helper()
		raw, err := demo.Files.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	tables := map[string]int64{}
	for _, name := range []string{"stations", "highgarth_results", "millrace_results"} {
		declare(t, r.Steward, "rulebooks", read("rulebooks/"+name+".yaml"))
		d := deliver(t, r.Steward, name, read("data/"+name+".csv"))
		audited(t, r.Steward, d.Table.ID)
		tables[name] = d.Table.ID
	}
	declare(t, r.Steward, "merges", read("merges/survey_results.yaml"))
	declare(t, r.Steward, "rulebooks", read("rulebooks/survey_results.yaml"))
	_, err := servicetest.Post[records.Job](ctx, r.Steward, "/merges/survey_results/runs", map[string]any{})
	refused(t, "merging before anything is cleaned", err, http.StatusNotFound,
		"apply a fix plan to its newest delivery first")

	for dataset, plan := range map[string]string{"stations": "stations_clean", "highgarth_results": "highgarth_clean",
		"millrace_results": "millrace_clean"} {
		declare(t, r.Steward, "fix-plans", read("fixes/"+plan+".yaml"))
		body := map[string]string{"fix_plan": plan}
		job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/previews", tables[dataset]),
			body)
		if err != nil {
			t.Fatal(err)
		}
		if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
			t.Fatal(err)
		}
		var shown fix.Preview
		if err := json.Unmarshal(*job.Result, &shown); err != nil {
			t.Fatal(err)
		}
		if job, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", tables[dataset]),
			body); err != nil {
			t.Fatal(err)
		}
		if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
			t.Fatal(err)
		}
		cleaned, err := servicetest.Get[records.Table](ctx, r.Reader, fmt.Sprintf("/tables/%d", *job.ResultTable))
		if err != nil {
			t.Fatal(err)
		}
		var ledger fix.Ledger
		if err := json.Unmarshal(*cleaned.Accounting, &ledger); err != nil {
			t.Fatal(err)
		}
		if a := audited(t, r.Steward, cleaned.ID); a.Rows != ledger.RowsOut || ledger.RowsOut != shown.Ledger.RowsOut ||
			*a.Score != shown.After.Score || !a.HasPassed() {
			t.Errorf("%s: %d rows with %v, previewed were %d with %v", dataset, a.Rows, a.Score, shown.Ledger.RowsOut,
				shown.After.Score)
		}
		var log bytes.Buffer
		if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/tables/%d/bytes?what=change-log", cleaned.ID),
			&log); err != nil || int64(log.Len()) != shown.Ledger.LogAt[len(shown.Ledger.LogAt)-1] {
			t.Errorf("%s: a change log of %d bytes, previewed were %v; %v", dataset, log.Len(), shown.Ledger.LogAt, err)
		}
		_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", cleaned.ID), body)
		refused(t, "cleaning a cleaned table", err, http.StatusUnprocessableEntity,
			"fix plans are applied to deliveries")
	}
	job, err := servicetest.Post[records.Job](ctx, r.Steward, "/merges/survey_results/runs", map[string]any{})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	merged, err := servicetest.Get[records.Table](ctx, r.Reader, fmt.Sprintf("/tables/%d", *job.ResultTable))
	if err != nil {
		t.Fatal(err)
	}
	certificates := fmt.Sprintf("/tables/%d/certificates", merged.ID)
	if _, err := servicetest.Post[records.Certificate](ctx, r.Certifier,
		fmt.Sprintf("/tables/%d/certificates", tables["stations"]), nil); err == nil ||
		!strings.Contains(err.Error(), "only a cleaned or merged table is certified") {
		t.Errorf("certifying a delivery: %v", err)
	}
	audited(t, r.Steward, merged.ID)
	var accounting merge.Accounting
	if err := json.Unmarshal(*merged.Accounting, &accounting); err != nil || accounting.Rows != 5940 ||
		accounting.Joins[0].Matched != 5940 {
		t.Errorf("%+v, %v", accounting, err)
	}
	own, err := servicetest.Get[api.Obstacles](ctx, r.Steward, fmt.Sprintf("/tables/%d/obstacles", merged.ID))
	if err != nil || own.Ready || len(own.Obstacles) != 1 ||
		!strings.Contains(own.Obstacles[0].Says, "Mara applied the fixes") {
		t.Errorf("%+v, %v", own, err)
	}
	made, err := servicetest.Post[records.Certificate](ctx, r.Certifier, certificates, nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := servicetest.Get[json.RawMessage](ctx, r.Reader, "/signing-key")
	if err != nil {
		t.Fatal(err)
	}
	var content bytes.Buffer
	if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/tables/%d/bytes", merged.ID), &content); err != nil {
		t.Fatal(err)
	}
	s, err := certify.Verify(bytes.NewReader(content.Bytes()), nil, made.Signature, *key)
	if err != nil || s.CertifiedBy != "Jonas" || len(s.Inputs) != 3 || s.Merge.MergedBy != "Mara" ||
		s.Table.Rows != 5940 || s.Rulebook.Version != 1 {
		t.Errorf("%+v, %v", s, err)
	}
	path, err := servicetest.Get[records.Path](ctx, r.Reader,
		fmt.Sprintf("/tables/%d/path", tables["millrace_results"]))
	if err != nil || path.Stages[6].State != "done" || *path.Stages[6].Table != merged.ID {
		t.Errorf("%+v, %v", path, err)
	}
	// A stop issue that opens again stands in the way of the next certificate.
	audited(t, r.Steward, deliver(t, r.Steward, "stations", read("data/stations.csv")+
		"AV-001,Again,Alder,UV,412000,287000,2000-01-01\n").Table.ID)
	_, err = servicetest.Post[records.Certificate](ctx, r.Certifier, certificates, nil)
	refused(t, "with an open stop issue", err, http.StatusConflict,
		"of stations stops the table and is neither closed nor waived")
	history, err := servicetest.All[records.Deed](ctx, r.Reader, "/history")
	deeds := map[string]int{}
	for _, d := range history {
		deeds[*d.Person+" "+d.Action]++
	}
	if err != nil || deeds["Mara took in a delivery"] != 4 || deeds["Jonas certified"] != 1 ||
		deeds["Mara applied the fix plan stations_clean"] != 1 {
		t.Errorf("%v, %v", deeds, err)
	}
}

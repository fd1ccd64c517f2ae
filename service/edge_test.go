package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestRowsNearTheEndOfAllNumbersAreAnsweredAndEndNothing(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS2,2\n")
	audited(t, r.Steward, d.Table.ID)
	for query, want := range map[string]int{
		"after=4294967290&limit=100": 200, "after=4294967294&limit=1000": 200, "offset=4294967294&limit=5": 200,
		"after=4294967294&offset=4294967294":    200,
		"offset=4294967294&rule=value.required": 200, "offset=4294967294&sort=value": 200,
		"after=4294967294&rule=value.required": 200,
		"after=4294967295":                     422, "offset=4294967296": 422, "offset=9223372036854775807": 422,
		"offset=-1": 422,
		"after=-1":  422, "after=18446744073709551616": 422,
		"limit=0": 422, "limit=1001": 422,
	} {
		response, text := send(t, "GET", fmt.Sprintf("%s%s/tables/%d/rows?%s", r.URL, api.Prefix, d.Table.ID, query),
			r.Reader.Token, "")
		var page api.RowsPage
		if err := json.Unmarshal([]byte(text), &page); err != nil || response.StatusCode != want ||
			len(page.Rows) != 0 {
			t.Errorf("%s: %d, want %d; %.200s", query, response.StatusCode, want, text)
		}
	}
	if response, _ := send(t, "GET", r.URL+"/healthz", "", ""); response.StatusCode != 200 {
		t.Error("the service has ended")
	}
}

// Every whole number that comes in has bounds, so that none reaches where it would wrap.
func TestEveryNumberThatComesInIsBounded(t *testing.T) {
	raw, err := api.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	type schema struct {
		Type       any               `json:"type"`
		Minimum    *float64          `json:"minimum"`
		Maximum    *float64          `json:"maximum"`
		Ref        string            `json:"$ref"`
		Properties map[string]schema `json:"properties"`
		Items      *schema           `json:"items"`
	}
	var description struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Parameters  []struct {
				Name   string `json:"name"`
				Schema schema `json:"schema"`
			} `json:"parameters"`
			RequestBody struct {
				Content map[string]struct {
					Schema schema `json:"schema"`
				} `json:"content"`
			} `json:"requestBody"`
		} `json:"paths"`
		Components struct {
			Schemas map[string]schema `json:"schemas"`
		} `json:"components"`
	}
	if err := json.Unmarshal(raw, &description); err != nil {
		t.Fatal(err)
	}
	met := 0
	var look func(where string, s schema)
	look = func(where string, s schema) {
		if s.Ref != "" {
			s = description.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
		}
		if strings.Contains(fmt.Sprint(s.Type), "integer") {
			if met++; s.Minimum == nil || s.Maximum == nil {
				t.Errorf("%s has no bounds", where)
			}
		}
		for name, p := range s.Properties {
			look(where+"."+name, p)
		}
		if s.Items != nil {
			look(where+"[]", *s.Items)
		}
	}
	for path, methods := range description.Paths {
		for method, o := range methods {
			for _, p := range o.Parameters {
				look(method+" "+path+" "+p.Name, p.Schema)
			}
			for _, c := range o.RequestBody.Content {
				look(method+" "+path+" body", c.Schema)
			}
		}
	}
	if met < 30 {
		t.Errorf("only %d numbers were looked at", met)
	}
}

func TestANulAndWhatIsNoTextAreRefusedEverywhere(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\n")
	audited(t, r.Steward, d.Table.ID)
	post := func(path, body string) (int, string) {
		response, text := send(t, "POST", r.URL+api.Prefix+path, r.Steward.Token, body)
		return response.StatusCode, text
	}
	for name, c := range map[string][2]string{
		"a comment": {"/issues/1/comments", `{"text":"a\u0000b"}`},
		"a name":    {"/datasets", `{"name":"x","title":"\u0000"}`},
		"a text":    {"/rulebooks", `{"source":"dataset: a\u0000\n"}`},
		"a deep one": {"/rulebooks/edit",
			`{"source":"dataset: a\n","changes":[{"section":"columns","item":"\u0000"}]}`},
		"a query":         {"/datasets/samples/deliveries?file_name=a%00b", "x"},
		"bytes":           {"/datasets/samples/deliveries?note=%ff%fe", "x"},
		"a path":          {"/datasets/a%00b/deliveries", "x"},
		"an escaped text": {"/issues/1/comments", `{"text":"\\\u0000"}`},
	} {
		if status, text := post(c[0], c[1]); status != 422 || strings.Contains(text, "SQLSTATE") {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	if status, text := post("/issues/1/comments", `{"text":"the text \\u0000 spelled out"}`); status != 201 {
		t.Errorf("an escape that is no NUL: %d %s", status, text)
	}
	for _, path := range []string{"/datasets/%ff", "/issues?dataset=%00", "/tables/1/rows?where=%00",
		"/rulebooks/samples/%00"} {
		if response, text := send(t, "GET", r.URL+api.Prefix+path, r.Reader.Token, ""); response.StatusCode != 422 {
			t.Errorf("%s: %d %s", path, response.StatusCode, text)
		}
	}
	// A NUL in a file is the file's, and everything about it is recorded all the same.
	odd := deliver(t, r.Steward, "samples", "sample,value\n"+strings.Repeat("S,1\n", 3000)+"S\x001,1\nS\x001,\x00\n")
	if a := audited(t, r.Steward, odd.Table.ID); a.Rows != 3002 {
		t.Errorf("%+v", a.Audit)
	}
}

func TestAProblemCarriesTheNumberOfItsRequest(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for _, path := range []string{"/datasets/none", "/nothing", "/datasets?limit=0"} {
		response, text := send(t, "GET", r.URL+api.Prefix+path, r.Reader.Token, "", "X-Request-Id", "mine")
		var problem client.Problem
		if err := json.Unmarshal([]byte(text), &problem); err != nil {
			t.Fatal(err)
		}
		id := response.Header.Get("X-Request-Id")
		if id == "" || id == "mine" || problem.Instance != "urn:proudsieve:request:"+id {
			t.Errorf("%s: %s in the header, %s in the body", path, id, problem.Instance)
		}
	}
}

func TestWrongTokensAreSlowedByAddressAndRecorded(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) {
		o.TrustedProxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	})
	try := func(token, from string) int {
		response, _ := send(t, "GET", r.URL+api.Prefix+"/me", token, "", "X-Forwarded-For", from)
		if response.StatusCode == 429 && response.Header.Get("Retry-After") == "" {
			t.Error("nothing says when to come again")
		}
		return response.StatusCode
	}
	var met []int
	for range 12 {
		met = append(met, try("ps_guessed", "198.51.100.7"))
	}
	if !slices.Contains(met, 429) || met[0] != 401 {
		t.Errorf("twelve wrong tokens: %v", met)
	}
	if status := try("ps_guessed", "198.51.100.8"); status != 401 {
		t.Errorf("another address: %d", status)
	}
	if status := try(r.Steward.Token, "198.51.100.8, 198.51.100.9"); status != 200 {
		t.Errorf("somebody else: %d", status)
	}
	// What others do at an address does not keep those out who came in from there.
	if status := try(r.Steward.Token, "198.51.100.7"); status != 200 {
		t.Errorf("a good token that was used lately, from the same address: %d", status)
	}
	if response, _ := send(t, "POST", r.URL+api.Prefix+"/session", "", `{"token":"ps_guessed"}`, "X-Forwarded-For",
		"198.51.100.7"); response.StatusCode != 429 {
		t.Errorf("signing in: %d", response.StatusCode)
	}
	deeds, err := servicetest.All[records.Deed](ctx, r.Admin, "/history")
	if err != nil || !slices.ContainsFunc(deeds, func(d records.Deed) bool {
		return d.Action == "was shown a wrong token" && d.Subject == "address 198.51.100.7"
	}) {
		t.Errorf("%+v, %v", deeds, err)
	}
}

func TestSignInsDownloadsAndRefusalsAreInTheHistory(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\n")
	a := audited(t, r.Steward, d.Table.ID)
	response, _ := send(t, "POST", r.URL+api.Prefix+"/session", "", fmt.Sprintf(`{"token":%q}`, r.Reader.Token))
	cookie := response.Cookies()[0]
	send(t, "DELETE", r.URL+api.Prefix+"/session", "", "", "Cookie", cookie.Name+"="+cookie.Value)
	send(t, "GET", fmt.Sprintf("%s%s/tables/%d/bytes", r.URL, api.Prefix, d.Table.ID), r.Reader.Token, "")
	send(t, "GET", fmt.Sprintf("%s%s/audits/%d/findings", r.URL, api.Prefix, a.ID), r.Reader.Token, "")
	for range 3 {
		send(t, "POST", r.URL+api.Prefix+"/datasets", r.Reader.Token, `{"name":"x"}`)
	}
	deeds, err := servicetest.All[records.Deed](ctx, r.Admin, "/history")
	if err != nil {
		t.Fatal(err)
	}
	counts := map[string]int{}
	for _, d := range deeds {
		if d.Person != nil && *d.Person == "Ines" {
			counts[d.Action]++
		}
	}
	for _, action := range []string{"signed in", "signed out", "downloaded a table", "downloaded findings",
		"was refused"} {
		if counts[action] != 1 {
			t.Errorf("%q stands there %d times", action, counts[action])
		}
	}
}

func TestOnlyTheServicesNamesAreAnswered(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) { o.Names = []string{"sieve.example"} })
	port := r.URL[strings.LastIndex(r.URL, ":"):]
	for host, want := range map[string]int{"localhost" + port: 200, "127.0.0.1" + port: 200, "[::1]" + port: 200,
		"sieve.example": 200, "SIEVE.example:80": 200, "sieve.example.": 200,
		"elsewhere.example": 421, "elsewhere.example" + port: 421, "10.1.2.3": 421,
		"localhost.elsewhere.example": 421} {
		request, err := http.NewRequest("GET", r.URL+"/healthz", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Host = host
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		_ = response.Body.Close()
		if response.StatusCode != want {
			t.Errorf("%s: %d, want %d", host, response.StatusCode, want)
		}
	}
}

func TestTheSecondWhoSavesIsToldWhoSavedWhat(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	first := declare(t, r.Steward, "rulebooks", book)
	response, _ := send(t, "GET", r.URL+api.Prefix+"/rulebooks/samples/samples", r.Reader.Token, "")
	if response.Header.Get("ETag") != `"1"` {
		t.Errorf("the ETag is %s", response.Header.Get("ETag"))
	}
	mine, theirs := strings.Replace(book, "title: ", "title: My ", 1),
		strings.Replace(book, "pass_mark: ", "pass_mark: 99 # was ", 1)
	if mine == book {
		mine = book + "# mine\n"
	}
	declareAfter(t, r.Admin, "rulebooks", theirs, first.Version)
	_, err := r.Steward.DeclareAfter(ctx, "rulebooks", []byte(mine), first.Version)
	refused(t, "the second one", err, http.StatusPreconditionFailed,
		"it was made from version 1, and administrator saved version 2 at")
	if !strings.Contains(err.Error(), "version 2: ") {
		t.Errorf("the difference is not told: %v", err)
	}
	_, err = r.Steward.Declare(ctx, "rulebooks", []byte(mine))
	refused(t, "without a version", err, http.StatusPreconditionRequired, "administrator saved version 2")
	if d := ease(t, r.Steward, mine, 2); d.Version != 3 {
		t.Errorf("%+v", d)
	}
	// Fix plans and merges alike.
	plan := "fix_plan: p\ndataset: samples\nsteps: []\n"
	declare(t, r.Steward, "fix-plans", plan)
	declareAfter(t, r.Admin, "fix-plans", plan+"# theirs\n", 1)
	_, err = r.Steward.DeclareAfter(ctx, "fix-plans", []byte(plan+"# mine\n"), 1)
	refused(t, "a fix plan", err, http.StatusPreconditionFailed, "administrator saved version 2")
	if !strings.Contains(err.Error(), "+ line 4: # theirs") {
		t.Errorf("the difference is not told: %v", err)
	}
}

func TestAWithdrawnDeliveryByTheService(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	good := deliver(t, r.Steward, "samples", "sample,value\nS1,1\n")
	audited(t, r.Steward, good.Table.ID)
	wrong := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,1\n")
	audited(t, r.Steward, wrong.Table.ID)
	path := fmt.Sprintf("/tables/%d/withdrawal", wrong.Table.ID)
	_, err := servicetest.Post[records.Withdrawal](ctx, r.Steward, path, map[string]any{"reason": "x"})
	refused(t, "no reason", err, 422, "reason")
	if _, err := servicetest.Post[records.Withdrawal](ctx, r.Steward, path,
		map[string]any{"reason": "The file of another month.", "let_go_of_bytes": true}); err != nil {
		t.Fatal(err)
	}
	_, err = servicetest.Post[records.Withdrawal](ctx, r.Steward, path, map[string]any{"reason": "again"})
	refused(t, "twice", err, 409, "was withdrawn before")
	_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/audits", wrong.Table.ID), nil)
	refused(t, "an audit", err, 422, "The file of another month.")
	d, err := servicetest.Get[records.Dataset](ctx, r.Reader, "/datasets/samples")
	if err != nil || *d.LastTable != good.Table.ID || *d.Score != 100 || d.OpenIssues != 0 {
		t.Errorf("%+v, %v", d, err)
	}
	response, text := send(t, "GET", fmt.Sprintf("%s%s/tables/%d/bytes", r.URL, api.Prefix, wrong.Table.ID),
		r.Reader.Token, "")
	if response.StatusCode != http.StatusGone || !strings.Contains(text, "its bytes were let go") {
		t.Errorf("%d %s", response.StatusCode, text)
	}
	if again := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,1\n"); again.Known {
		t.Error("the same bytes cannot come again")
	}
}

func TestAskersOfOneQuestionShareItsReadingAndItStopsWithTheLast(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	var content strings.Builder
	content.WriteString("sample,value\n")
	for i := range 200_000 {
		fmt.Fprintf(&content, "S%d,%d\n", i, i*7919%200_000)
	}
	d := deliver(t, r.Steward, "samples", content.String())
	audited(t, r.Steward, d.Table.ID)
	var group sync.WaitGroup
	for range 12 {
		group.Go(func() {
			page, err := servicetest.Get[api.RowsPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows?sort=value&limit=3",
				d.Table.ID))
			if err != nil || len(page.Rows) != 3 || page.Rows[0].Cells[1] != "0" || page.Rows[2].Cells[1] != "2" {
				t.Errorf("%+v, %v", page, err)
			}
		})
	}
	group.Wait()
	impatient := &client.Client{Server: r.URL, Token: r.Reader.Token, HTTP: &http.Client{Timeout: 5 * time.Millisecond}}
	_, _ = servicetest.Get[api.RowsPage](ctx, impatient, fmt.Sprintf("/tables/%d/rows?sort=value&falling=true&limit=3",
		d.Table.ID))
	page, err := servicetest.Get[api.RowsPage](ctx, r.Reader,
		fmt.Sprintf("/tables/%d/rows?sort=value&falling=true&limit=3", d.Table.ID))
	if err != nil || page.Rows[0].Cells[1] != "199999" {
		t.Errorf("asked again after somebody left: %+v, %v", page, err)
	}
}

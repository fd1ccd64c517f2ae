package client_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/records"
)

// answering is a service that gives one answer per path.
func answering(t *testing.T, answers map[string]func(w http.ResponseWriter, r *http.Request)) *client.Client {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer the-token" {
			t.Errorf("%s came with the token %q", r.URL, r.Header.Get("Authorization"))
		}
		answer := answers[r.Method+" "+strings.TrimPrefix(r.URL.Path, "/api/v1")]
		if answer == nil {
			t.Errorf("nobody expected %s %s", r.Method, r.URL)
			http.NotFound(w, r)
			return
		}
		answer(w, r)
	}))
	t.Cleanup(s.Close)
	return &client.Client{Server: s.URL, Token: "the-token"}
}

var ctx = context.Background()

func TestParametersStandInTheAddressOrTheHeader(t *testing.T) {
	c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
		"GET /tables/7/groups": func(w http.ResponseWriter, r *http.Request) {
			if got := r.URL.Query().Encode(); got != "columns=a+b&columns=c%26d&offset=20" {
				t.Errorf("asked for %s", got)
			}
			fmt.Fprint(w, `{"n":1}`)
		},
		"GET /datasets/a/b": func(w http.ResponseWriter, r *http.Request) {
			if r.URL.EscapedPath() != "/api/v1/datasets/a%2Fb" {
				t.Errorf("asked for %s", r.URL.EscapedPath())
			}
			fmt.Fprint(w, `{"name":"a/b"}`)
		},
	})
	if raw, err := c.ShowGroups(ctx, 7, &client.ShowGroupsParams{Columns: []string{"a b", "c&d"},
		Offset: 20}); err != nil || string(*raw) != `{"n":1}` {
		t.Errorf("%s, %v", *raw, err)
	}
	if d, err := c.ShowDataset(ctx, "a/b"); err != nil || d.Name != "a/b" {
		t.Errorf("%+v, %v", d, err)
	}
}

func TestAProblemIsAnErrorWithItsDetails(t *testing.T) {
	c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
		"POST /rulebooks": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnprocessableEntity)
			fmt.Fprint(w,
				`{"status":422,"detail":"The declaration has mistakes.","errors":[{"location":"line 2, column 1","message":"no"},{"message":"also no"}]}`)
		},
		"GET /tables/1": func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusBadGateway)
			fmt.Fprint(w, "<html>a proxy's page</html>")
		},
		"GET /tables/2": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, `{"id":`)
		},
	})
	_, err := c.Declare(ctx, "rulebooks", []byte("x"))
	var p *client.Problem
	if !errors.As(err, &p) || p.Status != 422 ||
		err.Error() != "The declaration has mistakes.\n  line 2, column 1: no\n  also no" {
		t.Errorf("%v", err)
	}
	_, err = c.ShowTable(ctx, 1)
	if !errors.As(err, &p) || p.Status != http.StatusBadGateway ||
		!strings.Contains(err.Error(), "answered GET /tables/1 with 502 Bad Gateway") {
		t.Errorf("%v", err)
	}
	if _, err := c.ShowTable(ctx, 2); err == nil ||
		!strings.Contains(err.Error(), "the answer to GET /tables/2 cannot be read") {
		t.Errorf("%v", err)
	}
	silent := &client.Client{Server: "http://127.0.0.1:1"}
	if _, err := silent.ShowTable(ctx, 3); err == nil ||
		!strings.Contains(err.Error(), "the service at http://127.0.0.1:1 does not answer") {
		t.Errorf("%v", err)
	}
}

func TestAllReadsEveryPage(t *testing.T) {
	asked := []string{}
	c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
		"GET /issues": func(w http.ResponseWriter, r *http.Request) {
			after := r.URL.Query().Get("after")
			asked = append(asked, after)
			page := map[string]records.Page[records.Issue]{"": {Items: []records.Issue{{ID: 9}, {ID: 8}}, Next: "8"},
				"8": {Items: []records.Issue{{ID: 3}}}}[after]
			if r.URL.Query().Get("state") != "open" || r.URL.Query().Get("limit") != "500" {
				t.Errorf("asked for %s", r.URL)
			}
			_ = json.NewEncoder(w).Encode(page)
		},
	})
	all, err := client.All(func(after string, limit int64) (*records.Page[records.Issue], error) {
		return c.ListIssues(ctx, &client.ListIssuesParams{After: after, Limit: limit,
			State: client.ListIssuesParamsStateOpen})
	})
	if err != nil || len(all) != 3 || all[2].ID != 3 || !slices.Equal(asked, []string{"", "8"}) {
		t.Errorf("%+v after asking for %q, %v", all, asked, err)
	}
}

func TestFollowingAJob(t *testing.T) {
	for state, fails := range map[string]bool{"done": false, "failed": true, "stopped": true} {
		c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
			"GET /jobs/7/events": func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "text/event-stream")
				for _, rows := range []int{1, 2} {
					fmt.Fprintf(w, "event: job\ndata: {\"id\":7,\"state\":\"running\",\"rows_read\":%d}\n\n", rows)
				}
				fmt.Fprintf(w, ": a comment\n\nevent: job\ndata: {\"id\":7,\"state\":%q}\n\n", state)
			},
			"GET /jobs/7": func(w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w,
					`{"id":7,"kind":"audit","dataset":"d","state":%q,"error":"why it failed","result":{"n":1}}`, state)
			},
		})
		seen := []string{}
		job, err := c.Follow(ctx, 7, func(j records.Job) { seen = append(seen, fmt.Sprint(j.State, j.RowsRead)) })
		if want := []string{"running1", "running2", state + "0"}; !slices.Equal(seen, want) {
			t.Errorf("progress %v, want %v", seen, want)
		}
		var failed *client.JobFailed
		if fails != errors.As(err, &failed) || job == nil || state == "failed" &&
			!strings.Contains(err.Error(), "job 7 (audit of d) failed: why it failed") {
			t.Errorf("%s: %+v, %v", state, job, err)
		}
	}
}

func TestEditingAnIssueNamesTheVersionThatWasSeen(t *testing.T) {
	c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
		"GET /issues/4": func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"id":4,"version":12}`) },
		"PATCH /issues/4": func(w http.ResponseWriter, r *http.Request) {
			var body map[string]string
			if err := json.NewDecoder(r.Body).Decode(&body); err != nil || body["assignee"] != "Jonas" ||
				r.Header.Get("If-Match") != `"12"` {
				t.Errorf("sent %v with If-Match %s, %v", body, r.Header.Get("If-Match"), err)
			}
			fmt.Fprint(w, `{"id":4,"version":13,"entries":[]}`)
		},
	})
	jonas := "Jonas"
	i, err := c.EditIssue(ctx, 4, client.IssueChanged{Assignee: &jonas})
	if err != nil || i.Version != 13 {
		t.Errorf("%+v, %v", i, err)
	}
}

func TestAnAuditThatNobodyAskedFor(t *testing.T) {
	c := answering(t, map[string]func(http.ResponseWriter, *http.Request){
		"GET /jobs": func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{"items":[{"id":1,"kind":"fix"}],"next":""}`)
		},
	})
	if _, err := c.AuditOf(ctx, 5, nil); err == nil ||
		!strings.Contains(err.Error(), "no audit of table 5 was asked for") {
		t.Errorf("%v", err)
	}
}

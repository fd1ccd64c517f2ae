package service_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"strings"
	"testing"

	"proudsieve/service/servicetest"
)

// asked makes a request as a browser does, with the headers that are given in pairs.
func asked(t *testing.T, r *servicetest.Running, path string, headers ...string) (*http.Response, []byte) {
	t.Helper()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URL+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+r.Steward.Token)
	request.Header.Set("Accept-Encoding", "gzip") // which keeps Go from unpacking it unseen
	for i := 0; i < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer, body
}

func TestAnswersArePackedAndNotSentTwice(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declareAfter(t, r.Steward, "rulebooks", "dataset: crews\ncolumns: [{name: crew}, {name: river}]\n", 0)
	d := deliver(t, r.Steward, "crews", "crew,river\n"+strings.Repeat("red,Alder\nblue,Cray\n", 50))
	if _, err := r.Steward.AuditOf(ctx, d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/v1/datasets", "/api/v1/audits/1"} {
		answer, packed := asked(t, r, path)
		unpacked, err := gzip.NewReader(bytes.NewReader(packed))
		if err != nil || answer.Header.Get("Content-Encoding") != "gzip" {
			t.Fatalf("%s is not packed: %v, %v", path, err, answer.Header)
		}
		if body, err := io.ReadAll(unpacked); err != nil || !strings.Contains(string(body), "crews") {
			t.Errorf("%s: %s, %v", path, body, err)
		}
		tag := answer.Header.Get("ETag")
		again, body := asked(t, r, path, "If-None-Match", `"other", `+tag)
		if again.StatusCode != http.StatusNotModified || len(body) > 0 || tag == "" || again.Header.Get("ETag") != tag {
			t.Errorf("%s is sent again: %d %q, %d bytes", path, again.StatusCode, tag, len(body))
		}
		if other, _ := asked(t, r, path, "If-None-Match", `W/"other"`); other.StatusCode != http.StatusOK {
			t.Errorf("%s: %d to who has another one", path, other.StatusCode)
		}
	}
	if whole, _ := asked(t, r, "/api/v1/tables/1/bytes"); whole.Header.Get("Content-Encoding") != "" {
		t.Errorf("a download is packed: %v", whole.Header)
	}
	// Who may not see it is not told that it has not changed.
	answer, _ := asked(t, r, "/api/v1/datasets")
	if refusal, _ := asked(t, r, "/api/v1/datasets", "Authorization", "Bearer x", "If-None-Match", answer.Header.Get("ETag")); refusal.StatusCode != http.StatusUnauthorized {
		t.Errorf("%d", refusal.StatusCode)
	}
}

// A list without anything is an empty one; what reads it need not ask whether it is there.
func TestListsAreNeverNull(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declareAfter(t, r.Steward, "rulebooks", "dataset: crews\ncolumns: [{name: crew}, {name: river}]\n", 0)
	d := deliver(t, r.Steward, "crews", "crew,river\nred,Alder\nblue,Cray\n")
	if _, err := r.Steward.AuditOf(ctx, d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/api/v1/tables/1/correlations":     `"columns":[]`,
		"/api/v1/certificates":              `"items":[]`,
		"/api/v1/tables/1/gaps?column=crew": `[`,
	} {
		answer, body := asked(t, r, path, "Accept-Encoding", "identity")
		if answer.StatusCode != http.StatusOK || !strings.Contains(string(body), want) || strings.Contains(string(body), ":null") {
			t.Errorf("%s: %d %s", path, answer.StatusCode, body)
		}
	}
}

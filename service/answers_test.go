package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestDownloadsSayWhatTheyAre(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d, err := r.Steward.Deliver(ctx, "samples", `../../sam"ples.csv`, records.SourceNotes{},
		strings.NewReader("sample,value\nS1,1\n"))
	if err != nil {
		t.Fatal(err)
	}
	if d.Table.FileName != `sam"ples.csv` {
		t.Errorf("the file is called %q", d.Table.FileName)
	}
	response, text := send(t, "GET", r.URL+api.Prefix+"/tables/1/bytes", r.Reader.Token, "")
	h := response.Header
	if text != "sample,value\nS1,1\n" || h.Get("ETag") != `"`+d.Table.Digest+`"` ||
		h.Get("Content-Disposition") != `attachment; filename="sam\"ples.csv"` ||
		h.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("%q with %v", text, h)
	}
	response, text = send(t, "GET", r.URL+api.Prefix+"/tables/1/bytes?what=change-log", r.Reader.Token, "")
	if response.StatusCode != http.StatusNotFound || !strings.Contains(text, "Only a cleaned table has a change log.") {
		t.Errorf("%d %s", response.StatusCode, text)
	}
}

func TestAJobsEventsEndWithTheJob(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\n"+strings.Repeat("S1,1\nS2,2\n", 200_000))
	response, text := send(t, "GET", fmt.Sprintf("%s%s/jobs/%d/events", r.URL, api.Prefix, d.Job.ID), r.Reader.Token,
		"")
	if !strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") {
		t.Errorf("content type %q", response.Header.Get("Content-Type"))
	}
	var last records.Job
	events := 0
	for line := range strings.Lines(text) {
		if data, ok := strings.CutPrefix(line, "data: "); ok {
			events++
			if err := json.Unmarshal([]byte(data), &last); err != nil {
				t.Fatal(err)
			}
		}
	}
	if events < 2 || last.State != "done" || last.BytesDone != d.Table.Bytes || last.AuditID == nil {
		t.Errorf("%d events, the last one %+v", events, last)
	}
}

func TestListsCanBeNarrowedAndPaged(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	for i := range 5 {
		audited(t, r.Steward, deliver(t, r.Steward, "samples", fmt.Sprintf("sample,value\nS%d,1\nS%d,\n", i, i+1)).
			Table.ID)
	}
	seen := []int64{}
	for after := ""; ; {
		page, err := servicetest.Get[records.Page[records.Table]](ctx, r.Reader,
			"/datasets/samples/tables?limit=2&after="+after)
		if err != nil {
			t.Fatal(err)
		}
		for _, table := range page.Items {
			seen = append(seen, table.ID)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	if fmt.Sprint(seen) != "[5 4 3 2 1]" {
		t.Errorf("the tables came as %v", seen)
	}
	for query, want := range map[string]int{"": 1, "?state=open": 1, "?state=closed": 0, "?dataset=other": 0,
		"?assignee=Mara": 0, "?state=unsettled&dataset=samples": 1} {
		page, err := servicetest.Get[records.Page[records.Issue]](ctx, r.Reader, "/issues"+query)
		if err != nil || len(page.Items) != want {
			t.Errorf("issues%s: %d, want %d; %v", query, len(page.Items), want, err)
		}
	}
	for origin, want := range map[string]int{"delivery": 5, "cleaned": 0, "merged": 0} {
		page, err := servicetest.Get[records.Page[records.Table]](ctx, r.Reader, "/datasets/samples/tables?origin="+
			origin)
		if err != nil || len(page.Items) != want {
			t.Errorf("%s: %d tables, want %d; %v", origin, len(page.Items), want, err)
		}
	}
	running, err := servicetest.Get[records.Page[records.Job]](ctx, r.Reader, "/jobs?running=true")
	if err != nil || len(running.Items) != 0 {
		t.Errorf("jobs still running: %+v, %v", running, err)
	}
}

func TestTheCheckOfARulebookSavesNothing(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for source, good := range map[string]bool{book: true, "dataset: samples\n": false} {
		checked, err := servicetest.Post[struct {
			Good     bool `json:"good"`
			Problems []struct{ Line, Column int }
		}](ctx, r.Reader, "/rulebooks/check", map[string]string{"source": source})
		if err != nil || checked.Good != good || (len(checked.Problems) == 0) != good {
			t.Errorf("%+v, %v", checked, err)
		}
	}
	all, err := servicetest.All[records.Declaration](ctx, r.Reader, "/rulebooks")
	if err != nil || len(all) != 0 {
		t.Errorf("%+v, %v", all, err)
	}
}

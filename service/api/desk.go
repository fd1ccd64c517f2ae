package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Desk is what needs somebody today.
type Desk struct {
	Issues  []records.Issue `json:"issues" doc:"Unsettled issues, those that stop a table first, then the caller's own"`
	Running []records.Job   `json:"running"`
	Failed  []records.Job   `json:"failed" doc:"Jobs among the last hundred that failed and were not tried again since"`
	Waiting []records.Table `json:"waiting" doc:"Merged tables that pass and have no certificate"`
	Disk    *files.Disk     `json:"disk" doc:"The room of the file store where less than a tenth of it is free; else null"`
}

func (s *Server) desk() {
	register(s, operation{
		Right: access.Read, ID: "show-desk", Method: http.MethodGet, Path: "/desk",
		Summary: "What needs the caller today",
	}, func(ctx context.Context, _ *nothing) (*body[Desk], error) {
		return answer(s.deskOf(ctx))
	})
	register(s, operation{
		Right: access.Read, ID: "list-history", Method: http.MethodGet, Path: "/history",
		Summary: "Who did what when, newest first",
	}, func(ctx context.Context, in *Paging) (*body[records.Page[records.Deed]], error) {
		return answer(store.History(ctx, s.Store.DB, in.cursor()))
	})
}

func (s *Server) deskOf(ctx context.Context) (*Desk, error) {
	d := &Desk{Failed: []records.Job{}}
	issues, err := store.Issues(ctx, s.Store.DB, store.IssueFilter{State: "unsettled"}, store.Cursor{Limit: 500})
	if err != nil {
		return nil, err
	}
	me := caller(ctx).Name
	rank := func(i records.Issue) int {
		r := map[string]int{"major": 0, "minor": 2, "note": 4}[i.Severity]
		if i.Assignee == nil || *i.Assignee != me {
			r++
		}
		return r
	}
	slices.SortStableFunc(issues.Items,
		func(a, b records.Issue) int { return cmp.Or(rank(a)-rank(b), cmp.Compare(b.Rows, a.Rows)) })
	d.Issues = issues.Items
	running, err := store.Jobs(ctx, s.Store.DB, 0, true, store.Cursor{})
	if err != nil {
		return nil, err
	}
	d.Running = running.Items
	recent, err := store.Jobs(ctx, s.Store.DB, 0, false, store.Cursor{})
	if err != nil {
		return nil, err
	}
	tried := map[string]bool{}
	for _, j := range recent.Items {
		key := j.Kind + j.Dataset
		if j.State == "failed" && !tried[key] {
			d.Failed = append(d.Failed, j)
		}
		tried[key] = true
	}
	if disk, err := s.Files.Disk(); err == nil && disk.NearlyFull() {
		d.Disk = &disk
	}
	d.Waiting, err = store.Uncertified(ctx, s.Store.DB)
	return d, err
}

package api

import (
	"context"
	"net/http"

	"proudsieve/core/certify"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Desk is what needs the caller today.
type Desk struct {
	Mine      []records.Issue `json:"mine" doc:"Unsettled issues that are assigned to the caller, the gravest first; at most 50"`
	MineCount int64           `json:"mine_count" doc:"How many there are of them"`
	Issues    []records.Issue `json:"issues" doc:"Unsettled issues, the gravest first, then those with most rows; at most 50"`
	Unsettled int64           `json:"unsettled" doc:"How many there are of them"`
	Major     int64           `json:"major" doc:"How many of them stop a table"`
	Asked     int64           `json:"asked" doc:"How many of them wait for the owner of the data"`
	Running   []records.Job   `json:"running"`
	Failed    []records.Job   `json:"failed" doc:"Jobs among the last hundred that failed and were not tried again since"`
	Ready     []records.Table `json:"ready" doc:"Merged tables that the caller can certify"`
	Waiting   []records.Table `json:"waiting" doc:"Merged tables that pass and wait for somebody else's certificate"`
	Short     []records.Table `json:"short" doc:"The newest tables of datasets where they fell short; at most 100"`
	// What waits for the caller besides.
	OwnedCount int64              `json:"owned_count" doc:"How many unsettled issues wait for the caller as the owner of the data"`
	Overdue    int64              `json:"overdue" doc:"How many unsettled issues are overdue"`
	Answers    []records.Sheet    `json:"answers" doc:"Sheets with answers that nobody has taken up or left; at most 50"`
	Unanswered []records.Sheet    `json:"unanswered" doc:"Sheets that were asked again and are not answered; at most 50"`
	Decisions  []records.Decision `json:"decisions" doc:"Rulebooks that are to become weaker and wait for a second person, as the caller can be; at most 50"`
	Late       []LateDelivery     `json:"late" doc:"Datasets of which a delivery was expected that has not come"`
	Disk       *files.Disk        `json:"disk" doc:"The room of the file store where less than a tenth of it is free; else null"`
}

// deskIssues is how many issues stand on a desk.
const deskIssues = 50

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
	d := &Desk{Failed: []records.Job{}, Ready: []records.Table{}, Waiting: []records.Table{}}
	if err := s.deskIssues(ctx, d); err != nil {
		return nil, err
	}
	running, err := store.Jobs(seen(ctx), s.Store.DB, 0, true, store.Cursor{})
	if err != nil {
		return nil, err
	}
	d.Running = running.Items
	recent, err := store.Jobs(seen(ctx), s.Store.DB, 0, false, store.Cursor{})
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
	if d.Short, err = store.Short(seen(ctx), s.Store.DB); err != nil {
		return nil, err
	}
	if err := s.deskAsked(ctx, d); err != nil {
		return nil, err
	}
	if err := s.deskLate(ctx, d); err != nil {
		return nil, err
	}
	return d, s.deskCertificates(ctx, d)
}

// deskIssues fills in the issues, the caller's own apart.
func (s *Server) deskIssues(ctx context.Context, d *Desk) error {
	unsettled := store.IssueFilter{State: "unsettled", Order: "gravest"}
	mine := unsettled
	mine.Assignee = caller(ctx).Name
	for _, one := range []struct {
		filter store.IssueFilter
		items  *[]records.Issue
		count  *int64
	}{{unsettled, &d.Issues, &d.Unsettled}, {mine, &d.Mine, &d.MineCount}} {
		found, err := store.Issues(seen(ctx), s.Store.DB, one.filter, store.Cursor{Limit: deskIssues})
		if err != nil {
			return err
		}
		*one.items = found.Items
		if *one.count, err = store.CountIssues(seen(ctx), s.Store.DB, one.filter); err != nil {
			return err
		}
	}
	var err error
	if d.Major, err = store.CountIssues(seen(ctx), s.Store.DB, store.IssueFilter{State: "unsettled", Severity: "major"}); err != nil {
		return err
	}
	d.Asked, err = store.CountIssues(seen(ctx), s.Store.DB, store.IssueFilter{State: store.IssueAsked})
	return err
}

// deskAsked fills in what was asked, and what waits for a second person.
func (s *Server) deskAsked(ctx context.Context, d *Desk) (err error) {
	if d.OwnedCount, err = store.CountIssues(seen(ctx), s.Store.DB, store.IssueFilter{State: "unsettled", Owner: caller(ctx).Name}); err != nil {
		return err
	}
	if d.Overdue, err = store.CountIssues(seen(ctx), s.Store.DB, store.IssueFilter{Overdue: true}); err != nil {
		return err
	}
	if d.Answers, err = store.AnsweredSheets(seen(ctx), s.Store.DB, deskIssues); err != nil {
		return err
	}
	if d.Unanswered, err = store.Unanswered(seen(ctx), s.Store.DB, deskIssues); err != nil {
		return err
	}
	waiting, err := store.Decisions(seen(ctx), s.Store.DB, 0, true, store.Cursor{Limit: deskIssues})
	if err != nil {
		return err
	}
	d.Decisions = []records.Decision{}
	for _, one := range waiting.Items {
		if one.AskedByID != caller(ctx).ID && access.Role(caller(ctx).Role).May(access.Discuss) {
			d.Decisions = append(d.Decisions, one)
		}
	}
	return nil
}

// deskCertificates tells what the caller can certify from what waits for somebody else.
func (s *Server) deskCertificates(ctx context.Context, d *Desk) error {
	passed, err := store.Uncertified(seen(ctx), s.Store.DB)
	if err != nil {
		return err
	}
	may := access.Role(caller(ctx).Role).May(access.Certify)
	for _, t := range passed {
		ready := false
		if may {
			c, err := s.gather(ctx, t.ID)
			if err != nil {
				return err
			}
			ready = len(certify.Obstacles(c.facts)) == 0
		}
		if ready {
			d.Ready = append(d.Ready, t)
		} else {
			d.Waiting = append(d.Waiting, t)
		}
	}
	return nil
}

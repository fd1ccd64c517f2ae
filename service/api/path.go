package api

import (
	"context"
	"fmt"

	"proudsieve/core/document"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// path says where the work on a table is. From a cleaned or merged table it looks
// back to the deliveries, from a delivery forward to what was made of it.
func (s *Server) path(ctx context.Context, id int64) (*records.Path, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	delivery, cleaned, merged, err := s.kin(ctx, t)
	if err != nil {
		return nil, err
	}
	p := &records.Path{}
	add := func(name, state, says string, table *records.Table) {
		stage := records.Stage{Name: name, State: state, Says: says}
		if table != nil {
			stage.Table, stage.Audit = &table.ID, table.AuditID
		}
		p.Stages = append(p.Stages, stage)
	}
	shown := t
	if delivery != nil {
		add("received", "done", fmt.Sprintf("%s, taken in by %s.", delivery.FileName, delivery.CreatedBy), delivery)
		shown = delivery
	} else {
		add("received", "done", fmt.Sprintf("Made from several deliveries by %s.", t.CreatedBy), t)
	}
	if shown.AuditID == nil {
		jobs, err := store.Jobs(ctx, s.Store.DB, shown.ID, false, store.Cursor{Limit: 1})
		if err != nil {
			return nil, err
		}
		says, state := "Waiting for its audit.", "here"
		if len(jobs.Items) > 0 && jobs.Items[0].State == "failed" {
			says, state = jobs.Items[0].Error, "held"
		}
		add("read", state, says, shown)
		add("judged", "ahead", "Not yet.", nil)
	} else {
		add("read", "done", fmt.Sprintf("%s.", document.Counted(*shown.Rows, "row", "rows")), shown)
		switch {
		case shown.Passed == nil:
			add("judged", "held", "No verdict: nothing was declared.", shown)
		case *shown.Passed:
			add("judged", "done", fmt.Sprintf("Passed with a score of %s.", document.Score(*shown.Score)), shown)
		default:
			says, err := s.fellShort(ctx, shown)
			if err != nil {
				return nil, err
			}
			add("judged", "done", says, shown)
		}
	}
	if err := s.pathAsked(ctx, t, add); err != nil {
		return nil, err
	}
	pathMade(add, shown, cleaned, merged)
	stand(p.Stages)
	return p, nil
}

// stand lets the table stand at one station: the first one that is not done after the last one that is.
func stand(stages []records.Stage) {
	last := 0
	for i := range stages {
		if stages[i].State == "done" {
			last = i
		}
	}
	there := false
	for i := range stages {
		switch {
		case stages[i].State != "here":
		case i < last:
			stages[i].State = "done"
		case there:
			stages[i].State = "ahead"
		default:
			there = true
		}
	}
}

// fellShort says why a table did not pass: its score, or the rules that stop it.
func (s *Server) fellShort(ctx context.Context, t *records.Table) (string, error) {
	a, err := store.FindAudit(ctx, s.Store.DB, *t.AuditID)
	if err != nil {
		return "", err
	}
	if *t.Score < a.PassMark {
		return fmt.Sprintf("Fell short: its score is %s, below the pass mark of %g.", document.Score(*t.Score), a.PassMark), nil
	}
	result, err := s.resultOf(ctx, a.ID)
	if err != nil {
		return "", err
	}
	broken, unjudged := result.Stops()
	if len(broken) > 0 {
		return fmt.Sprintf("Fell short with a score of %s: %s stopped it.", document.Score(*t.Score), document.First(broken)), nil
	}
	return fmt.Sprintf("Fell short with a score of %s: %s could not be judged.", document.Score(*t.Score), document.First(unjudged)), nil
}

type addStage func(name, state, says string, table *records.Table)

func (s *Server) pathAsked(ctx context.Context, t *records.Table, add addStage) error {
	unsettled, err := store.Issues(ctx, s.Store.DB, store.IssueFilter{Dataset: t.Dataset, State: "unsettled"},
		store.Cursor{Limit: 500})
	if err != nil {
		return err
	}
	stops := 0
	for _, i := range unsettled.Items {
		if i.Severity == "major" {
			stops++
		}
	}
	switch n := len(unsettled.Items); {
	case t.AuditID == nil:
		add("asked", "ahead", "Not yet.", nil)
	case n == 0:
		add("asked", "done", "No issue is open.", nil)
	case stops > 0:
		add("asked", "held", fmt.Sprintf("%s open in this dataset, %d of them major.", issuesAre(n), stops), nil)
	default:
		add("asked", "here", fmt.Sprintf("%s open in this dataset; none stops it.", issuesAre(n)), nil)
	}
	return nil
}

func issuesAre(n int) string {
	if n == 1 {
		return "1 issue is"
	}
	return fmt.Sprintf("%d issues are", n)
}

func pathMade(add addStage, shown, cleaned, merged *records.Table) {
	final := cleaned
	if merged != nil {
		final = merged
	}
	there := shown.AuditID != nil && work.LiesThere(shown) != nil
	if there && shown.Passed != nil && *shown.Passed {
		final = shown
	}
	switch {
	case there:
		add("put right", "ahead", "It lies in a database, where nothing of it is put right from here.", nil)
	case cleaned != nil:
		add("put right", "done", fmt.Sprintf("By %s.", *cleaned.Declaration), cleaned)
	case merged != nil:
		add("put right", "done", "Its inputs were cleaned.", nil)
	case shown.AuditID != nil:
		add("put right", "here", "No fix plan has been applied to it.", nil)
	default:
		add("put right", "ahead", "Not yet.", nil)
	}
	switch {
	case there:
		add("joined", "ahead", "It lies in a database; to join it, take it as a delivery.", nil)
	case merged != nil:
		add("joined", "done", fmt.Sprintf("By %s.", *merged.Declaration), merged)
	case cleaned != nil:
		add("joined", "here", "No merge has taken it up.", nil)
	default:
		add("joined", "ahead", "Not yet.", nil)
	}
	switch {
	case final == nil:
		add("certified", "ahead", "Not yet.", nil)
	case final.CertificateID != nil:
		add("certified", "done", "The certificate is signed.", final)
	default:
		add("certified", "here", "No certificate has been asked for.", final)
	}
}

// mine is a table that the caller may see; nil where they may not, or there is none.
func mine(ctx context.Context, t *records.Table) *records.Table {
	if t == nil || !caller(ctx).May(access.Read, t.DatasetID) {
		return nil
	}
	return t
}

// kin finds the delivery a table goes back to, and the newest cleaned and merged
// tables made of it; nil for what there is not.
func (s *Server) kin(ctx context.Context, t *records.Table) (delivery, cleaned, merged *records.Table, err error) {
	switch t.Origin {
	case store.OriginMerged:
		return nil, nil, t, nil
	case store.OriginCleaned:
		cleaned = t
		if delivery, err = store.FindTable(ctx, s.Store.DB, *t.ParentID); err != nil {
			return nil, nil, nil, err
		}
	default:
		delivery = t
		if cleaned, err = store.OrNil(store.CleanedFrom(ctx, s.Store.DB, t.ID)); err != nil || cleaned == nil {
			return mine(ctx, delivery), nil, nil, err
		}
	}
	if merged, err = store.OrNil(store.MergedFrom(ctx, s.Store.DB, cleaned.ID)); err != nil {
		return nil, nil, nil, err
	}
	return mine(ctx, delivery), mine(ctx, cleaned), mine(ctx, merged), nil
}

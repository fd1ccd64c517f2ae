package work

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// previewKind is the kind of job that works out what a fix plan would do.
const previewKind = "preview"

func init() {
	register(kind{work: preview}, func(j ofJob) previewArgs { return previewArgs{j} })
}

// previewArgs are what the queue carries for a preview.
type previewArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (previewArgs) Kind() string { return previewKind }

// previewOf is the detail of a preview: the text of the plan, which need not be saved.
type previewOf struct {
	Source  string `json:"source"`
	Earlier bool   `json:"earlier"`
}

// AddPreview records and queues the preview of a fix plan on a table; of a plan that is saved it says whether it is an
// earlier one.
func (p *Pool) AddPreview(ctx context.Context, tx *sqlx.Tx, t *records.Table, source string, earlier bool,
	person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: previewKind, TableID: &t.ID, DatasetID: t.DatasetID, Detail: previewOf{source, earlier},
		CreatedBy: person})
}

// preview makes the table that the plan would make, and audits it; the job's result is what it shows. What was made is kept
// for a day.
func preview(ctx context.Context, a *attempt) error {
	var detail previewOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	p, err := a.plan(ctx, detail.Source, detail.Earlier)
	if err != nil {
		return err
	}
	before, err := a.before(ctx, p)
	if err != nil {
		return err
	}
	made, err := a.run(ctx, p, p.lookedAt(&a.stages))
	if err != nil {
		return err
	}
	defer made.discard()
	t, _, err := made.keep(ctx, a, p)
	if err != nil {
		return err
	}
	ahead := p.ahead(t)
	reading, err := json.Marshal(made.ledger.Reading)
	if err != nil {
		return err
	}
	ahead.Reading = (*json.RawMessage)(&reading)
	judged := p.result
	if p.undeclared {
		judged = nil
	}
	after, err := a.judge(ctx, ahead, judged)
	if err != nil {
		return err
	}
	since, err := a.since(ctx, p, made.ledger)
	if err != nil {
		return err
	}
	shown := PlanPreview{Preview: fix.Preview{Ledger: *made.ledger, ChangeCount: made.ledger.Changes(), Since: since, Before: before, After: after}, Merges: []MergeThen{}}
	if made.ledger.Refused() == nil {
		ahead.ParentID = &p.table.ID
		if shown.Merges, err = a.mergesThen(ctx, ahead); err != nil {
			return err
		}
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		return shown, nil, store.AddPreview(ctx, tx, store.Preview{JobID: a.job.ID, Digest: t.Digest, ChangeLog: *t.ChangeLog, RowMap: t.RowMap, Marks: t.Marks})
	})
}

// before returns the audit of the table that arrived: the one that there is where it went by the newest rulebook.
func (a *attempt) before(ctx context.Context, p *planRun) (*audit.Result, error) {
	if p.table.AuditID != nil {
		newest, err := store.OrNil(store.NewestDeclaration(ctx, a.store.DB, store.KindRulebook, p.table.DatasetID, p.table.Dataset))
		if err != nil {
			return nil, err
		}
		done, err := store.FindAudit(ctx, a.store.DB, *p.table.AuditID)
		if err != nil {
			return nil, err
		}
		if newest != nil && done.RulebookID != nil && *done.RulebookID == newest.ID {
			raw, err := store.AuditResult(ctx, a.store.DB, done.ID)
			if err != nil {
				return nil, err
			}
			result := &audit.Result{}
			return result, json.Unmarshal(raw, result)
		}
	}
	return a.looked(ctx, p.source, p.book)
}

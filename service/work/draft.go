package work

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/fix"
	"proudsieve/core/propose"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// draftKind is the kind of job that drafts a fix plan.
const draftKind = "fix_draft"

func init() {
	register(kind{work: draftPlan}, func(j ofJob) draftArgs { return draftArgs{j} })
}

// draftArgs are what the queue carries for a draft.
type draftArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (draftArgs) Kind() string { return draftKind }

// draftOf is the detail of a draft: the name that the plan gets.
type draftOf struct {
	Name string `json:"name"`
}

// Drafted is the result of a job that drafted a fix plan.
type Drafted struct {
	Source string `json:"source"`
}

// AddDraft records and queues that a fix plan is drafted for a table.
func (p *Pool) AddDraft(ctx context.Context, tx *sqlx.Tx, t *records.Table, name string, person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: draftKind, TableID: &t.ID, DatasetID: t.DatasetID, Detail: draftOf{name}, CreatedBy: person})
}

// draftPlan drafts a fix plan from what the table's audit by the newest rulebook finds. The job's result is the draft.
func draftPlan(ctx context.Context, a *attempt) error {
	var detail draftOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	p, err := a.toFix(ctx)
	if err != nil {
		return err
	}
	if err := p.open(ctx, a, 4); err != nil {
		return err
	}
	result, err := a.before(ctx, p)
	if err != nil {
		return err
	}
	text, err := propose.FixPlan(ctx, detail.Name, fix.Input{Source: p.source, Book: p.book}, result, a.Workers)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return Drafted{text}, nil, nil })
}

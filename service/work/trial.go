package work

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/rulebook"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// trialKind is the kind of job that tries a rulebook which is not saved.
const trialKind = "trial"

func init() {
	register(kind{work: try}, func(j ofJob) trialArgs { return trialArgs{j} })
}

// trialArgs are what the queue carries for a trial.
type trialArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (trialArgs) Kind() string { return trialKind }

// trialOf is the detail of a trial: the rulebook that is tried.
type trialOf struct {
	Source string `json:"source"`
}

// AddTrial records and queues the trial of a rulebook on a table.
func (p *Pool) AddTrial(ctx context.Context, tx *sqlx.Tx, t *records.Table, source string,
	person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: trialKind, TableID: &t.ID, DatasetID: t.DatasetID, Detail: trialOf{source},
		CreatedBy: person})
}

// try audits a table by a rulebook that is not saved. Its result is the audit's.
func try(ctx context.Context, a *attempt) error {
	t, err := store.FindTable(ctx, a.store.DB, *a.job.TableID)
	if err != nil {
		return err
	}
	var detail trialOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	book, err := rulebook.Parse([]byte(detail.Source))
	if err != nil {
		return err
	}
	result, err := a.judge(ctx, t, book)
	if err != nil {
		return err
	}
	result.There = result.There.Shown(false)
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return result, nil, nil })
}

package work

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/fix"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// WeighKind is the kind of job that compares methods of estimating.
const WeighKind = "weigh_estimates"

func init() {
	register(kind{work: weigh}, func(j ofJob) weighArgs { return weighArgs{j} })
}

// weighArgs are what the queue carries for a comparison of methods.
type weighArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (weighArgs) Kind() string { return WeighKind }

// weighOf is the detail of a comparison: the text of a plan, which need not be saved, and its step that estimates, from 1.
type weighOf struct {
	Source string `json:"source"`
	Step   int    `json:"step"`
}

// AddWeigh records and queues a comparison of the methods that a step of a fix plan could estimate by.
func (p *Pool) AddWeigh(ctx context.Context, tx *sqlx.Tx, t *records.Table, source string, step int, person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: WeighKind, TableID: &t.ID, DatasetID: t.DatasetID, Detail: weighOf{source, step}, CreatedBy: person})
}

// weigh compares the methods on the table as the step finds it; the job's result is the comparison.
func weigh(ctx context.Context, a *attempt) error {
	var detail weighOf
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	p, err := a.plan(ctx, detail.Source, false)
	if err != nil {
		return err
	}
	compared, err := fix.Compare(ctx, p.lookedAt(&a.stages), p.plan, detail.Step, a.Workers)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return compared, nil, nil })
}

package work

import (
	"context"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/fix"
	"proudsieve/service/records"
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

// AddPreview records and queues the preview of a fix plan on a table.
func (p *Pool) AddPreview(ctx context.Context, tx *sqlx.Tx, t *records.Table, plan *records.Declaration,
	person int64) (*records.Job, error) {
	return p.addPlan(ctx, tx, previewKind, t, plan, person)
}

// preview works out what the plan would do; the job's result is what it shows.
func preview(ctx context.Context, a *attempt) error {
	p, err := a.plan(ctx, 3)
	if err != nil {
		return err
	}
	shown, err := fix.Show(ctx, p.source, p.book, p.plan, a.Workers)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return shown, nil, nil })
}

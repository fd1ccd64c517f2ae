package work

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Fix is the kind of job that applies a fix plan.
const Fix = "fix"

func init() {
	register(kind{work: applyPlan}, func(j ofJob) fixArgs { return fixArgs{j} })
}

// fixArgs are what the queue carries for a fix plan to be applied.
type fixArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (fixArgs) Kind() string { return Fix }

// AddFix records and queues that a fix plan is applied to a table.
func (p *Pool) AddFix(ctx context.Context, tx *sqlx.Tx, t *records.Table, plan *records.Declaration,
	person int64) (*records.Job, error) {
	return p.addPlan(ctx, tx, Fix, t, plan, person)
}

func (p *Pool) addPlan(ctx context.Context, tx *sqlx.Tx, kind string, t *records.Table, plan *records.Declaration,
	person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: kind, TableID: &t.ID, DatasetID: t.DatasetID, DeclarationID: &plan.ID,
		CreatedBy: person})
}

// applyPlan makes the cleaned table.
func applyPlan(ctx context.Context, a *attempt) error {
	p, err := a.plan(ctx, 2)
	if err != nil {
		return err
	}
	log, err := a.files.Create()
	if err != nil {
		return err
	}
	defer log.Discard()
	out, err := a.files.Create()
	if err != nil {
		return err
	}
	defer out.Discard()
	ledger, err := fix.Apply(ctx, p.source, p.book, p.plan, a.Workers, out, log)
	if err != nil {
		return err
	}
	digest, bytes, written, err := a.keep(ctx, out)
	if err != nil {
		return err
	}
	if err := fix.Verify(ctx, written, p.book, ledger, a.Workers); err != nil {
		return err
	}
	logDigest, _, err := log.Keep()
	if err != nil {
		return err
	}
	return a.finishTable(ctx, store.NewTable{DatasetID: p.table.DatasetID, Origin: store.OriginCleaned, Digest: digest,
		Bytes:    bytes,
		FileName: p.table.Dataset + "_cleaned.csv", ParentID: &p.table.ID, DeclarationID: a.job.DeclarationID,
		ChangeLog: &logDigest}, ledger, "applied the fix plan "+p.plan.Name)
}

// planRun is a fix plan with the table that it is for, opened.
type planRun struct {
	table  *records.Table
	source *intake.File
	book   *rulebook.Rulebook
	plan   *fix.Plan
}

// plan reads the fix plan of the job and opens its table; passes is how often it will be read.
func (a *attempt) plan(ctx context.Context, passes int64) (*planRun, error) {
	t, err := store.FindTable(ctx, a.store.DB, *a.job.TableID)
	if err != nil {
		return nil, err
	}
	d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
	if err != nil {
		return nil, err
	}
	book, err := rulebookOf(ctx, a.store.DB, t.DatasetID, t.Dataset)
	if err != nil {
		return nil, err
	}
	if book == nil {
		return nil, fmt.Errorf("the dataset %s has no rulebook; a fix plan needs one", t.Dataset)
	}
	plan, err := fix.Parse([]byte(d.Source), book)
	if err != nil {
		return nil, fmt.Errorf("the fix plan does not fit the newest rulebook of %s:\n%w", t.Dataset, err)
	}
	source, book, err := a.open(ctx, t, book, passes+plan.Passes())
	if err == nil {
		if err = Beside(ctx, a.store, a.files, t, book, a.job.CreatedAt); err == nil {
			book, err = audit.Bound(ctx, book, a.Workers) // steps map to the codes of other datasets too
		}
	}
	return &planRun{t, source, book, plan}, err
}

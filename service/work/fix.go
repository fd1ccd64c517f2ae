package work

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/service/files"
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

// AddFix records and queues that a fix plan is applied to a table; looked says that a person has looked at what differs from
// the delivery before.
func (p *Pool) AddFix(ctx context.Context, tx *sqlx.Tx, t *records.Table, plan *records.Declaration, looked bool,
	person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: Fix, TableID: &t.ID, DatasetID: t.DatasetID, DeclarationID: &plan.ID,
		Detail: fixDetail{looked}, CreatedBy: person})
}

// fixDetail is the detail of a job that applies a plan.
type fixDetail struct {
	// Looked says that a person has looked at what differs from the delivery before.
	Looked bool `json:"looked"`
}

// Applied is the result of a job that applied a fix plan.
type Applied struct {
	// Message says that the table was there already; empty where it was made.
	Message string `json:"message"`
}

// applyPlan makes the cleaned table.
func applyPlan(ctx context.Context, a *attempt) error {
	d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
	if err != nil {
		return err
	}
	p, err := a.plan(ctx, d.Source, d.Earlier)
	if err != nil {
		return err
	}
	made, err := a.run(ctx, p, p.input())
	if err != nil {
		return err
	}
	defer made.discard()
	if err := made.ledger.Refused(); err != nil {
		return err
	}
	if err := a.unlike(ctx, p, made.ledger); err != nil {
		return err
	}
	cleaned, written, err := made.keep(ctx, a, p)
	if err != nil {
		return err
	}
	if err := fix.Verify(ctx, written, p.result, made.ledger, a.Workers); err != nil {
		return err
	}
	cleaned.DeclarationID = &d.ID
	record, err := a.recordTable(ctx, *cleaned, made.ledger, made.ledger.Reading, "applied the fix plan "+p.plan.Name)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		// Jobs that apply the same version at once follow one another here, so that one of them makes the table.
		if err := store.LockDataset(ctx, tx, p.makes.ID); err != nil {
			return nil, nil, err
		}
		known, err := store.OrNil(store.CleanedWith(ctx, tx, p.table.ID, d.ID, cleaned.Digest))
		if err != nil {
			return nil, nil, err
		}
		if known == nil {
			return record(tx)
		}
		return Applied{fmt.Sprintf("Table %d is what version %d of %s makes of table %d already, byte for byte; no second one was made.", known.ID,
			d.Version, d.Name, p.table.ID)}, &known.ID, nil
	})
}

// since compares a ledger with that of the delivery before.
func (a *attempt) since(ctx context.Context, p *planRun, ledger *fix.Ledger) ([]fix.Since, error) {
	raw, err := store.OrNil(store.LastLedger(ctx, a.store.DB, p.table.DatasetID, p.plan.Name, p.table.ID))
	if err != nil || raw == nil {
		return []fix.Since{}, err
	}
	var last fix.Ledger
	if err := json.Unmarshal(*raw, &last); err != nil {
		return nil, err
	}
	return ledger.Since(&last), nil
}

// unlike stops a plan of which a step touches far more than on the delivery before, unless a person has looked at it.
func (a *attempt) unlike(ctx context.Context, p *planRun, ledger *fix.Ledger) error {
	var detail fixDetail
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil || detail.Looked {
		return err
	}
	since, err := a.since(ctx, p, ledger)
	if err != nil {
		return err
	}
	var steps []string
	for _, s := range since {
		if s.Stops {
			steps = append(steps, fmt.Sprintf("step %d (%s) touches %s, and on the delivery before %s", s.Step, s.Kind,
				document.Counted(s.Touched, "cell or row", "cells and rows"), document.Grouped(s.Before)))
		}
	}
	if len(steps) == 0 {
		return nil
	}
	return fmt.Errorf("the plan was not applied, since it would do far more than before: %s; look at its preview, and apply it as one that was looked at, or write varies: true into the step where that is usual",
		strings.Join(steps, "; "))
}

// planRun is a fix plan with the table that it is for, opened.
type planRun struct {
	table  *records.Table
	makes  *records.Dataset // that the cleaned table belongs to
	source *intake.File
	book   *rulebook.Rulebook
	result *rulebook.Rulebook // of the dataset that the cleaned table belongs to
	// undeclared says that this one has no rulebook yet: the table is written by that of the table, and audited by a draft.
	undeclared bool
	plan       *fix.Plan
}

// toFix finds the table of the job that a fix plan is for, with its rulebook.
func (a *attempt) toFix(ctx context.Context) (*planRun, error) {
	t, err := store.FindTable(ctx, a.store.DB, *a.job.TableID)
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
	return &planRun{table: t, book: book, result: book}, nil
}

// open opens the table that a plan is for.
func (p *planRun) open(ctx context.Context, a *attempt, passes int64) (err error) {
	if p.source, p.book, err = a.openRuled(ctx, p.table, p.book, passes); err != nil {
		return err
	}
	p.book, err = audit.Bound(ctx, p.book, a.Workers) // steps map to the codes of other datasets too
	return err
}

// plan reads a fix plan and opens the table of the job.
func (a *attempt) plan(ctx context.Context, text string, earlier bool) (*planRun, error) {
	p, err := a.toFix(ctx)
	if err != nil {
		return nil, err
	}
	_, makes, err := fix.DatasetsOf([]byte(text))
	if err != nil {
		return nil, err
	}
	if p.makes, err = store.FindDataset(ctx, a.store.DB, makes); err != nil {
		return nil, err
	}
	if p.makes.ID != p.table.DatasetID {
		if p.result, err = rulebookOf(ctx, a.store.DB, p.makes.ID, p.makes.Name); err != nil {
			return nil, err
		}
		if p.undeclared = p.result == nil; p.undeclared {
			p.result = p.book
		}
	}
	if p.plan, err = fix.ParseFor([]byte(text), p.book, p.result); err != nil {
		return nil, fmt.Errorf("the fix plan does not fit the newest rulebook of %s:\n%w", p.table.Dataset, err)
	}
	if earlier {
		p.plan = p.plan.AsEarlier()
	}
	return p, p.open(ctx, a, 2)
}

// madeTable is what a run of a plan wrote.
type madeTable struct {
	table, log, rows, marks, draws *files.Writer
	ledger                         *fix.Ledger
}

// writers are those of its files.
func (m *madeTable) writers() []**files.Writer {
	return []**files.Writer{&m.table, &m.log, &m.rows, &m.marks, &m.draws}
}

func (m *madeTable) discard() {
	for _, w := range m.writers() {
		if *w != nil {
			(*w).Discard()
		}
	}
}

// input is what the plan is run on.
func (p *planRun) input() fix.Input {
	in := fix.Input{Source: p.source, Book: p.book}
	if p.makes.ID != p.table.DatasetID && !p.undeclared {
		in.Result = p.result
	}
	return in
}

// lookedAt is input for a plan that is only looked at: what is done for it is kept for the next look.
func (p *planRun) lookedAt(stages *fix.Stages) fix.Input {
	in := p.input()
	in.Stages, in.Key = stages, fmt.Sprintf("table %d by %s for %s", p.table.ID, p.book.Digest, p.result.Digest)
	return in
}

// run runs a plan; the caller discards what it made.
func (a *attempt) run(ctx context.Context, p *planRun, in fix.Input) (m *madeTable, err error) {
	m = &madeTable{}
	for _, w := range m.writers() {
		if *w, err = a.files.Create(); err != nil {
			m.discard()
			return nil, err
		}
	}
	if m.ledger, err = fix.Run(ctx, in, p.plan, a.Workers, fix.Outputs{Table: m.table, Log: m.log, Map: m.rows, Marks: m.marks, Draws: m.draws}); err != nil {
		m.discard()
		return nil, err
	}
	return m, nil
}

// keep keeps what was made, and opens the table that was.
func (m *madeTable) keep(ctx context.Context, a *attempt, p *planRun) (*store.NewTable, *intake.File, error) {
	digest, bytes, written, err := a.keep(ctx, m.table)
	if err != nil {
		return nil, nil, err
	}
	log, _, err := m.log.Keep(ctx)
	if err != nil {
		return nil, nil, err
	}
	t := &store.NewTable{DatasetID: p.makes.ID, Origin: store.OriginCleaned, Digest: digest, Bytes: bytes,
		FileName: p.makes.Name + "_cleaned.csv", ParentID: &p.table.ID, ChangeLog: &log}
	return t, written, keepBeside(ctx, []aside{{m.ledger.MadeRows(), m.rows, &t.RowMap}, {m.ledger.Marked() > 0, m.marks, &t.Marks}, {m.ledger.Drawn(), m.draws, &t.Draws}})
}

// ahead is a table that is not recorded, as it would be.
func (p *planRun) ahead(t *store.NewTable) *records.Table {
	return &records.Table{ID: math.MaxInt64, Dataset: p.makes.Name, DatasetID: p.makes.ID, Origin: t.Origin, Digest: t.Digest, Bytes: t.Bytes,
		FileName: t.FileName, Marks: t.Marks}
}

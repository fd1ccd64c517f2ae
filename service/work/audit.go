package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/waiver"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Audit is the kind of job that audits a table.
const Audit = "audit"

func init() {
	register(kind{work: auditTable}, func(j ofJob) auditArgs { return auditArgs{j} })
}

// auditArgs are what the queue carries for an audit.
type auditArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (auditArgs) Kind() string { return Audit }

// AddAudit records and queues the audit of a table by the newest rulebook of its dataset.
func (p *Pool) AddAudit(ctx context.Context, tx *sqlx.Tx, t *records.Table, person int64) (*records.Job, error) {
	j := store.NewJob{Kind: Audit, TableID: &t.ID, DatasetID: t.DatasetID, CreatedBy: person}
	book, err := store.NewestDeclaration(ctx, tx, store.KindRulebook, t.DatasetID, t.Dataset)
	switch {
	case err == nil:
		j.DeclarationID = &book.ID
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	return p.Add(ctx, tx, j)
}

func auditTable(ctx context.Context, a *attempt) error {
	t, err := store.FindTable(ctx, a.store.DB, *a.job.TableID)
	if err != nil {
		return err
	}
	var book *rulebook.Rulebook
	if a.job.DeclarationID != nil {
		d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
		if err != nil {
			return err
		}
		if book, err = rulebook.Parse([]byte(d.Source)); err != nil {
			return err
		}
	}
	source, result, err := a.judged(ctx, t, book)
	if err != nil {
		return err
	}
	accepted := a.accepted(t, source, result)
	if err := a.lookAtWaivers(ctx, t, accepted); err != nil {
		return err
	}
	rows, err := a.files.Create()
	if err != nil {
		return err
	}
	defer rows.Discard()
	if err := result.WriteRows(rows); err != nil {
		return err
	}
	digest, _, err := rows.Keep(ctx)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		if err := a.recordAudit(ctx, tx, t, accepted, digest); err != nil {
			return nil, nil, err
		}
		if err := a.standing(ctx, tx, t); err != nil {
			return nil, nil, err
		}
		return nil, nil, a.keepMerged(ctx, tx, t, result)
	})
}

// standing queues the fix plan that is applied to every delivery of a dataset once it was audited.
func (a *attempt) standing(ctx context.Context, tx *sqlx.Tx, t *records.Table) error {
	if t.Origin != store.OriginDelivery || a.job.DeclarationID == nil || LiesThere(t) != nil {
		return nil
	}
	plan, err := store.OrNil(store.StandingPlan(ctx, tx, t))
	if err != nil || plan == nil {
		return err
	}
	if _, err := a.AddFix(ctx, tx, t, plan, false, a.job.CreatedByID); err != nil {
		return err
	}
	return store.Record(ctx, tx, a.job.CreatedByID, "a standing fix plan was begun", fmt.Sprintf("table %d of %s", t.ID, t.Dataset),
		map[string]any{"fix_plan": plan.Name, "version": plan.Version})
}

// accepted tells what waivers accept of what the audit found, of the table as it was read.
func (a *attempt) accepted(t *records.Table, source *intake.File, result *audit.Result) *Accepted {
	return &Accepted{Result: result, There: result.There != nil,
		Open: func() (*relation.Table, error) {
			if there := LiesThere(t); there != nil {
				return nil, there.elsewhere(t)
			}
			return &relation.Table{Source: source, Book: result.Book(), Workers: a.Workers}, nil
		},
		Rows: func(rule string) (*table.RowSet, error) { return result.Finding(rule).AllRows() }}
}

// lookAtWaivers reads the table for the waivers that name texts or rows, before anything is recorded: what was found out is
// remembered, so that nobody waits for it then.
func (a *attempt) lookAtWaivers(ctx context.Context, t *records.Table, accepted *Accepted) error {
	if a.job.DeclarationID == nil {
		return nil
	}
	all, err := store.WaiversFor(ctx, a.store.DB, t.DatasetID, t.ID)
	if err != nil {
		return err
	}
	for _, of := range store.ByIssue(all) {
		if _, err := accepted.Of(ctx, of[0].Subject, of[0].Rule, of[0].About, of); err != nil {
			return err
		}
	}
	return nil
}

func (a *attempt) recordAudit(ctx context.Context, tx *sqlx.Tx, t *records.Table, accepted *Accepted,
	rowsDigest string) error {
	result := accepted.Result
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	id, err := store.AddAudit(ctx, tx, store.NewAudit{TableID: t.ID, DatasetID: t.DatasetID,
		RulebookID: a.job.DeclarationID, JobID: a.job.ID,
		Score: result.Score, PassMark: result.PassMark, Passed: result.Passed, Rows: result.Rows, Result: raw,
		RowsDigest: rowsDigest})
	if err != nil {
		return err
	}
	if a.job.DeclarationID == nil {
		return nil // a draft is nobody's rulebook; what it found is no issue
	}
	f := store.Followed{DatasetID: t.DatasetID, AuditID: id, TableID: t.ID}
	if f.Made, err = howMade(t); err != nil {
		return err
	}
	for _, one := range result.Findings {
		f.Found = append(f.Found, store.FoundRule{Rule: one.Rule, Severity: string(one.Severity), Title: one.Found, Rows: one.Rows})
	}
	for _, r := range result.Rules {
		if result.Judges(r.Rule) && result.Finding(r.Rule) == nil {
			f.Held = append(f.Held, r.Rule)
		}
	}
	f.Cover = func(i *records.Issue, waivers []records.Waiver) (*waiver.Covered, error) {
		return accepted.Of(ctx, i.Subject, i.Rule, i.About, waivers)
	}
	f.Told = func(i *records.Issue) (string, int64, bool, error) {
		return accepted.Still(ctx, i.Subject, i.Rule, i.About)
	}
	var back []records.Issue
	f.CameBack = func(i *records.Issue) { back = append(back, *i) }
	if err := store.FollowIssues(ctx, tx, f); err != nil {
		return err
	}
	return a.tellAudit(ctx, tx, t, id, result.Passed, result.Score, back)
}

// howMade says how a table was made here, in a sentence; nothing of a delivery.
func howMade(t *records.Table) (string, error) {
	switch {
	case t.Origin == store.OriginMerged:
		return fmt.Sprintf("Table %d, which the merge %s made, has none of it.", t.ID, *t.Declaration), nil
	case t.Origin != store.OriginCleaned:
		return "", nil
	}
	says := fmt.Sprintf("Table %d, which the fix plan %s made, has none of it.", t.ID, *t.Declaration)
	var ledger fix.Ledger
	if err := json.Unmarshal(*t.Accounting, &ledger); err != nil {
		return "", err
	}
	aside := int64(0)
	for _, step := range ledger.Steps {
		aside += step.Rows
	}
	if aside > 0 {
		says += fmt.Sprintf(" The plan took %s out of the table.", document.Counted(aside, "row", "rows"))
	}
	return says, nil
}

// judge audits a table by a rulebook; nil for a draft.
func (a *attempt) judge(ctx context.Context, t *records.Table, book *rulebook.Rulebook) (*audit.Result, error) {
	_, result, err := a.judged(ctx, t, book)
	return result, err
}

// judged audits a table, which is opened for it unless it is judged where it lies.
func (a *attempt) judged(ctx context.Context, t *records.Table, book *rulebook.Rulebook) (*intake.File, *audit.Result, error) {
	if there := LiesThere(t); there != nil {
		result, err := a.judgeThere(ctx, t, there, book)
		return nil, result, err
	}
	source, book, err := a.openRuled(ctx, t, book, 1)
	if err != nil {
		return nil, nil, err
	}
	result, err := a.looked(ctx, source, book)
	return source, result, err
}

// looked audits what was opened, and looks again for what only a second reading tells.
func (a *attempt) looked(ctx context.Context, source *intake.File, book *rulebook.Rulebook) (*audit.Result, error) {
	result, err := audit.Run(ctx, source, book, a.Workers)
	if err != nil {
		return nil, err
	}
	return result, result.LookAgain(ctx, source, a.Workers)
}

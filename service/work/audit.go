package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
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
	result, err := a.judge(ctx, t, book)
	if err != nil {
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
	digest, _, err := rows.Keep()
	if err != nil {
		return err
	}
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		if err := a.recordAudit(ctx, tx, t, result, digest); err != nil {
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
	if t.Origin != store.OriginDelivery || a.job.DeclarationID == nil {
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

func (a *attempt) recordAudit(ctx context.Context, tx *sqlx.Tx, t *records.Table, result *audit.Result,
	rowsDigest string) error {
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
	var found []store.FoundRule
	var held []string
	broken := map[string]bool{}
	for _, f := range result.Findings {
		broken[f.Rule] = true
		found = append(found, store.FoundRule{Rule: f.Rule, Severity: string(f.Severity), Title: f.Found, Rows: f.Rows})
	}
	for _, r := range result.Rules {
		if !broken[r.Rule] && r.Unjudged == "" {
			held = append(held, r.Rule)
		}
	}
	if err := store.FollowIssues(ctx, tx, t.DatasetID, id, found, held); err != nil {
		return err
	}
	return store.FollowLeads(ctx, tx, t.DatasetID, id, func(kind, column string) (string, int64, bool) {
		for _, l := range result.Leads {
			if l.Kind == kind && l.Column == column {
				return l.Says, l.Rows, true
			}
		}
		return "", 0, false
	})
}

// judge audits a table by a rulebook; nil for a draft.
func (a *attempt) judge(ctx context.Context, t *records.Table, book *rulebook.Rulebook) (*audit.Result, error) {
	source, book, err := a.openRuled(ctx, t, book, 1)
	if err != nil {
		return nil, err
	}
	return a.looked(ctx, source, book)
}

// looked audits what was opened, and looks again for what only a second reading tells.
func (a *attempt) looked(ctx context.Context, source *intake.File, book *rulebook.Rulebook) (*audit.Result, error) {
	result, err := audit.Run(ctx, source, book, a.Workers)
	if err != nil {
		return nil, err
	}
	return result, result.LookAgain(ctx, source, a.Workers)
}

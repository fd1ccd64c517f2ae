package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/service/files"
	"proudsieve/service/store"
)

// MergeInputs is the detail of a merge job: which table of each dataset takes part.
type MergeInputs struct {
	Tables map[string]int64 `json:"tables"`
}

// OpenTable opens a table with the rulebook that applies to it; without a rulebook
// its reading is worked out and a draft made.
func OpenTable(ctx context.Context, f *files.Directory, t *store.Table, book *rulebook.Rulebook) (*intake.File, *rulebook.Rulebook, error) {
	open := f.At(t.Digest)
	if book != nil {
		if t.Origin != store.OriginDelivery {
			book = book.ForTable()
		}
		source, err := intake.Open(ctx, open, book.Reading)
		return source, book, err
	}
	fixed := intake.Reading{}
	if t.Origin != store.OriginDelivery {
		fixed = intake.Standard()
	}
	d, err := intake.Detect(ctx, open, fixed)
	if err != nil {
		return nil, nil, err
	}
	source, err := intake.Open(ctx, open, d.Reading)
	if err != nil {
		return nil, nil, err
	}
	return source, rulebook.Draft(t.Dataset, d, source.Columns()), nil
}

// open opens a table of the job, with progress; passes is how often it will be read.
func (a *attempt) open(ctx context.Context, t *store.Table, book *rulebook.Rulebook, passes int64) (*intake.File, *rulebook.Rulebook, error) {
	source, book, err := OpenTable(ctx, a.files, t, book)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", t.FileName, err)
	}
	a.total.Store(t.Bytes * passes)
	last := int64(0)
	source.OnProgress = func(bytes, rows int64) {
		if bytes < last { // another pass began
			a.base.Add(last)
		}
		last = bytes
		a.progress(bytes, rows)
	}
	return source, book, nil
}

// rulebookOf reads the newest rulebook of a dataset; a dataset without one has nil.
func rulebookOf(ctx context.Context, q store.Querier, dataset int64, name string) (*rulebook.Rulebook, error) {
	d, err := store.NewestDeclaration(ctx, q, store.KindRulebook, dataset, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return rulebook.Parse([]byte(d.Source))
}

func (a *attempt) audit(ctx context.Context) error {
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
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) { return nil, nil, a.recordAudit(ctx, tx, t, result, digest) })
}

func (a *attempt) recordAudit(ctx context.Context, tx *sqlx.Tx, t *store.Table, result *audit.Result, rowsDigest string) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	id, err := store.AddAudit(ctx, tx, store.NewAudit{TableID: t.ID, DatasetID: t.DatasetID, RulebookID: a.job.DeclarationID, JobID: a.job.ID,
		Score: result.Score, PassMark: result.PassMark, Passed: result.Passed, Rows: result.Rows, Result: raw, RowsDigest: rowsDigest})
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
	return store.FollowIssues(ctx, tx, t.DatasetID, id, found, held)
}

// plan reads the fix plan of the job and opens its table; passes is how often it will be read.
func (a *attempt) plan(ctx context.Context, passes int64) (*store.Table, *intake.File, *rulebook.Rulebook, *fix.Plan, error) {
	t, err := store.FindTable(ctx, a.store.DB, *a.job.TableID)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	book, err := rulebookOf(ctx, a.store.DB, t.DatasetID, t.Dataset)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	if book == nil {
		return nil, nil, nil, nil, fmt.Errorf("the dataset %s has no rulebook; a fix plan needs one", t.Dataset)
	}
	plan, err := fix.Parse([]byte(d.Source), book)
	if err != nil {
		return nil, nil, nil, nil, fmt.Errorf("the fix plan does not fit the newest rulebook of %s:\n%w", t.Dataset, err)
	}
	source, book, err := a.open(ctx, t, book, passes+plan.Passes())
	if err == nil {
		if err = Beside(ctx, a.store, a.files, t, book, a.job.CreatedAt); err == nil {
			book, err = audit.Bound(ctx, book, a.Workers) // steps map to the codes of other datasets too
		}
	}
	return t, source, book, plan, err
}

func (a *attempt) preview(ctx context.Context) error {
	_, source, book, plan, err := a.plan(ctx, 3)
	if err != nil {
		return err
	}
	shown, err := fix.Show(ctx, source, book, plan, a.Workers)
	if err != nil {
		return err
	}
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return shown, nil, nil })
}

func (a *attempt) fix(ctx context.Context) error {
	t, source, book, plan, err := a.plan(ctx, 2)
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
	ledger, err := fix.Apply(ctx, source, book, plan, a.Workers, out, log)
	if err != nil {
		return err
	}
	digest, bytes, written, err := a.keep(ctx, out)
	if err != nil {
		return err
	}
	if err := fix.Verify(ctx, written, book, ledger, a.Workers); err != nil {
		return err
	}
	logDigest, _, err := log.Keep()
	if err != nil {
		return err
	}
	return a.finishTable(ctx, store.NewTable{DatasetID: t.DatasetID, Origin: store.OriginCleaned, Digest: digest, Bytes: bytes,
		FileName: t.Dataset + "_cleaned.csv", ParentID: &t.ID, DeclarationID: a.job.DeclarationID, ChangeLog: &logDigest}, ledger, "applied the fix plan "+plan.Name)
}

// keep keeps the table that was written, and opens what was kept. The caller discards the
// writer once the table is recorded.
func (a *attempt) keep(ctx context.Context, out *files.Writer) (digest string, bytes int64, written *intake.File, err error) {
	if digest, bytes, err = out.Keep(); err != nil {
		return "", 0, nil, err
	}
	written, err = intake.Open(ctx, a.files.At(digest), intake.Standard())
	return digest, bytes, written, err
}

// finishTable records the table that the job made and queues its audit.
func (a *attempt) finishTable(ctx context.Context, t store.NewTable, accounting any, action string) error {
	raw, err := json.Marshal(accounting)
	if err != nil {
		return err
	}
	t.Accounting, t.CreatedBy = raw, a.job.CreatedByID
	return a.finish(ctx, func(tx *sqlx.Tx) (any, *int64, error) {
		made, err := store.AddTable(ctx, tx, t)
		if err != nil {
			return nil, nil, err
		}
		if _, err := a.AddAudit(ctx, tx, made, a.job.CreatedByID); err != nil {
			return nil, nil, err
		}
		return nil, &made.ID, store.Record(ctx, tx, a.job.CreatedByID, action, fmt.Sprintf("table %d of %s", made.ID, made.Dataset), map[string]any{"sha256": made.Digest})
	})
}

func (a *attempt) merge(ctx context.Context) error {
	d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
	if err != nil {
		return err
	}
	plan, err := merge.Parse([]byte(d.Source))
	if err != nil {
		return err
	}
	var wanted MergeInputs
	if err := json.Unmarshal(a.job.Detail, &wanted); err != nil {
		return err
	}
	inputs, ids, err := a.mergeInputs(ctx, plan, wanted)
	if err != nil {
		return err
	}
	out, err := a.files.Create()
	if err != nil {
		return err
	}
	defer out.Discard()
	accounting, err := merge.Run(ctx, plan, inputs, a.Workers, out)
	if err != nil {
		return err
	}
	digest, bytes, written, err := a.keep(ctx, out)
	if err != nil {
		return err
	}
	book, err := rulebookOf(ctx, a.store.DB, a.job.DatasetID, a.job.Dataset)
	if err != nil {
		return err
	}
	if book == nil {
		book = rulebook.Draft(plan.Name, &intake.Detection{Reading: intake.Standard()}, written.Columns())
	}
	if err := merge.Verify(ctx, written, book, accounting, a.Workers); err != nil {
		return err
	}
	return a.finishTable(ctx, store.NewTable{DatasetID: a.job.DatasetID, Origin: store.OriginMerged, Digest: digest, Bytes: bytes,
		FileName: plan.Name + ".csv", DeclarationID: a.job.DeclarationID, Inputs: ids}, accounting, "ran the merge "+plan.Name)
}

func (a *attempt) mergeInputs(ctx context.Context, plan *merge.Plan, wanted MergeInputs) (map[string]merge.Input, []int64, error) {
	inputs, ids := map[string]merge.Input{}, []int64{}
	for _, name := range plan.Datasets() {
		t, err := store.FindTable(ctx, a.store.DB, wanted.Tables[name])
		if err != nil {
			return nil, nil, err
		}
		book, err := rulebookOf(ctx, a.store.DB, t.DatasetID, name)
		if err != nil {
			return nil, nil, err
		}
		source, book, err := OpenTable(ctx, a.files, t, book)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", name, err)
		}
		inputs[name] = merge.Input{Dataset: name, Source: source, Book: book, Digest: t.Digest}
		ids = append(ids, t.ID)
	}
	return inputs, ids, nil
}

package work

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Merge is the kind of job that runs a merge.
const Merge = "merge"

func init() {
	register(kind{work: runMerge}, func(j ofJob) mergeArgs { return mergeArgs{j} })
}

// mergeArgs are what the queue carries for a merge.
type mergeArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (mergeArgs) Kind() string { return Merge }

// mergeInputs is the detail of a merge job.
type mergeInputs struct {
	Tables MergeTables `json:"tables"`
	Source string      `json:"source,omitempty"` // of a merge that is only looked at
	// Waits is why a merge that is kept up cannot run by itself now; empty where it can.
	Waits string `json:"waits,omitempty"`
}

// AddMerge records and queues a merge of tables, by their datasets.
func (p *Pool) AddMerge(ctx context.Context, tx *sqlx.Tx, d *records.Declaration, tables MergeTables,
	person int64) (*records.Job, error) {
	return p.addMerge(ctx, tx, d, mergeInputs{Tables: tables}, person)
}

func (p *Pool) addMerge(ctx context.Context, tx *sqlx.Tx, d *records.Declaration, detail mergeInputs, person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: Merge, DatasetID: d.DatasetID, DeclarationID: &d.ID, Detail: detail, CreatedBy: person})
}

// runMerge makes the merged table.
func runMerge(ctx context.Context, a *attempt) error {
	d, err := store.FindDeclaration(ctx, a.store.DB, *a.job.DeclarationID)
	if err != nil {
		return err
	}
	plan, err := merge.Parse([]byte(d.Source))
	if err != nil {
		return err
	}
	var wanted mergeInputs
	if err := json.Unmarshal(a.job.Detail, &wanted); err != nil {
		return err
	}
	if wanted.Waits != "" {
		return fmt.Errorf("the merge %s waits: %s. Put it right, or run the merge by hand", plan.Name, wanted.Waits)
	}
	to, err := a.mergedFiles()
	if err != nil {
		return err
	}
	defer to.discard()
	t, accounting, _, err := a.merged(ctx, plan, wanted, to)
	if err != nil {
		return err
	}
	return a.finishTable(ctx, *t, accounting, accounting.Reading, "ran the merge "+
		plan.Name)
}

// mergedFiles are what a merge is written into. No sweep takes them until they are discarded: once the table is recorded, or nobody
// looks at it any more.
type mergedFiles struct{ table, marks, unmet, sources *files.Writer }

func (f *mergedFiles) writers() []**files.Writer {
	return []**files.Writer{&f.table, &f.marks, &f.unmet, &f.sources}
}

func (a *attempt) mergedFiles() (*mergedFiles, error) {
	f := &mergedFiles{}
	for _, w := range f.writers() {
		var err error
		if *w, err = a.files.Create(); err != nil {
			f.discard()
			return nil, err
		}
	}
	return f, nil
}

func (f *mergedFiles) discard() {
	for _, w := range f.writers() {
		if *w != nil {
			(*w).Discard()
		}
	}
}

// merged makes a merged table, keeps it, and holds its accounting against what was written; with the rulebook of the merged
// dataset, nil where there is none.
func (a *attempt) merged(ctx context.Context, plan *merge.Plan, wanted mergeInputs, to *mergedFiles) (*store.NewTable, *merge.Accounting, *rulebook.Rulebook, error) {
	inputs, ids, err := a.inputs(ctx, plan, wanted)
	if err != nil {
		return nil, nil, nil, err
	}
	accounting, err := merge.Run(ctx, plan, inputs, a.Workers, merge.Outputs{Table: to.table, Marks: to.marks, Unmet: to.unmet, Sources: to.sources})
	if err != nil {
		return nil, nil, nil, err
	}
	digest, bytes, written, err := a.keep(ctx, to.table)
	if err != nil {
		return nil, nil, nil, err
	}
	dataset, err := store.OrNil(store.FindDataset(ctx, a.store.DB, plan.Name)) // a merge that is only looked at may have none yet
	if err != nil {
		return nil, nil, nil, err
	}
	var declared *rulebook.Rulebook
	t := &store.NewTable{Origin: store.OriginMerged, Digest: digest, Bytes: bytes, FileName: plan.Name + ".csv",
		DeclarationID: a.job.DeclarationID, Inputs: ids}
	if dataset != nil {
		t.DatasetID = dataset.ID
		if declared, err = rulebookOf(ctx, a.store.DB, dataset.ID, plan.Name); err != nil {
			return nil, nil, nil, err
		}
	}
	book := declared
	if book == nil {
		book = rulebook.Draft(plan.Name, &detect.Detection{Reading: intake.Standard()}, written.Columns())
	}
	if err := merge.Verify(ctx, written, book, accounting, a.Workers); err != nil {
		return nil, nil, nil, err
	}
	err = keepBeside(ctx, []aside{{len(accounting.Estimates) > 0, to.marks, &t.Marks}, {accounting.Unmet > 0, to.unmet, &t.Unmet}, {true, to.sources, &t.RowMap}})
	return t, accounting, declared, err
}

func (a *attempt) inputs(ctx context.Context, plan *merge.Plan, wanted mergeInputs) (inputs merge.Inputs, ids []int64, err error) {
	for _, name := range plan.Datasets() {
		for _, id := range wanted.Tables[name] {
			t, err := store.FindTable(ctx, a.store.DB, id)
			if err != nil {
				return nil, nil, err
			}
			in, err := a.input(ctx, t)
			if err != nil {
				return nil, nil, err
			}
			inputs, ids = append(inputs, *in), append(ids, t.ID)
			a.tells(in, t.Bytes*plan.Readings(name))
		}
	}
	return inputs, ids, nil
}

// tells has the job tell how far the reading of a table is, one of several that are read one after the other; bytes is how many
// will be read of it in all.
func (a *attempt) tells(in *merge.Input, bytes int64) {
	file, ok := in.Source.(*intake.File)
	if !ok {
		return
	}
	a.total.Add(bytes)
	var last, rows int64 // of this table
	file.OnProgress = func(bytes, n int64) {
		if bytes < last { // another reading began
			last, rows = 0, 0
		}
		a.done.Add(bytes - last)
		a.rows.Add(n - rows)
		last, rows = bytes, n
	}
}

// input opens a table that takes part in a merge.
func (a *attempt) input(ctx context.Context, t *records.Table) (*merge.Input, error) {
	book, err := rulebookOf(ctx, a.store.DB, t.DatasetID, t.Dataset)
	if err != nil {
		return nil, err
	}
	source, book, err := OpenTable(ctx, a.files, t, book)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.Dataset, err)
	}
	file := t.FileName
	if t.ParentID != nil {
		delivery, err := store.FindTable(ctx, a.store.DB, *t.ParentID)
		if err != nil {
			return nil, err
		}
		file = delivery.FileName
	}
	return &merge.Input{Dataset: t.Dataset, Table: t.ID, Name: file, Source: source, Book: book, Digest: t.Digest}, nil
}

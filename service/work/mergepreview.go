package work

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// mergePreviewKind is the kind of job that works out what a merge would do.
const mergePreviewKind = "preview_merge"

func init() {
	register(kind{work: previewMerge}, func(j ofJob) mergePreviewArgs { return mergePreviewArgs{j} })
}

// mergePreviewArgs are what the queue carries for the preview of a merge.
type mergePreviewArgs struct{ ofJob }

// Kind implements river.JobArgs.
func (mergePreviewArgs) Kind() string { return mergePreviewKind }

// MergePreview is what a merge would do: it was done, and nothing of it is recorded.
type MergePreview struct {
	// Refused is why the merge would be refused, since rows find no partner in a join; empty where it would not. The accounting is
	// then that of a merge in which such rows are kept, and says why they do not meet.
	Refused    string            `json:"refused,omitempty"`
	Accounting *merge.Accounting `json:"accounting"`
	Sample     MergedSample      `json:"sample"`
	// Audit is what the rulebook of the merged dataset would find; nil where it has none.
	Audit *audit.Result `json:"audit,omitempty"`
}

// MergedSample are the first rows of what a merge would make, with where each is from.
type MergedSample struct {
	Columns []string         `json:"columns"` // those that joins add stand first
	Added   []string         `json:"added"`   // and are these
	Rows    [][]string       `json:"rows"`
	From    [][]merge.Origin `json:"from"` // of each row
}

// sampled is how many rows of a merged table are shown before it is made.
const sampled = 20

// AddMergePreview records and queues the preview of a merge, saved or not. The job is one of the dataset that is stacked first:
// the merged one may not be there yet.
func (p *Pool) AddMergePreview(ctx context.Context, tx *sqlx.Tx, first int64, source string, tables MergeTables, person int64) (*records.Job, error) {
	return p.Add(ctx, tx, store.NewJob{Kind: mergePreviewKind, DatasetID: first, Detail: mergeInputs{Tables: tables, Source: source}, CreatedBy: person})
}

// previewMerge makes the table that the merge would make, and audits it. No record speaks of what was written, so that it is
// swept up.
func previewMerge(ctx context.Context, a *attempt) error {
	var detail mergeInputs
	if err := json.Unmarshal(a.job.Detail, &detail); err != nil {
		return err
	}
	plan, err := merge.Parse([]byte(detail.Source))
	if err != nil {
		return err
	}
	shown := MergePreview{}
	to, err := a.mergedFiles()
	if err != nil {
		return err
	}
	defer func() { to.discard() }()
	t, accounting, book, err := a.merged(ctx, plan, detail, to)
	var notMet *merge.NotMetError
	if errors.As(err, &notMet) {
		shown.Refused = err.Error()
		to.discard()
		if to, err = a.mergedFiles(); err != nil {
			return err
		}
		t, accounting, book, err = a.merged(ctx, plan.Whatever(), detail, to)
	}
	if err != nil {
		return err
	}
	shown.Accounting = accounting
	if shown.Sample, err = a.sample(ctx, t, accounting); err != nil {
		return err
	}
	if book != nil {
		reading, err := json.Marshal(accounting.Reading)
		if err != nil {
			return err
		}
		ahead := &records.Table{ID: math.MaxInt64, Dataset: plan.Name, DatasetID: t.DatasetID, Origin: t.Origin, Digest: t.Digest, Bytes: t.Bytes,
			FileName: t.FileName, Marks: t.Marks, Reading: (*json.RawMessage)(&reading)}
		if shown.Audit, err = a.judge(ctx, ahead, book); err != nil {
			return err
		}
	}
	return a.finish(ctx, func(*sqlx.Tx) (any, *int64, error) { return shown, nil, nil })
}

// sample reads the first rows of a merged table, with where they are from.
func (a *attempt) sample(ctx context.Context, t *store.NewTable, accounting *merge.Accounting) (s MergedSample, err error) {
	written, err := intake.Open(ctx, files.At(a.files, t.Digest), intake.Standard())
	if err != nil {
		return s, err
	}
	names := written.Columns()
	var order []int
	s.Added, s.Columns, s.Rows, s.From = []string{}, []string{}, [][]string{}, [][]merge.Origin{}
	for _, j := range accounting.Joins {
		for _, taken := range j.Taken {
			s.Added = append(s.Added, taken.Column)
			order = append(order, slices.Index(names, taken.Column))
		}
	}
	for c := range names {
		if !slices.Contains(order, c) {
			order = append(order, c)
		}
	}
	for _, c := range order {
		s.Columns = append(s.Columns, names[c])
	}
	first := table.NewRowSet()
	first.AddRange(1, sampled+1)
	err = table.Scan(ctx, table.Where(written, first), 1, func(b *table.Batch) ([][]string, error) {
		var rows [][]string
		for i, row := range b.Rows {
			if row > sampled {
				break
			}
			cells := make([]string, len(order))
			for k, c := range order {
				cells[k] = b.Columns[c].At(i)
			}
			rows = append(rows, cells)
		}
		return rows, nil
	}, func(rows [][]string) error {
		s.Rows = append(s.Rows, rows...)
		return nil
	})
	if err != nil {
		return s, err
	}
	in, err := a.files.Open(*t.RowMap)
	if err != nil {
		return s, err
	}
	defer in.Close()
	for row := range s.Rows {
		from, err := merge.ReadSourced(in, in.Size(), int64(row)+1)
		if err != nil {
			return s, err
		}
		s.From = append(s.From, accounting.Origins(from, ""))
	}
	return s, nil
}

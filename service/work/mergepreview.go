package work

import (
	"context"
	"encoding/json"
	"math"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/merge"
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
	Accounting *merge.Accounting `json:"accounting"`
	// Audit is what the rulebook of the merged dataset would find; nil where it has none.
	Audit *audit.Result `json:"audit,omitempty"`
}

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
	t, accounting, book, err := a.merged(ctx, plan, detail)
	if err != nil {
		return err
	}
	shown := MergePreview{Accounting: accounting}
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

package work

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// PlanPreview is what a fix plan would do, and what would become of the merges that take the table that it makes.
type PlanPreview struct {
	fix.Preview
	Merges []MergeThen `json:"merges"`
}

// MergeThen is a merge with what it did with the tables that there are, and what it would do with one that a fix plan makes.
type MergeThen struct {
	Merge string `json:"merge"`
	// Now is of the newest merged table; nil where there is none.
	Now *merge.Accounting `json:"now,omitempty"`
	// Then is what it would do, and Refused why it would do nothing, or is not tried.
	Then    *merge.Accounting `json:"then,omitempty"`
	Refused string            `json:"refused,omitempty"`
}

// triedBytes is how large the tables of a merge may be together for it to be tried while a fix plan is looked at.
const triedBytes = 256 << 20

// mergesThen tries the merges that take a dataset with a table of it that is only looked at.
func (a *attempt) mergesThen(ctx context.Context, ahead *records.Table) ([]MergeThen, error) {
	all, err := store.NewestMerges(ctx, a.store.DB)
	if err != nil {
		return nil, err
	}
	out := []MergeThen{}
	for i := range all {
		plan, err := merge.Parse([]byte(all[i].Source))
		if err != nil || !slices.Contains(plan.Datasets(), ahead.Dataset) {
			continue
		}
		one := MergeThen{Merge: plan.Name}
		newest, err := store.OrNil(store.NewestMerged(ctx, a.store.DB, all[i].DatasetID, plan.Name))
		if err != nil {
			return nil, err
		}
		if newest != nil {
			one.Now = &merge.Accounting{}
			if err := json.Unmarshal(*newest.Accounting, one.Now); err != nil {
				return nil, err
			}
		}
		if one.Then, err = a.mergeThen(ctx, plan, ahead); err != nil {
			if ctx.Err() != nil || store.Passing(err) {
				return nil, err
			}
			one.Refused = err.Error()
		}
		out = append(out, one)
	}
	return out, nil
}

// mergeThen runs a merge with a table that is only looked at, and throws away what it makes.
func (a *attempt) mergeThen(ctx context.Context, plan *merge.Plan, ahead *records.Table) (*merge.Accounting, error) {
	var inputs merge.Inputs
	var bytes int64
	for _, name := range plan.Datasets() {
		tables, err := a.tablesThen(ctx, plan, name, ahead)
		if err != nil {
			return nil, err
		}
		for _, t := range tables {
			bytes += t.Bytes
			in, err := a.input(ctx, t)
			if err != nil {
				return nil, err
			}
			if t == ahead {
				in.Table = 0
			}
			inputs = append(inputs, *in)
		}
	}
	if bytes > triedBytes {
		return nil, fmt.Errorf("its tables are too large to be tried while a fix plan is looked at; once the plan is applied the merge can be previewed")
	}
	out, err := a.files.Create()
	if err != nil {
		return nil, err
	}
	defer out.Discard()
	return merge.Run(ctx, plan, inputs, a.Workers, merge.Outputs{Table: out})
}

// tablesThen are the tables of a dataset that would take part.
func (a *attempt) tablesThen(ctx context.Context, plan *merge.Plan, name string, ahead *records.Table) ([]*records.Table, error) {
	chosen := plan.Tables[name]
	if name == ahead.Dataset && chosen == (merge.Choice{}) {
		return []*records.Table{ahead}, nil
	}
	var ids []int64
	var err error
	if name != ahead.Dataset {
		ids, err = tablesOf(ctx, a.store.DB, plan, name, nil)
	} else {
		var d *records.Dataset
		if d, err = store.FindDataset(ctx, a.store.DB, name); err == nil {
			ids, err = cleaned(ctx, a.store.DB, d, chosen, ahead)
		}
	}
	if err != nil {
		return nil, err
	}
	out := make([]*records.Table, len(ids))
	for i, id := range ids {
		if id == math.MaxInt64 { // the one that is looked at
			out[i] = ahead
			continue
		}
		if out[i], err = store.FindTable(ctx, a.store.DB, id); err != nil {
			return nil, err
		}
	}
	return out, nil
}

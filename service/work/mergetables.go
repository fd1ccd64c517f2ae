package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/merge"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// MergeTables are the tables of each dataset that take part in a merge, by their numbers.
type MergeTables map[string][]int64

// UnmarshalJSON reads what earlier versions wrote too: one number for each dataset.
func (m *MergeTables) UnmarshalJSON(raw []byte) error {
	var each map[string]json.RawMessage
	if err := json.Unmarshal(raw, &each); err != nil {
		return err
	}
	*m = MergeTables{}
	for dataset, one := range each {
		var ids []int64
		if err := json.Unmarshal(one, &ids); err != nil {
			ids = make([]int64, 1)
			if err := json.Unmarshal(one, &ids[0]); err != nil {
				return err
			}
		}
		(*m)[dataset] = ids
	}
	return nil
}

// UnfitError says why a table cannot take part in a merge.
type UnfitError struct{ says string }

// Error implements error.
func (e *UnfitError) Error() string { return e.says }

func unfit(format string, args ...any) error { return &UnfitError{fmt.Sprintf(format, args...)} }

// TablesFor settles which tables take part in a merge: those that are given, and of the datasets for which none are those that the
// merge declares, the newest where it does not. Its error is an *UnfitError where a table that is given, or would have to take
// part, cannot.
func TablesFor(ctx context.Context, q store.Querier, plan *merge.Plan, given map[string][]int64) (MergeTables, error) {
	tables := MergeTables{}
	for _, name := range plan.Datasets() {
		var err error
		if tables[name], err = tablesOf(ctx, q, plan, name, given[name]); err != nil {
			return nil, err
		}
	}
	for name := range given {
		if _, ok := tables[name]; !ok {
			return nil, unfit("The merge %s does not read the dataset %q.", plan.Name, name)
		}
	}
	return tables, nil
}

// tablesOf settles which tables of one dataset take part.
func tablesOf(ctx context.Context, q store.Querier, plan *merge.Plan, name string, given []int64) ([]int64, error) {
	d, err := store.FindDataset(ctx, q, name)
	if err != nil {
		return nil, err
	}
	switch chosen := plan.Tables[name]; {
	case len(given) > 0:
		for _, id := range given {
			if err := fits(ctx, q, d, id); err != nil {
				return nil, err
			}
		}
		return slices.Clone(given), nil
	case chosen != merge.Choice{}:
		return cleaned(ctx, q, d, chosen, nil)
	}
	t, err := store.NewestCleaned(ctx, q, d.ID, name)
	if err != nil {
		return nil, err
	}
	return []int64{t.ID}, nil
}

func fits(ctx context.Context, q store.Querier, d *records.Dataset, id int64) error {
	t, err := store.FindTable(ctx, q, id)
	if err != nil {
		return err
	}
	if t.WithdrawnAt != nil {
		return unfit("Table %d was withdrawn: %s", id, *t.Withdrawn)
	}
	if t.DatasetID != d.ID || t.Origin == store.OriginDelivery {
		return unfit("Table %d is not a cleaned table of %s.", id, d.Name)
	}
	return nil
}

// cleaned are the newest tables that were made of those deliveries of a dataset that are chosen; ahead is one that is looked at
// before it is made, and stands for what was made of its delivery before. Nil for none.
func cleaned(ctx context.Context, q store.Querier, d *records.Dataset, chosen merge.Choice, ahead *records.Table) ([]int64, error) {
	all, err := store.Cleanings(ctx, q, d.ID)
	if err != nil {
		return nil, err
	}
	arrived := make([]merge.Arrived, len(all))
	for i, one := range all {
		arrived[i] = merge.Arrived{Day: one.Arrived.UTC().Format(time.DateOnly), File: one.File}
	}
	ids := []int64{}
	for _, at := range chosen.Of(arrived) {
		one := all[at]
		if ahead != nil && one.Delivery == *ahead.ParentID {
			one.Table = &ahead.ID
		}
		if one.Table == nil {
			return nil, unfit("Delivery %d of %s (%s) takes part, and nothing is cleaned of it yet; apply a fix plan to it first, or withdraw it.", one.Delivery, d.Name, one.File)
		}
		ids = append(ids, *one.Table)
	}
	if len(ids) == 0 {
		return nil, unfit("No delivery of %s is among those that the merge takes; %d arrived.", d.Name, len(all))
	}
	return ids, nil
}

// reaches reports whether a merge takes, itself or by way of others, tables of a dataset.
func reaches(takes map[string][]string, from, to string, seen map[string]bool) bool {
	for _, dataset := range takes[from] {
		if dataset == to {
			return true
		}
		if seen[dataset] {
			continue
		}
		if seen[dataset] = true; reaches(takes, dataset, to, seen) {
			return true
		}
	}
	return false
}

// keepMerged begins the merges that are kept up and take a table, once it was audited. Where one must wait, its job says why.
func (a *attempt) keepMerged(ctx context.Context, tx *sqlx.Tx, t *records.Table, result *audit.Result) error {
	if t.Origin == store.OriginDelivery {
		return nil
	}
	kept, err := store.KeptMerges(ctx, tx)
	if err != nil {
		return err
	}
	takes := map[string][]string{}
	plans := make([]*merge.Plan, len(kept))
	for i := range kept {
		if plans[i], err = merge.Parse([]byte(kept[i].Source)); err == nil {
			takes[plans[i].Name] = plans[i].Datasets()
		}
	}
	for i := range kept {
		d, plan := &kept[i], plans[i]
		if plan == nil || !slices.Contains(plan.Datasets(), t.Dataset) {
			continue
		}
		tables, err := TablesFor(ctx, tx, plan, nil)
		var cannot *UnfitError
		detail := mergeInputs{Tables: tables}
		switch {
		case reaches(takes, plan.Name, plan.Name, map[string]bool{}):
			detail.Waits = fmt.Sprintf("%s takes tables that are made of its own, so that it would never end", plan.Name)
		case result.FellShort():
			detail.Waits = fmt.Sprintf("table %d of %s fell short of its rulebook", t.ID, t.Dataset)
		case errors.As(err, &cannot), errors.Is(err, store.ErrNotFound):
			detail.Waits = err.Error()
		case err != nil:
			return err
		case !slices.Contains(tables[t.Dataset], t.ID):
			continue // an older delivery was cleaned again
		default:
			switch made, err := store.MadeOf(ctx, tx, d.ID, slices.Concat(slices.Collect(maps.Values(tables))...)); {
			case err != nil:
				return err
			case made:
				continue
			}
		}
		if _, err := a.addMerge(ctx, tx, d, detail, a.job.CreatedByID); err != nil {
			return err
		}
		err = store.Record(ctx, tx, a.job.CreatedByID, "a kept merge was begun", "merge "+d.Name, map[string]any{"table": t.ID, "version": d.Version, "waits": detail.Waits})
		if err != nil {
			return err
		}
	}
	return nil
}

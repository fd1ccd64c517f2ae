// Package propose drafts a rulebook from deliveries: how they are read, what is in their
// columns, which of these look like keys, codes and measures, each with its evidence.
package propose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
)

// Delivery is a file to learn from.
type Delivery struct {
	Name string
	Open content.Opener
}

// Rulebook proposes a rulebook for a dataset from its deliveries, the last one first. Where
// readings differ, that of the last delivery holds. Others are datasets that it may refer to.
func Rulebook(ctx context.Context, dataset string, deliveries []Delivery, others []Other, fixed intake.Reading,
	workers int) (*Proposal, error) {
	e := &evidence{Dataset: dataset}
	for i, d := range deliveries {
		var file *intake.File
		if i == 0 {
			detected, err := detect.Detect(ctx, d.Open, fixed)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", d.Name, err)
			}
			e.Reading, e.Draft = detected.Reading, rulebook.Draft(dataset, detected, detected.File.Columns())
			e.Draft.Expect(rulebook.EqualRowsID, rulebook.Note)
			file = detected.File
		} else {
			var err error
			if file, err = intake.Open(ctx, d.Open, e.Reading); err != nil {
				return nil, fmt.Errorf("%s: %w", d.Name, err)
			}
			if !e.knows(file.Columns()) {
				if file, err = e.byOldNames(ctx, d, file, workers); err != nil {
					return nil, fmt.Errorf("%s: %w", d.Name, err)
				}
			}
		}
		err := learn(ctx, e, file, i == 0, workers)
		if err == nil && i == 0 {
			err = e.refer(ctx, file, others, workers)
		}
		err = errors.Join(err, file.Close())
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	return draft(e), nil
}

// byOldNames opens an earlier delivery again where some of its columns have other names now, and notes these.
func (e *evidence) byOldNames(ctx context.Context, d Delivery, file *intake.File, workers int) (*intake.File, error) {
	result, err := audit.Run(ctx, file, e.Draft, workers)
	if err != nil {
		return file, err
	}
	before := result.Past()
	was := renamed(&e.Past[0], &before)
	if len(was) == 0 {
		return file, nil
	}
	maps.Copy(was, e.Reading.Renamed)
	e.Reading.Renamed = was
	if err := file.Close(); err != nil {
		return file, err
	}
	return intake.Open(ctx, d.Open, e.Reading)
}

// knows reports whether the last delivery has columns of these names.
func (e *evidence) knows(names []string) bool {
	return !slices.ContainsFunc(names, func(name string) bool { return e.Past[0].Column(name) == nil })
}

// was lists the names that a column had.
func (e *evidence) was(column string) (names []string) {
	for _, before := range slices.Sorted(maps.Keys(e.Reading.Renamed)) {
		if e.Reading.Renamed[before] == column {
			names = append(names, before)
		}
	}
	return names
}

func learn(ctx context.Context, e *evidence, file *intake.File, last bool, workers int) error {
	result, err := audit.Run(ctx, file, e.Draft, workers)
	if err != nil {
		return err
	}
	e.Past = append(e.Past, result.Past())
	if last {
		e.Draft = result.Book()
		if err := result.LookAgain(ctx, file, workers); err != nil {
			return err
		}
		e.Leads = result.Leads
	}
	for _, f := range result.Findings {
		if f.Kind == rulebook.EqualRowsID {
			e.EqualRows += f.Rows
		}
	}
	keys, err := relation.Keys(ctx, &relation.Table{Source: file, Book: e.Draft, Workers: workers}, result.Rows, result.KeyCandidates())
	if err != nil {
		return err
	}
	if !last {
		e.Keys = inBoth(e.Keys, keys)
		return nil
	}
	for i := range result.Columns {
		switch c := &result.Columns[i]; c.Role {
		case audit.RoleMeasure:
			e.Measures = append(e.Measures, c.Name)
		case audit.RoleCategory:
			e.Dimensions = append(e.Dimensions, c.Name)
		}
	}
	for _, k := range keys {
		e.Keys = append(e.Keys, seenKey{k.Columns, k.Surplus, k.Lacking, k.FirstRows})
	}
	// A column of measurements may differ from row to row; it names nothing.
	e.Keys = slices.DeleteFunc(e.Keys, func(k seenKey) bool {
		return slices.ContainsFunc(k.Columns, func(name string) bool { return slices.Contains(e.Measures, name) })
	})
	return nil
}

// inBoth keeps the keys that another delivery has too, with the rows that speak against them there.
func inBoth(keys []seenKey, others []relation.Key) []seenKey {
	var out []seenKey
	for _, k := range keys {
		for _, o := range others {
			if slices.Equal(k.Columns, o.Columns) {
				out = append(out, seenKey{k.Columns, k.Surplus + o.Surplus, k.Lacking + o.Lacking, k.FirstRows})
			}
		}
	}
	return out
}

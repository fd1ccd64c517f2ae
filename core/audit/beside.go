package audit

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Bound returns the rulebook with the codes that it takes from other datasets.
func Bound(ctx context.Context, book *rulebook.Rulebook, workers int) (*rulebook.Rulebook, error) {
	if book.Beside == nil || book.Beside.Open == nil {
		return book, nil
	}
	whole := book.With(func(e rulebook.Elsewhere) ([]string, error) {
		texts := map[string]bool{}
		err := scanElsewhere(ctx, book, e.Dataset, workers, func(b rulebook.Batch) ([]string, error) {
			return distinct(b, e)
		}, func(found []string) error {
			for _, text := range found {
				texts[text] = true
			}
			if len(texts) > rulebook.ElsewhereLimit {
				return rulebook.ErrTooMany
			}
			return nil
		})
		return slices.Sorted(maps.Keys(texts)), err
	})
	return whole, ctx.Err()
}

// distinct lists the texts of a batch's column that stand for something.
func distinct(b rulebook.Batch, e rulebook.Elsewhere) ([]string, error) {
	at, err := placesOf(b.Names, e.Dataset, e.Columns)
	if err != nil {
		return nil, err
	}
	column, cells := b.Columns[at[0]], b.Cells[at[0]]
	var found []string
	for code, n := range column.Counts(nil) {
		if text := column.Texts[code]; n > 0 && !cells.Read(text).Missing {
			found = append(found, strings.Clone(text))
		}
	}
	return found, nil
}

func placesOf(names []string, dataset string, columns []string) ([]int, error) {
	at := make([]int, len(columns))
	for i, name := range columns {
		if at[i] = slices.Index(names, name); at[i] < 0 {
			return nil, fmt.Errorf("the dataset %s has no column %q", dataset, name)
		}
	}
	return at, nil
}

// readElsewhere reads what a rule needs of the rows of another dataset, in file order.
func readElsewhere(ctx context.Context, book *rulebook.Rulebook, dataset string, needs rulebook.Needs, workers int,
	take func([]rulebook.TableRow) error) error {
	columns := needs.Group
	if needs.Value != "" {
		columns = append(slices.Clone(columns), needs.Value)
	}
	return scanElsewhere(ctx, book, dataset, workers, func(b rulebook.Batch) ([]rulebook.TableRow, error) {
		if _, err := placesOf(b.Names, dataset, columns); err != nil {
			return nil, err
		}
		return rowsFor(needs, b), nil
	}, take)
}

// scanElsewhere reads the table of another dataset, in file order.
func scanElsewhere[T any](ctx context.Context, book *rulebook.Rulebook, dataset string, workers int,
	work func(b rulebook.Batch) (T, error), take func(T) error) error {
	if book.Beside == nil || book.Beside.Open == nil {
		return fmt.Errorf("the dataset %s is not at hand", dataset)
	}
	source, other, err := book.Beside.Open(ctx, dataset)
	if err != nil {
		return err
	}
	names := source.Columns()
	cells := make([]*rulebook.Cells, len(names))
	for c, name := range names {
		cells[c] = other.Cells(name)
	}
	return table.ScanBatches(ctx, source, workers, func(b *table.Batch) (T, error) {
		return work(rulebook.Batch{Batch: b, Names: names, Cells: cells})
	}, take)
}

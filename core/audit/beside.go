package audit

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// elsewhereLimit bounds the keys, codes and groups of another dataset that are held in memory.
const elsewhereLimit = 5_000_000

// Bound returns the rulebook with the codes that it takes from other datasets.
func Bound(ctx context.Context, book *rulebook.Rulebook, workers int) (*rulebook.Rulebook, error) {
	if book.Beside == nil || book.Beside.Open == nil {
		return book, nil
	}
	whole := book.With(func(e rulebook.Elsewhere) ([]string, error) {
		texts := map[string]bool{}
		err := readElsewhere(ctx, book, e, workers, func(b *table.Batch, columns []*rulebook.Cells, at []int) (map[string]bool, error) {
			found := map[string]bool{}
			for code, n := range b.Columns[at[0]].Counts(nil) {
				if text := b.Columns[at[0]].Texts[code]; n > 0 && !columns[0].Read(text).Missing {
					found[text] = true
				}
			}
			return found, nil
		}, func(found map[string]bool) error {
			if maps.Copy(texts, found); len(texts) > elsewhereLimit {
				return errTooMany
			}
			return nil
		})
		return slices.Sorted(maps.Keys(texts)), err
	})
	return whole, ctx.Err()
}

var errTooMany = fmt.Errorf("there are more than %s different ones", Grouped(elsewhereLimit))

// readElsewhere reads columns of another dataset, in file order.
func readElsewhere[T any](ctx context.Context, book *rulebook.Rulebook, e rulebook.Elsewhere, workers int, work func(b *table.Batch, columns []*rulebook.Cells, at []int) (T, error), take func(T) error) error {
	if book.Beside == nil || book.Beside.Open == nil {
		return fmt.Errorf("the dataset %s is not at hand", e.Dataset)
	}
	source, other, err := book.Beside.Open(ctx, e.Dataset)
	if err != nil {
		return err
	}
	columns, at := make([]*rulebook.Cells, len(e.Columns)), make([]int, len(e.Columns))
	for i, name := range e.Columns {
		if at[i] = slices.Index(source.Columns(), name); at[i] < 0 {
			return fmt.Errorf("the dataset %s has no column %q", e.Dataset, name)
		}
		columns[i] = other.Cells(name)
	}
	return table.Scan(ctx, source, workers, func(b *table.Batch) (T, error) { return work(b, columns, at) }, take)
}

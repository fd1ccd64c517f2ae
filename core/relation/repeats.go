package relation

import (
	"context"
	"errors"
	"slices"

	"proudsieve/core/table"
)

// Repeats asks which rows repeat an earlier one.
type Repeats struct {
	Columns []string // by which rows are the same; none for every cell to the letter
	// Levelled makes texts the same that differ in case, spaces, accents and punctuation alone.
	Levelled bool
}

// Repeated says which rows do.
type Repeated struct {
	Groups  int64 // of rows that are the same
	Surplus int64 // rows beyond the first of each group
	Lacking int64 // rows in which a column is missing, which are in no group
	// FirstRows are some of the surplus rows.
	FirstRows []uint32
}

// firstRows is how many rows are named.
const firstRows = 20

// CountRepeats answers several such questions in one reading, with a hash for every row and question at hand; beyond
// the memory they may take they go to disk.
func CountRepeats(ctx context.Context, t *Table, asked []Repeats) ([]Repeated, error) {
	at := make([][]int, len(asked))
	groups, room := make([]*table.Groups, len(asked)), table.NewRoom(3)
	out := make([]Repeated, len(asked))
	var all, texts []int // texts are those of whole rows
	for s, a := range asked {
		if len(a.Columns) == 0 {
			texts = t.every()
		}
		positions, err := t.positions(a.Columns)
		if err != nil {
			return nil, err
		}
		at[s], groups[s], out[s].FirstRows = positions, table.NewGroups(room), []uint32{}
		defer groups[s].Close()
		for _, c := range positions {
			if !slices.Contains(all, c) {
				all = append(all, c)
			}
		}
	}
	type hashed struct {
		rows    []table.HashedRows
		lacking []int64
	}
	begin := func() *hashed { return &hashed{make([]table.HashedRows, len(asked)), make([]int64, len(asked))} }
	work := func(h *hashed, r *Readers, b *table.Batch) {
		for s, a := range asked {
			for k, row := range b.Rows {
				if len(a.Columns) == 0 {
					h.rows[s].Add(table.HashRow(b, k), row)
					continue
				}
				var hash table.Hash
				whole := true
				for _, c := range at[s] {
					cell := r.Cell(b, slices.Index(all, c), k)
					whole = whole && !cell.Missing
					text := cell.Identity(b.Columns[c].At(k))
					if a.Levelled {
						if folded := table.Fold(text); folded != "" {
							text = folded
						}
					}
					hash = table.With(hash, table.TokenOf(text))
				}
				if !whole {
					h.lacking[s]++
					continue
				}
				h.rows[s].Add(hash, row)
			}
		}
	}
	var failed error
	if err := scanTexts(ctx, t, all, texts, begin, work, func(h *hashed) {
		for s := range asked {
			out[s].Lacking += h.lacking[s]
			failed = errors.Join(failed, groups[s].Take(&h.rows[s]))
		}
	}); err != nil {
		return nil, err
	}
	for s := range asked {
		failed = errors.Join(failed, groups[s].Repeated(t.Workers, func(_ table.Hash, rows []uint32) error {
			one := &out[s]
			one.Groups++
			one.Surplus += int64(len(rows)) - 1
			if len(one.FirstRows) < firstRows || rows[1] < one.FirstRows[firstRows-1] {
				one.FirstRows = append(one.FirstRows, rows[1:]...)
				slices.Sort(one.FirstRows)
				one.FirstRows = one.FirstRows[:min(len(one.FirstRows), firstRows)]
			}
			return nil
		}))
	}
	return out, failed
}

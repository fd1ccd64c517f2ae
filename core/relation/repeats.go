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

// exactAndFolded reads identities as they are, and levelled.
type exactAndFolded struct{ exact, folded *identities }

func (r *exactAndFolded) read(b *table.Batch) {
	r.exact.read(b)
	r.folded.read(b)
}

func (r *exactAndFolded) forget(column int) {
	r.exact.forget(column)
	r.folded.forget(column)
}

// firstRows is how many rows are named.
const firstRows = 20

// CountRepeats answers several such questions in one reading, with a hash for every row and question at hand; beyond
// the memory they may take they go to disk.
func CountRepeats(ctx context.Context, t *Table, asked []Repeats) ([]Repeated, error) {
	return countRepeats(ctx, t, asked, 1)
}

// countRepeats is CountRepeats over the rows whose hash is one in share: the surplus counted is the least that there is, and what is
// lacking is counted whole.
func countRepeats(ctx context.Context, t *Table, asked []Repeats, share uint64) ([]Repeated, error) {
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
	// columnsOf are those that are asked for as they are, or levelled.
	columnsOf := func(levelled bool) (columns []int) {
		for s, a := range asked {
			for _, c := range at[s] {
				if a.Levelled == levelled && !slices.Contains(columns, c) {
					columns = append(columns, c)
				}
			}
		}
		return columns
	}
	type hashed struct {
		rows    []table.HashedRows
		lacking []int64
	}
	begin := func() *hashed {
		return &hashed{make([]table.HashedRows, len(asked)), make([]int64, len(asked))}
	}
	work := func(h *hashed, r *exactAndFolded, b *table.Batch) {
		for s, a := range asked {
			if len(a.Columns) == 0 {
				for k, row := range b.Rows {
					h.rows[s].Add(table.HashRow(b, k), row)
				}
				continue
			}
			by := r.exact
			if a.Levelled {
				by = r.folded
			}
			hashes, missing := by.hash(b, at[s])
			for k, row := range b.Rows {
				switch hash := hashes[k]; {
				case missing[k]:
					h.lacking[s]++
				case hash.Lo>>32%share == 0:
					h.rows[s].Add(hash, row)
				}
			}
		}
	}
	var failed error
	read := func() *exactAndFolded {
		return &exactAndFolded{t.identities(columnsOf(false), nil), t.identities(columnsOf(true), folded)}
	}
	if err := scanWith(ctx, t, slices.Concat(all, texts), read, begin, work, func(h *hashed) {
		for s := range asked {
			out[s].Lacking += h.lacking[s]
			failed = errors.Join(failed, groups[s].Take(&h.rows[s]))
		}
	}); err != nil {
		return nil, err
	}
	for s := range asked {
		one := &out[s]
		var err error
		one.Groups, one.Surplus, one.FirstRows, err = groups[s].RepeatedRows(t.Workers, firstRows)
		failed = errors.Join(failed, err)
	}
	return out, failed
}

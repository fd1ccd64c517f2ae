// Package relation describes what columns have to do with one another: correlations,
// which other columns a column's gaps go with, and which columns together name a row. Each question is a reading of the table of its own, since none
// but a person who asks it needs the answer.
//
// To add a question, write a file with what it answers and a function of a Table: Scan gives it
// the batches, sweeping (rows.go, groups.go) what rows are meant. It runs in the background of
// nothing: service/api gives it a slot, a share of memory and a time, and remembers the answer.
package relation

import (
	"context"
	"fmt"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Table is a table with the rulebook by which its cells are read.
type Table struct {
	Source  table.Source
	Book    *rulebook.Rulebook
	Workers int
}

// position returns where a column stands.
func (t *Table) position(name string) (int, error) {
	at := slices.Index(t.Source.Columns(), name)
	if at < 0 {
		return 0, fmt.Errorf("the table has no column %q", name)
	}
	return at, nil
}

// every returns the place of every column.
func (t *Table) every() []int {
	at := make([]int, len(t.Source.Columns()))
	for c := range at {
		at[c] = c
	}
	return at
}

func (t *Table) positions(names []string) ([]int, error) {
	out := make([]int, len(names))
	for i, name := range names {
		at, err := t.position(name)
		if err != nil {
			return nil, err
		}
		out[i] = at
	}
	return out, nil
}

// NumberColumns returns the columns whose type is one of numbers.
func (t *Table) NumberColumns() []string {
	var out []string
	for _, name := range t.Source.Columns() {
		if t.Book.Cells(name).Type.IsNumber() {
			out = append(out, name)
		}
	}
	return out
}

// Readers reads the cells of some columns, each text once for a stretch.
type Readers struct {
	at    []int
	cells []*rulebook.Cells
	known [][]rulebook.Cell // per column, per code
}

// Types returns the type of every column, declared or not.
func (t *Table) Types() map[string]table.Type {
	types := map[string]table.Type{}
	for _, name := range t.Source.Columns() {
		types[name] = t.Book.Cells(name).Type
	}
	return types
}

func (t *Table) readers(at []int) *Readers {
	r := &Readers{at: at, known: make([][]rulebook.Cell, len(at))}
	for _, c := range at {
		r.cells = append(r.cells, t.Book.Cells(t.Source.Columns()[c]))
	}
	return r
}

// read reads the texts that a batch brought.
func (r *Readers) read(b *table.Batch) {
	for i, c := range r.at {
		texts := b.Columns[c].Texts
		for code := len(r.known[i]); code < len(texts); code++ {
			r.known[i] = append(r.known[i], r.cells[i].Read(texts[code]))
		}
	}
}

// forget implements reader.
func (r *Readers) forget(column int) {
	if i := slices.Index(r.at, column); i >= 0 {
		r.known[i] = r.known[i][:0]
	}
}

// Cell returns the cell of the i-th column in row k of the batch.
func (r *Readers) Cell(b *table.Batch, i, k int) *rulebook.Cell {
	return &r.known[i][b.Columns[r.at[i]].Codes[k]]
}

// Known returns the cells that the texts of the i-th column in the dictionary of the batch stand for; its codes are their places.
func (r *Readers) Known(i int) []rulebook.Cell { return r.known[i] }

// Scan reads some columns of the table in stretches, each with a state of its own; take gets them in file order. The other
// columns of its batches have no cells.
func Scan[S any](ctx context.Context, t *Table, at []int, begin func() S, work func(S, *Readers, *table.Batch),
	take func(S)) error {
	return scanWith(ctx, t, at, func() *Readers { return t.readers(at) }, begin, work, take)
}

// reader makes something of the texts of some columns, each once for a stretch.
type reader interface {
	// read goes on with the texts that a batch brought.
	read(b *table.Batch)
	// forget is called where the dictionary of a column of the table begins anew.
	forget(column int)
}

// scanWith is Scan with a reader of any kind; columns are those whose cells are asked for.
func scanWith[S any, R reader](ctx context.Context, t *Table, columns []int, read func() R, begin func() S, work func(S, R, *table.Batch),
	take func(S)) error {
	type state struct {
		own          S
		readers      R
		dictionaries []*table.Dictionary
		rows         int
	}
	fresh := func() (*state, []*table.Dictionary) {
		s := &state{own: begin(), readers: read(), dictionaries: make([]*table.Dictionary, len(t.Source.Columns()))}
		for _, c := range columns {
			s.dictionaries[c] = table.NewDictionary()
		}
		return s, s.dictionaries
	}
	judge := func(s *state, b *table.Batch) error {
		s.readers.read(b)
		work(s.own, s.readers, b)
		s.rows += b.Len()
		for c, d := range s.dictionaries {
			if d == nil {
				continue
			}
			switch {
			case d.Apart:
				s.readers.forget(c)
			case table.MostlyNew(len(d.Texts), s.rows, len(s.dictionaries)):
				s.readers.forget(c)
				d.Reset()
				d.Apart = true
			}
		}
		return nil
	}
	return table.ScanStretches(ctx, t.Source, t.Workers, fresh, judge, func(*state) error { return nil },
		func(s *state) error {
			take(s.own)
			return nil
		})
}

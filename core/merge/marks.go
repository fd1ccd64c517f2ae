package merge

import (
	"slices"

	"proudsieve/core/table"
)

// flags say, by the place of a column in a batch, which mark each row's cell has: its place among the marks from 1, 0 for
// none. Columns without any are left out.
type flags map[int][]int32

// gathered returns the flags of some rows, which may repeat.
func (f flags) gathered(rows []int) flags {
	out := flags{}
	for c, of := range f {
		now := make([]int32, len(rows))
		for k, row := range rows {
			now[k] = of[row]
		}
		out[c] = now
	}
	return out
}

// origin is a mark of an input with its place among those of the merged table.
type origin struct {
	column string // of the input
	rows   *table.RowSet
	place  int32
}

// marksOf takes up the marks of an input; name says what a column is called in the merged table, where it is in it.
func (m *merger) marksOf(in Input, name func(column string) (string, bool)) []origin {
	marks := table.MarksOf(in.Source)
	if marks == nil {
		return nil
	}
	var out []origin
	for _, how := range marks.All {
		called, taken := name(how.Column)
		if !taken {
			continue
		}
		now := how
		now.Column, now.Rows = called, nil
		at := slices.IndexFunc(m.marks, func(one table.Mark) bool {
			one.Rows = nil
			return one == now
		})
		if at < 0 {
			now.Rows = table.NewRowSet()
			at, m.marks = len(m.marks), append(m.marks, now)
		}
		out = append(out, origin{how.Column, how.Rows, int32(at + 1)})
	}
	return out
}

// flag flags rows of an input, by their numbers there, 0 for none; nil where none of their cells in a column is an estimate.
func flag(origins []origin, column string, rows func(at int) uint32, n int) []int32 {
	var out []int32
	for _, o := range origins {
		if o.column != column {
			continue
		}
		for at := range n {
			if row := rows(at); row > 0 && o.rows.Contains(row) {
				if out == nil {
					out = make([]int32, n)
				}
				out[at] = o.place
			}
		}
	}
	return out
}

// mark notes the flags of rows that follow on those written so far.
func (m *merger) mark(f flags, before int64) {
	for _, of := range f {
		for at, place := range of {
			if place > 0 {
				m.marks[place-1].Rows.Add(uint32(before) + uint32(at) + 1)
			}
		}
	}
}

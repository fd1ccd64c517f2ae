package audit

import (
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/table"
)

// judgeRows finds the rows of a batch that break a rule on rows.
func (s *stretch) judgeRows(b *table.Batch, i int) {
	found := &s.found[s.plan.rows[i]]
	rows := batchRows{s: s, b: b}
	found.undecided += s.rules[i](&rows, func(i int) { found.rows = append(found.rows, b.Rows[i]) })
}

// batchRows gives rules the typed values of a batch; it is a rulebook.Rows.
type batchRows struct {
	s     *stretch
	b     *table.Batch
	some  []int      // only these rows, by their index; nil for all
	codes [][]uint32 // of some, per column, once they were asked for
}

// Only implements rulebook.Rows.
func (r *batchRows) Only(some []int) condition.Rows {
	return &batchRows{r.s, r.b, some, make([][]uint32, len(r.b.Columns))}
}

// Len implements condition.Rows.
func (r *batchRows) Len() int {
	if r.some != nil {
		return len(r.some)
	}
	return r.b.Len()
}

// Values implements condition.Rows.
func (r *batchRows) Values(column string) ([]table.Value, []uint32) {
	at := slices.Index(r.s.plan.names, column)
	codes := r.b.Columns[at].Codes
	if r.some != nil {
		if r.codes[at] == nil {
			r.codes[at] = make([]uint32, len(r.some))
			for k, i := range r.some {
				r.codes[at][k] = codes[i]
			}
		}
		codes = r.codes[at]
	}
	return r.s.columns[at].values, codes
}

// Begun implements condition.LastingRows.
func (r *batchRows) Begun(column string) uint64 {
	at := slices.Index(r.s.plan.names, column)
	if r.s.dictionaries[at].Apart {
		return 0
	}
	return r.s.columns[at].begun
}

package relation

import (
	"cmp"
	"context"
	"math"
	"slices"

	"gonum.org/v1/gonum/mathext"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Gap says how far the gaps of a column go with the values of another one.
type Gap struct {
	Column string `json:"column"` // the other one
	// Strength is Cramér's V between "is missing" and the values of the other column, from 0
	// (the gaps are spread evenly over them) to 1 (they tell exactly where the gaps are).
	Strength float64 `json:"strength"`
	// Chance is how probable it is that gaps which are spread by chance lie at least as unevenly (Pearson's
	// chi-squared test of independence).
	Chance float64 `json:"chance"`
	// Values are those of the other column where the gaps are most frequent, compared with all rows.
	Values []GapValue `json:"values"`
}

// GapValue is a value of another column with the share of its rows in which the column is missing.
type GapValue struct {
	Value   string `json:"value"`
	Rows    int64  `json:"rows"`
	Missing int64  `json:"missing"`
}

const (
	gapValues      = 200 // a column with more different values is looked at by quarters of its numbers, if it has some
	gapValuesShown = 5
	// gapRowsPerValue is how many rows a value of the other column has on the average, at least: columns that name rows
	// tell where the gaps are, and nothing of why.
	gapRowsPerValue = 5
)

// gapCounts are the rows of a value of another column, and in how many of them the column is missing.
type gapCounts struct{ rows, missing int64 }

// gapTally counts them for each other column; nil for one of too many values.
type gapTally struct {
	columns []map[string]gapCounts
	numbers []scatter // of the columns of numbers
}

func (s *gapTally) add(i int, v string, c gapCounts) {
	m := s.columns[i]
	if m == nil {
		return
	}
	was, known := m[v]
	if !known && len(m) >= gapValues {
		s.columns[i] = nil
		return
	}
	m[v] = gapCounts{was.rows + c.rows, was.missing + c.missing}
}

// Gaps says with which other columns the gaps of a column go, the strongest first. Columns with few different values are
// looked at, and measures by quarters of their numbers.
func Gaps(ctx context.Context, t *Table, column string) ([]Gap, error) {
	names := t.Source.Columns()
	own, err := t.position(column)
	if err != nil {
		return nil, err
	}
	at := t.every()
	// tallied counts the columns that are asked for; name gives the value that a cell counts for. Their numbers are kept
	// where the quarters are not known yet.
	var quarters []*quartering
	tallied := func(asked func(i int) bool, name func(i int, text string, c *rulebook.Cell) string) (*gapTally, error) {
		begin := func() *gapTally {
			s := &gapTally{make([]map[string]gapCounts, len(names)), make([]scatter, len(names))}
			for i := range names {
				if i != own && asked(i) {
					s.columns[i] = map[string]gapCounts{}
				}
			}
			return s
		}
		work := func(s *gapTally, r *Readers, b *table.Batch) {
			for i := range names {
				if s.columns[i] == nil {
					continue
				}
				rows, missing := make([]int64, len(b.Columns[i].Texts)), make([]int64, len(b.Columns[i].Texts))
				for k, code := range b.Columns[i].Codes {
					rows[code]++
					if r.Cell(b, own, k).Missing {
						missing[code]++
					}
				}
				for code, n := range rows {
					if n > 0 {
						s.add(i, name(i, b.Columns[i].Texts[code], &r.known[i][code]), gapCounts{n, missing[code]})
					}
				}
			}
			for i := range names {
				for k, row := range b.Rows {
					if !r.cells[i].Type.IsNumber() || i == own || quarters != nil {
						break
					}
					if v := r.Cell(b, i, k).Value; v.Kind == table.Number {
						s.numbers[i].add(row, v.Number.Float())
					}
				}
			}
		}
		whole := begin()
		return whole, Scan(ctx, t, at, begin, work, func(s *gapTally) {
			for i := range names {
				if s.columns[i] == nil {
					whole.columns[i] = nil
				}
				for v, c := range s.columns[i] {
					whole.add(i, v, c)
				}
				whole.numbers[i].join(&s.numbers[i])
			}
		})
	}
	whole, err := tallied(func(int) bool { return true }, func(_ int, text string, c *rulebook.Cell) string {
		if c.Missing {
			return ""
		}
		return text
	})
	if err != nil {
		return nil, err
	}
	var any bool
	if quarters, any = quartersOf(t, own, whole); any {
		parted, err := tallied(func(i int) bool { return quarters[i] != nil }, func(i int, _ string, c *rulebook.Cell) string {
			switch {
			case c.Missing:
				return ""
			case c.Value.Kind != table.Number:
				return "no number"
			}
			return quarters[i].name(c.Value.Number.Float())
		})
		if err != nil {
			return nil, err
		}
		for i := range names {
			if quarters[i] != nil {
				whole.columns[i] = parted.columns[i]
			}
		}
	}
	out := []Gap{}
	for i, values := range whole.columns {
		if len(values) < 2 {
			continue
		}
		g := Gap{Column: names[i], Chance: 1}
		var all gapCounts
		for v, c := range values {
			all.rows += c.rows
			all.missing += c.missing
			g.Values = append(g.Values, GapValue{v, c.rows, c.missing})
		}
		// Chi-squared over n is V squared here, since one of the two has two values only.
		if all.rows < int64(len(values))*gapRowsPerValue {
			continue
		}
		share := float64(all.missing) / float64(all.rows)
		slices.SortFunc(g.Values, func(a, b GapValue) int {
			return cmp.Or(cmp.Compare(float64(b.Missing)/float64(b.Rows), float64(a.Missing)/float64(a.Rows)),
				cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Value, b.Value))
		})
		if share > 0 && share < 1 {
			chi := 0.0
			for _, v := range g.Values {
				off := float64(v.Missing)/float64(v.Rows) - share
				chi += float64(v.Rows) * off * off
			}
			g.Strength = math.Sqrt(chi / float64(all.rows) / (share * (1 - share)))
			degrees := float64(len(g.Values) - 1)
			g.Chance = mathext.GammaIncRegComp(degrees/2, chi/(share*(1-share))/2)
		}
		g.Values = g.Values[:min(len(g.Values), gapValuesShown)]
		out = append(out, g)
	}
	slices.SortStableFunc(out, func(a, b Gap) int { return cmp.Compare(b.Strength, a.Strength) })
	return out, nil
}

// quartersOf are the quarters of the measures among the columns of too many values, nil at all others. Whole numbers that
// nearly all differ name rows.
func quartersOf(t *Table, own int, whole *gapTally) (quarters []*quartering, any bool) {
	quarters = make([]*quartering, len(whole.columns))
	for i, name := range t.Source.Columns() {
		numbers := whole.numbers[i].values()
		if i == own || whole.columns[i] != nil || len(numbers) < 4*gapRowsPerValue {
			continue
		}
		slices.Sort(numbers)
		different := len(slices.Compact(slices.Clone(numbers)))
		if t.Book.Cells(name).Type == table.TypeInteger && different*10 >= len(numbers)*9 {
			continue
		}
		quarters[i], any = &quartering{numbers[len(numbers)/4], numbers[len(numbers)/2], numbers[len(numbers)*3/4]}, true
	}
	return quarters, any
}

// quartering is the three quartiles of a column's numbers: exact where it has at most scatterMost, else those of that many.
type quartering [3]float64

// name names the quarter of a number.
func (q *quartering) name(x float64) string {
	written := func(at int) string { return table.DecimalNear(q[at]).String() }
	switch {
	case x < q[0]:
		return "below " + written(0)
	case x < q[1]:
		return "from " + written(0) + " to " + written(1)
	case x < q[2]:
		return "from " + written(1) + " to " + written(2)
	}
	return "from " + written(2) + " on"
}

// scatterMost is how many numbers a scatter keeps.
const scatterMost = 20000

// scatter keeps numbers of rows that lie scattered over the table, the same whatever the stretches.
type scatter struct{ kept []kept }

type kept struct {
	order  uint64
	number float64
}

// Scattered spreads row numbers, so that rows are not picked in the step of anything in the table. No two rows come out
// the same.
func Scattered(row uint32) uint64 {
	x := uint64(row) * 0x9E3779B97F4A7C15
	x ^= x >> 32
	x *= 0xBF58476D1CE4E5B9
	return x ^ x>>29
}

func (s *scatter) add(row uint32, number float64) {
	s.kept = append(s.kept, kept{Scattered(row), number})
	s.cut(2 * scatterMost)
}

func (s *scatter) join(other *scatter) {
	s.kept = append(s.kept, other.kept...)
	s.cut(2 * scatterMost)
}

// cut keeps those that come first, where there are more than so many.
func (s *scatter) cut(most int) {
	if len(s.kept) > most {
		slices.SortFunc(s.kept, func(a, b kept) int { return cmp.Compare(a.order, b.order) })
		s.kept = s.kept[:scatterMost]
	}
}

func (s *scatter) values() []float64 {
	s.cut(scatterMost)
	out := make([]float64, len(s.kept))
	for i, k := range s.kept {
		out[i] = k.number
	}
	return out
}

package leads

import (
	"fmt"
	"math"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

// holdsNearly is how many of a hundred of the rows that were picked something holds for that is suspected to hold for
// all but some, and breaksMost the part, one in so many, of all rows that may break it.
const (
	holdsNearly = 95
	breaksMost  = 20
	// appliesAtLeast is to how many of the picked rows it must apply.
	appliesAtLeast = 20
)

func init() {
	Register(Kind{
		Name: "copy", Finds: "a column that holds the same as another one, or the same but for a few rows; also so many times as much",
		Threshold: "three different values; 95 % of the rows, or all of them",
		Like:      "%d columns are copies of others: %s.",
		OfRows: func(s *Sample) []Suspicion {
			var out []Suspicion
			n := min(len(s.Columns), columnsCompared)
			for b := range n {
				for a := range b {
					if one, ok := s.copied(a, b); ok {
						out = append(out, one)
						break // of several, one is enough
					}
				}
			}
			return out
		},
	})
}

// copied suspects that column b holds what column a holds.
func (s *Sample) copied(a, b int) (Suspicion, bool) {
	if s.Columns[a].Column == nil || s.Columns[b].Column == nil || s.Columns[b].Distinct < 3 || s.Columns[a].Distinct < 3 {
		return Suspicion{}, false
	}
	applies, same := 0, 0
	for i := range s.Picked {
		x, y := &s.cells[a][i], &s.cells[b][i]
		if x.Missing || y.Missing || s.usual(a, i) && s.usual(b, i) {
			continue // of what stands nearly everywhere nothing can be told
		}
		applies++
		if x.Identity(s.texts[a][i]) == y.Identity(s.texts[b][i]) {
			same++
		}
		if applies == 40 && same*2 < applies {
			return s.times(a, b)
		}
	}
	if applies < appliesAtLeast || same*100 < applies*holdsNearly {
		return s.times(a, b)
	}
	first, second := s.Columns[a].Name, s.Columns[b].Name
	row := func(r *Row) (bool, bool) {
		x, y := r.Cell(a), r.Cell(b)
		if x.Missing || y.Missing {
			return false, false
		}
		return true, x.Identity(r.Text(a)) != y.Identity(r.Text(b))
	}
	return Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
		l := Lead{Column: second, Columns: []string{first, second}, Rows: answer.Rows}
		if answer.Rows == 0 {
			l.Sure, l.Says = 0.1, fmt.Sprintf("%s holds the same as %s in every row.", second, first)
			return l, true
		}
		l.Condition = condition.Column(second) + " = " + condition.Column(first)
		l.Sure, l.Says = 0.8, fmt.Sprintf("%s holds the same as %s in all but %s.", second, first,
			document.Counted(answer.Rows, "row", "rows"))
		return l, answer.Rows*breaksMost <= answer.Applies
	}}, true
}

// usualShare is the part, one in so many, of its cells from which on the most frequent text of a column says nothing.
const usualShare = 3

// usual reports whether a cell holds what nearly all of its column hold.
func (s *Sample) usual(c, i int) bool {
	of := &s.Columns[c]
	return len(of.Frequent) > 0 && of.Frequent[0].Rows*usualShare > of.Filled && s.texts[c][i] == of.Frequent[0].Text
}

// times suspects that the numbers of column b are so many times those of column a.
func (s *Sample) times(a, b int) (Suspicion, bool) {
	x, y := s.floats[a], s.floats[b]
	if x == nil || y == nil {
		return Suspicion{}, false
	}
	ratios := map[float64]int{}
	applies := 0
	for i := range x {
		if math.IsNaN(x[i]) || math.IsNaN(y[i]) || x[i] == 0 || y[i] == 0 {
			continue
		}
		applies++
		ratios[math.Round(y[i]/x[i]*1e6)/1e6]++
		if applies == 40 && len(ratios) > 20 {
			return Suspicion{}, false
		}
	}
	factor, most := 0.0, 0
	for ratio, n := range ratios {
		if n > most || n == most && ratio < factor {
			factor, most = ratio, n
		}
	}
	if applies < appliesAtLeast || most*100 < applies*holdsNearly || factor == 1 || factor == 0 {
		return Suspicion{}, false
	}
	exact := table.DecimalNear(factor)
	first, second := s.Columns[a].Name, s.Columns[b].Name
	row := func(r *Row) (bool, bool) {
		x, y := r.Cell(a).Value, r.Cell(b).Value
		if x.Kind != table.Number || y.Kind != table.Number {
			return false, false
		}
		return true, !rounded(x.Number.Mul(exact), y.Number)
	}
	return Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
		l := Lead{Column: second, Columns: []string{first, second}, Rows: answer.Rows}
		if answer.Rows == 0 {
			l.Sure, l.Says = 0.05, fmt.Sprintf("%s is %s times %s in every row.", second, document.Figure(factor), first)
			return l, true
		}
		l.Condition = condition.Column(second) + " = " + condition.Column(first) + " * " + exact.Shortest()
		l.Tolerance = s.tolerance(b, func(i int) (table.Decimal, bool) { return s.cells[a][i].Value.Number.Mul(exact), true })
		l.Sure, l.Says = 0.8, fmt.Sprintf("%s is %s times %s in all but %s.", second, document.Figure(factor), first,
			document.Counted(answer.Rows, "row", "rows"))
		return l, answer.Rows*breaksMost <= answer.Applies
	}}, true
}

// near reports whether a number is another one but for how it was rounded: by half a unit in the last place of the
// second, or a thousandth of it.
func near(x, y table.Decimal) bool {
	return rounded(x, y) || x.Sub(y).Abs().Times(1000).Cmp(y.Abs()) <= 0
}

// rounded reports whether a number is another one once it is rounded to the places of that.
func rounded(x, y table.Decimal) bool {
	return x.Sub(y).Abs().Times(2).Cmp(table.PowerOfTen(-y.Places())) <= 0
}

package leads

import (
	"fmt"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "order", Like: "%d pairs of columns are out of order in a few rows: %s.",
		Finds:     "dates that come before what they follow everywhere else; a whole smaller than its part; times that end as they start",
		Threshold: "the order holds for 95 % of the rows; numbers: for 99.5 %, both columns equal in 1 % of the rows and in one range",
		OfRows: func(s *Sample) []Suspicion {
			var out []Suspicion
			n := min(len(s.Columns), columnsCompared)
			for a := range n {
				for b := range n {
					if a == b || s.Columns[a].Column == nil || s.Columns[b].Column == nil {
						continue
					}
					if one, ok := s.ordered(a, b); ok {
						out = append(out, one)
					}
				}
			}
			return out
		},
	})
}

// numbersBreak is the part, one in so many, of the rows that may break an order of numbers, which hold by chance more
// often than those of dates.
const numbersBreak = 200

// ordered suspects that column a is never above column b.
func (s *Sample) ordered(a, b int) (Suspicion, bool) {
	is := func(c int, ok func(table.Type) bool) bool { return ok(s.Columns[c].Type) }
	date := func(t table.Type) bool { return t == table.TypeDate || t == table.TypeDateTime }
	numbers := is(a, table.Type.IsNumber) && is(b, table.Type.IsNumber)
	if !numbers && !(is(a, date) && is(b, date)) {
		return Suspicion{}, false
	}
	if numbers && !s.sameRange(a, b) {
		return Suspicion{}, false
	}
	applies, below, equal := 0, 0, 0
	for i := range s.Picked {
		x, y := s.cells[a][i].Value, s.cells[b][i].Value
		if x.Kind == table.Missing || y.Kind == table.Missing {
			continue
		}
		applies++
		switch table.Compare(x, y) {
		case -1:
			below++
		case 0:
			equal++
		}
		if above := applies - below - equal; above > 3 && above*4 > applies { // it will hardly hold for nearly all
			return Suspicion{}, false
		}
	}
	if applies < appliesAtLeast || (below+equal)*100 < applies*holdsNearly || below*2 < applies {
		return Suspicion{}, false
	}
	most := int64(breaksMost)
	if numbers {
		most = numbersBreak
	}
	if numbers && equal*100 < applies {
		return Suspicion{}, false
	}
	first, second := s.Columns[a].Name, s.Columns[b].Name
	// Times that are almost never equal end as they start where they are; numbers and dates may be.
	alike := s.Columns[a].Type == table.TypeDateTime && s.Columns[b].Type == table.TypeDateTime && equal*50 <= applies
	row := func(r *Row) (bool, bool) {
		x, y := r.Cell(a).Value, r.Cell(b).Value
		if x.Kind == table.Missing || y.Kind == table.Missing {
			return false, false
		}
		order := table.Compare(x, y)
		return true, order > 0 || alike && order == 0
	}
	return Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
		verb := "is below"
		if !numbers {
			verb = "lies before"
		}
		if alike {
			verb += ", or at,"
		}
		sign := " >= "
		if alike {
			sign = " > "
		}
		return Lead{Column: second, Columns: []string{first, second}, Rows: answer.Rows, Sure: 0.85,
				Condition: condition.Column(second) + sign + condition.Column(first), Says: fmt.Sprintf(
					"%s %s %s in %s, and in no other.", second, verb, first, document.Counted(answer.Rows, "row", "rows"))},
			answer.Rows > 0 && answer.Rows*most <= answer.Applies
	}}, true
}

// sameRange reports whether the numbers of two columns lie in one range: the greater half of the lesser reaches beyond
// the lower end of the greater.
func (s *Sample) sameRange(a, b int) bool {
	x, y := &s.Columns[a], &s.Columns[b]
	return x.Numbers != nil && y.Numbers != nil && quartile(x, 0.75) >= quartile(y, 0.05)
}

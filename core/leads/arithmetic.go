package leads

import (
	"fmt"
	"math"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "arithmetic", Like: "%d columns are worked out of others but for a few rows: %s.",
		Finds:     "a column that is the sum, difference, product or ratio of others, or the whole of several parts, but for some rows",
		Threshold: "95 % of the rows within their rounding, in 20 rows and more; told where some break it",
		OfRows: func(s *Sample) []Suspicion {
			var numbers []int
			for c := range min(len(s.Columns), columnsCompared) {
				if s.floats[c] != nil && s.Columns[c].Distinct > 5 {
					numbers = append(numbers, c)
				}
			}
			var out []Suspicion
			for _, of := range numbers {
				if one, ok := s.workedOut(of, numbers); ok {
					out = append(out, one)
				}
			}
			return out
		},
	})
}

// operation is a way to work one number out of two.
type operation struct {
	sign  string
	float func(a, b float64) float64
	exact func(a, b table.Decimal) (table.Decimal, bool)
}

var operations = []operation{
	{"+", func(a, b float64) float64 { return a + b }, func(a, b table.Decimal) (table.Decimal, bool) { return a.Add(b), true }},
	{"-", func(a, b float64) float64 { return a - b }, func(a, b table.Decimal) (table.Decimal, bool) { return a.Sub(b), true }},
	{"×", func(a, b float64) float64 { return a * b }, func(a, b table.Decimal) (table.Decimal, bool) { return a.Mul(b), true }},
	{"/", func(a, b float64) float64 { return a / b }, table.Decimal.Div},
}

// workedOut suspects that a column is worked out of two others, or is the sum of a run of neighbours. A sum of two is
// told once, of its greater side.
func (s *Sample) workedOut(of int, numbers []int) (Suspicion, bool) {
	trial := s.trialOf(of, numbers)
	for i, a := range numbers {
		for k, b := range numbers {
			if a == b || a == of || b == of {
				continue
			}
			for _, op := range trial.maybe(i, k) {
				if (op.sign == "+" || op.sign == "×") && i > k || op.sign == "-" || op.sign == "/" && s.isProduct(a, of, b) {
					continue // the same once more, or told of the sum or product
				}
				if s.neutral(b, op.sign) || op.sign != "-" && op.sign != "/" && s.neutral(a, op.sign) {
					continue
				}
				if s.holds(of, op.sign == "+" || op.sign == "-", func(i int) float64 { return op.float(s.floats[a][i], s.floats[b][i]) }) {
					return s.suspect(of, []int{a, b}, fmt.Sprintf("%s %s %s", s.Columns[a].Name, op.sign, s.Columns[b].Name),
						condition.Column(s.Columns[a].Name)+" "+strings.Replace(op.sign, "×", "*", 1)+" "+condition.Column(s.Columns[b].Name),
						op.sign == "+" || op.sign == "-", func(v []table.Decimal) (table.Decimal, bool) { return op.exact(v[0], v[1]) }), true
				}
			}
		}
	}
	for first := range numbers {
		for last := first + 2; last < min(len(numbers), first+partsMost); last++ {
			parts := numbers[first : last+1]
			if of >= parts[0] && of <= parts[len(parts)-1] || !trial.maybeSum(first, last) {
				continue
			}
			if s.holds(of, true, func(i int) float64 {
				sum := 0.0
				for _, c := range parts {
					sum += s.floats[c][i]
				}
				return sum
			}) {
				return s.suspect(of, parts, fmt.Sprintf("the sum of %s to %s", s.Columns[parts[0]].Name,
					s.Columns[parts[len(parts)-1]].Name), s.sumOf(parts), true, func(v []table.Decimal) (table.Decimal, bool) {
					sum := table.Decimal{}
					for _, one := range v {
						sum = sum.Add(one)
					}
					return sum, true
				}), true
			}
		}
	}
	return Suspicion{}, false
}

// trial is a few rows by which most of what a column is not worked out of is ruled out at once.
type trial struct {
	is, off [trialRows]float64   // what the column holds, and by how much it may be off
	numbers [][trialRows]float64 // what the others hold
	found   []operation
}

// trialRows are few enough that they hardly ever hold by chance; trialBreaks of them may break what the others hold.
const (
	trialRows   = 6
	trialBreaks = 2
)

// trialOf takes rows with different numbers in the column.
func (s *Sample) trialOf(of int, numbers []int) *trial {
	t := &trial{numbers: make([][trialRows]float64, len(numbers))}
	n := 0
	for i, is := range s.floats[of] {
		if n == trialRows {
			break
		}
		if math.IsNaN(is) || is == 0 || n > 0 && is == t.is[n-1] {
			continue
		}
		t.is[n] = is
		t.off[n] = max(math.Pow10(-s.cells[of][i].Value.Number.Places())*0.501, math.Abs(is)*0.001)
		for k, c := range numbers {
			t.numbers[k][n] = s.floats[c][i]
		}
		n++
	}
	for ; n < trialRows; n++ {
		t.is[n] = math.NaN()
	}
	return t
}

// maybe returns the operations on two of the numbers that the rows do not rule out.
func (t *trial) maybe(i, k int) []operation {
	t.found = t.found[:0]
	a, b := &t.numbers[i], &t.numbers[k]
	var breaks [4]int
	for n := range trialRows {
		if math.IsNaN(t.is[n]) {
			break
		}
		x, y, is, off := a[n], b[n], t.is[n], t.off[n]
		for op, value := range [4]float64{x + y, x - y, x * y, x / y} {
			if !(math.Abs(value-is) <= off) {
				breaks[op]++
			}
		}
		if min(breaks[0], breaks[1], breaks[2], breaks[3]) > trialBreaks {
			return nil
		}
	}
	for op, n := range breaks {
		if n <= trialBreaks {
			t.found = append(t.found, operations[op])
		}
	}
	return t.found
}

// maybeSum reports whether the rows do not rule out the sum of a run of the numbers.
func (t *trial) maybeSum(first, last int) bool {
	breaks := 0
	for n := range trialRows {
		if math.IsNaN(t.is[n]) {
			break
		}
		sum := 0.0
		for k := first; k <= last; k++ {
			sum += t.numbers[k][n]
		}
		if !(math.Abs(sum-t.is[n]) <= t.off[n]) {
			if breaks++; breaks > trialBreaks {
				return false
			}
		}
	}
	return true
}

// neutral reports whether a column changes nothing in half of the rows, so that what is worked out is the other column.
func (s *Sample) neutral(c int, sign string) bool {
	one := 0.0
	if sign == "×" || sign == "/" {
		one = 1
	}
	n := 0
	for _, x := range s.floats[c] {
		if x == one || math.IsNaN(x) {
			n++
		}
	}
	return n*2 >= s.Picked
}

// partsMost is how many neighbours a whole is made of at most.
const partsMost = 16

// isProduct reports whether a is of x b, which says the same as that of is a / b.
func (s *Sample) isProduct(a, of, b int) bool {
	return s.holds(a, false, func(i int) float64 { return s.floats[of][i] * s.floats[b][i] })
}

// holds reports whether what is worked out is what a column holds in nearly all rows that were picked; exactly says that
// nothing is rounded on the way.
func (s *Sample) holds(of int, exactly bool, work func(i int) float64) bool {
	applies, holds, breaks := 0, 0, 0
	for i, is := range s.floats[of] {
		x := work(i)
		if math.IsNaN(is) || math.IsNaN(x) || math.IsInf(x, 0) {
			continue
		}
		applies++
		if nearly(x, is, s.cells[of][i].Value.Number.Places(), exactly) && (is != 0 || x == 0) {
			holds++
		} else if breaks++; breaks > 3 && breaks*4 > applies {
			return false
		}
	}
	return applies >= appliesAtLeast && holds*100 >= applies*holdsNearly
}

// nearly reports whether a number is another one that is rounded to so many places, or may have been worked out of
// numbers that were rounded themselves: off by a thousandth at most.
func nearly(x, is float64, places int, exactly bool) bool {
	off := math.Abs(x - is)
	if exactly {
		return off <= math.Pow10(-places)*0.501
	}
	return off <= math.Pow10(-places)*0.501 && off <= math.Abs(is)*0.05 || off <= math.Abs(is)*0.001
}

// sumOf writes the sum of some columns as a condition has it.
func (s *Sample) sumOf(parts []int) string {
	names := make([]string, len(parts))
	for i, c := range parts {
		names[i] = condition.Column(s.Columns[c].Name)
	}
	return strings.Join(names, " + ")
}

// tolerance returns by how much a column differs at most from what it is worked out of, in the rows that were picked
// and that it holds for; empty for not at all.
func (s *Sample) tolerance(of int, work func(i int) (table.Decimal, bool)) string {
	most := table.Decimal{}
	for i := range s.Picked {
		is := s.cells[of][i].Value
		x, ok := work(i)
		if !ok || is.Kind != table.Number || !near(x, is.Number) {
			continue
		}
		if off := x.Sub(is.Number).Abs(); off.Cmp(most) > 0 {
			most = off
		}
	}
	if most.Sign() == 0 {
		return ""
	}
	return most.Round(6).Add(table.PowerOfTen(-6)).Shortest()
}

// suspect asks all rows; exactly says that nothing is rounded on the way.
func (s *Sample) suspect(of int, from []int, says, written string, exactly bool,
	work func([]table.Decimal) (table.Decimal, bool)) Suspicion {
	columns := []string{}
	for _, c := range from {
		columns = append(columns, s.Columns[c].Name)
	}
	name := s.Columns[of].Name
	columns = append(columns, name)
	row := func(r *Row) (bool, bool) {
		is := r.Cell(of).Value
		values := make([]table.Decimal, len(from))
		for i, c := range from {
			v := r.Cell(c).Value
			if v.Kind != table.Number {
				return false, false
			}
			values[i] = v.Number
		}
		if is.Kind != table.Number {
			return false, false
		}
		x, ok := work(values)
		if !ok {
			return false, false
		}
		if exactly && x.Places() <= is.Number.Places() {
			return true, x.Cmp(is.Number) != 0
		}
		if exactly {
			return true, !rounded(x, is.Number)
		}
		return true, !near(x, is.Number)
	}
	return Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
		return Lead{Column: name, Columns: columns, Rows: answer.Rows, Sure: 0.9, Condition: condition.Column(name) + " = " + written,
				Tolerance: s.tolerance(of, func(i int) (table.Decimal, bool) {
					values := make([]table.Decimal, len(from))
					for k, c := range from {
						v := s.cells[c][i].Value
						if v.Kind != table.Number {
							return table.Decimal{}, false
						}
						values[k] = v.Number
					}
					return work(values)
				}), Says: fmt.Sprintf(
					"%s is %s in all but %s.", name, says, document.Counted(answer.Rows, "row", "rows"))},
			answer.Rows > 0 && answer.Rows*breaksMost <= answer.Applies
	}}
}

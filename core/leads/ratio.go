package leads

import (
	"fmt"
	"math"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

const (
	// ratioNarrow is how narrowly the ratio of two measures lies, at the most: the part of the spread (of logarithms)
	// of either of them.
	ratioNarrow = 0.4
	// ratioReach is how many interquartile ranges of the logarithms a ratio lies outside the quartiles, and ratioTimes
	// how many times it is as great or small as the outer quartile at the least, to be implausible.
	ratioReach = 6
	ratioTimes = 2
	// ratioRare is the part, one in so many, of the rows whose ratio is implausible.
	ratioRare = 100
	// ratioTried is how many of the picked rows tell which pairs are worth a look.
	ratioTried = 500
)

func init() {
	Register(Kind{
		Name: "ratio", Like: "%d columns have an implausible ratio to another measure in a few rows: %s.",
		Finds:     "two measures that go together, but for a few rows where the ratio of the two is implausible",
		Threshold: "logarithms of the ratio that lie 0.4 times as widely as those of either, at the most; six interquartile ranges and a factor of 2 outside their quartiles, each number by itself among the inner 98 %; one in 100 at most, or two; no other lead tells it",
		OfRows:    (*Sample).implausibleRatios,
	})
}

// implausibleRatios holds each measure against the one it goes with best.
func (s *Sample) implausibleRatios() []Suspicion {
	logs := make([][]float64, min(len(s.Columns), columnsCompared)) // per measure, per picked row; NaN for none
	spreads := make([]float64, len(logs))
	for c := range logs {
		if column := &s.Columns[c]; s.floats[c] == nil || column.Column == nil || column.Distinct < 20 || quartile(column, 0.01) <= 0 {
			continue
		}
		of := make([]float64, s.Picked)
		for i, x := range s.floats[c] {
			of[i] = math.NaN()
			if x > 0 {
				of[i] = math.Log(x)
			}
		}
		if first, third, ok := quartersOf(of, nil, s.Picked); ok && third > first {
			logs[c], spreads[c] = of, third-first
		}
	}
	var out []Suspicion
	paired := map[[2]int]bool{}
	for c := range logs {
		best, by := math.Inf(1), -1
		for g := range logs {
			if g == c || logs[c] == nil || logs[g] == nil {
				continue
			}
			first, third, ok := quartersOf(logs[c], logs[g], ratioTried)
			if narrow := third - first; ok && narrow < best && narrow <= ratioNarrow*min(spreads[c], spreads[g]) {
				best, by = narrow, g
			}
		}
		pair := [2]int{min(c, by), max(c, by)}
		if by < 0 || paired[pair] {
			continue
		}
		if first, third, ok := quartersOf(logs[c], logs[by], s.Picked); ok && third-first <= ratioNarrow*min(spreads[c], spreads[by]) {
			paired[pair] = true
			out = append(out, s.ratioOf(c, by, first, third))
		}
	}
	return out
}

// ratioOf suspects rows in which the ratio of two columns lies far from its quartiles, which are given as logarithms.
func (s *Sample) ratioOf(a, b int, first, third float64) Suspicion {
	reach := max(ratioReach*(third-first), math.Log(ratioTimes))
	one, other := &s.Columns[a], &s.Columns[b]
	// The bounds are those that the condition writes.
	bound := func(x float64) (float64, string) {
		d, _ := table.ParseDecimal(figure(x))
		return d.Float(), d.Shortest()
	}
	least, from := bound(math.Exp(first - reach))
	most, to := bound(math.Exp(third + reach))
	var inner [2][2]float64 // of each by itself; what lies outside is odd by itself, which others tell
	var parts []string
	for i, c := range []*Column{one, other} {
		low, lowest := bound(quartile(c, 0.01))
		high, highest := bound(quartile(c, 0.99))
		inner[i] = [2]float64{low, high}
		parts = append(parts, fmt.Sprintf("%s < %s OR %s > %s", condition.Column(c.Name), lowest, condition.Column(c.Name), highest))
	}
	y := condition.Column(other.Name)
	holds := fmt.Sprintf("%s OR %s OR %s BETWEEN %s * %s AND %s * %s", parts[0], parts[1], condition.Column(one.Name), from, y, to, y)
	row := func(r *Row) (bool, bool) {
		v, w := r.Cell(a).Value, r.Cell(b).Value
		if v.Kind != table.Number || w.Kind != table.Number {
			return false, false
		}
		x, y := v.Number.Float(), w.Number.Float()
		if x < inner[0][0] || x > inner[0][1] || y < inner[1][0] || y > inner[1][1] {
			return false, false
		}
		return true, x < least*y || x > most*y
	}
	return Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
		rare := answer.Rows <= 2 || answer.Rows*ratioRare <= answer.Applies
		return Lead{Column: one.Name, Columns: []string{one.Name, other.Name}, Rows: answer.Rows, Sure: 0.6, Condition: holds, Says: fmt.Sprintf(
			"The ratio of %s to %s is implausible in %s; half of all rows have %s to %s.", one.Name, other.Name,
			document.Counted(answer.Rows, "row", "rows"), figure(math.Exp(first)), figure(math.Exp(third)))}, answer.Rows > 0 && rare
	}}
}

// quartersOf returns the quartiles of numbers, or of the differences of two, in the first of the rows that have them; false
// for fewer than groupKnown.
func quartersOf(of, less []float64, rows int) (first, third float64, ok bool) {
	numbers := make([]float64, 0, min(rows, len(of)))
	for i, x := range of {
		if len(numbers) == rows {
			break
		}
		if less != nil {
			x -= less[i]
		}
		if !math.IsNaN(x) {
			numbers = append(numbers, x)
		}
	}
	if len(numbers) < groupKnown {
		return 0, 0, false
	}
	slices.Sort(numbers)
	return numbers[len(numbers)/4], numbers[len(numbers)*3/4], true
}

package leads

import (
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/gonum/stat"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// meanRows is how many rows are exactly the mean of their group at the least, and meanShare the part of the column.
	meanRows, meanShare = 10, 0.01
	// meanGroups is how many groups another column makes at the most, and meanColumns how many columns are tried.
	meanGroups, meanColumns = 60, 8
	// meanOthers is how many other values a group has at the least.
	meanOthers = 10
	// meanTimes is how many times as frequent as any other value of the group the one is that stands at its mean.
	meanTimes = 3
	// meanReach is how many standard errors of the mean it lies from it at the most, among the rows that were picked, and
	// meanFine how many of its last digits such an error has at the least: a coarse number meets the mean by chance.
	meanReach, meanFine = 4, 5
)

func init() {
	Register(Kind{
		Name: "group_mean", Like: "%d columns hold the mean of their group again and again: %s.",
		Finds:     "values that were filled in with the mean of the column, or of a group, before the table arrived",
		Threshold: "10 rows and 1 % of the column, three times as many in their group as have any other value, in which the value is exactly the mean of the group's others, in all groups by one column of at most 60; no estimates that are marked",
		OfRows:    (*Sample).groupMeans,
	})
}

// groupMeans looks for the mean of each group among its values.
func (s *Sample) groupMeans() []Suspicion {
	var by []int // columns that make groups; -1 for the whole column
	for g := range s.Columns {
		if c := &s.Columns[g]; len(by) < meanColumns && c.Column != nil && c.Distinct > 1 && c.Distinct <= meanGroups && !c.Type.IsNumber() &&
			c.Type != table.TypeDate && c.Type != table.TypeDateTime {
			by = append(by, g)
		}
	}
	by = append(by, -1)
	var out []Suspicion
	for c := range s.Columns[:min(len(s.Columns), columnsCompared)] {
		column := &s.Columns[c]
		if s.floats[c] == nil || column.Column == nil || column.Distinct < 20 || column.Estimated {
			continue
		}
		best, rows := Suspicion{}, 0
		for _, g := range by {
			if one, n := s.meansBy(c, g); n > rows {
				best, rows = one, n
			}
		}
		if rows > 0 {
			out = append(out, best)
		}
	}
	return out
}

// meansBy suspects the values of a column that stand at the mean of their group, and says how many of the picked rows have
// them.
func (s *Sample) meansBy(c, g int) (Suspicion, int) {
	type group struct {
		counts map[float64]int
		values []float64
	}
	groups := map[string]*group{}
	name := func(cell *rulebook.Cell, text string) string {
		if cell.Missing {
			return ""
		}
		return cell.Identity(text)
	}
	for i, x := range s.floats[c] {
		if math.IsNaN(x) {
			continue
		}
		of := ""
		if g >= 0 {
			of = name(&s.cells[g][i], s.texts[g][i])
		}
		if groups[of] == nil {
			groups[of] = &group{counts: map[float64]int{}}
		}
		groups[of].counts[x]++
		groups[of].values = append(groups[of].values, x)
	}
	means, rows := map[string]float64{}, 0
	for of, one := range groups {
		first, second, at := 0, 0, 0.0
		for x, n := range one.counts {
			switch {
			case n > first:
				first, second, at = n, first, x
			case n > second:
				second = n
			}
		}
		n := float64(len(one.values))
		others := n - float64(first)
		if first < 2 || first < meanTimes*second || others < meanOthers {
			continue
		}
		all, deviation := stat.MeanStdDev(one.values, nil)
		mean := (all*n - at*float64(first)) / others
		if off := deviation / math.Sqrt(others); math.Abs(at-mean) <= meanReach*off+math.Abs(at)*1e-9 {
			means[of] = at
			rows += first
		}
	}
	if rows == 0 || float64(rows) < meanShare*float64(s.Picked) {
		return Suspicion{}, 0
	}
	places := map[string]int{}
	for of := range means {
		places[of] = len(places)
	}
	groupOf := func(r *Row) (string, bool) {
		if r.Cell(c).Value.Kind != table.Number {
			return "", false
		}
		if g < 0 {
			return "", true
		}
		return name(r.Cell(g), r.Text(g)), true
	}
	return Suspicion{
		Row: func(r *Row) (bool, bool) {
			of, numbered := groupOf(r)
			mean, asked := means[of]
			return numbered, numbered && asked && r.Cell(c).Value.Number.Float() == mean
		},
		Parts: 2 * len(places),
		Sum: func(r *Row) (int, table.Decimal, bool) {
			of, numbered := groupOf(r)
			mean, asked := means[of]
			if !numbered || !asked {
				return 0, table.Decimal{}, false
			}
			part, v := 2*places[of], r.Cell(c).Value.Number
			if v.Float() == mean {
				part++
			}
			return part, v, true
		},
		Told: func(a Answer) (Lead, bool) { return s.tellMeans(c, g, a) },
	}, rows
}

// tellMeans tells of the groups whose most frequent value is exactly the mean of the others.
func (s *Sample) tellMeans(c, g int, a Answer) (Lead, bool) {
	var rows, groups int64
	for i := 0; i < len(a.Sums); i += 2 {
		others, equal := a.Sums[i], a.Sums[i+1]
		if others.N == 0 || equal.N == 0 {
			continue
		}
		value, _ := equal.Sum.DivTo(table.DecimalOf(equal.N, 0), equal.Sum.Places())
		exact, _ := others.Sum.DivTo(table.DecimalOf(others.N, 0), value.Places())
		// A coarse value meets the mean by chance.
		numbers := s.Columns[c].Numbers
		fine := numbers != nil && numbers.Deviation != nil && meanFine*math.Pow10(-value.Places()) <= *numbers.Deviation/math.Sqrt(float64(others.N))
		if exact.Cmp(value) == 0 && fine {
			rows, groups = rows+equal.N, groups+1
		}
	}
	if rows < meanRows || float64(rows) < meanShare*float64(a.Applies) {
		return Lead{}, false
	}
	l := Lead{Column: s.Columns[c].Name, Columns: []string{s.Columns[c].Name}, Rows: rows, Sure: 0.7, FirstRows: []uint32{}}
	if rows == a.Rows {
		l.FirstRows = a.FirstRows
	}
	of := "the column"
	if g >= 0 {
		l.Columns = append(l.Columns, s.Columns[g].Name)
		of = fmt.Sprintf("their %s, in %s", s.Columns[g].Name, document.Counted(groups, "group", "groups"))
	}
	l.Says = strings.Join([]string{document.Counted(rows, "value", "values"), "of", l.Column, document.Plural(rows, "is", "are"),
		"exactly the mean of the other values of", of + ": filled in, it seems, and not marked as estimates."}, " ")
	return l, true
}

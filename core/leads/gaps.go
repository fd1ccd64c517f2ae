package leads

import (
	"fmt"
	"math"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

const (
	// gapChance is the probability, at the most, that gaps which are spread by chance lie as unevenly; it is small since
	// many pairs of columns are looked at.
	gapChance = 1e-9
	// gapTimes is how many times as often a value lacks the column as the other values do.
	gapTimes = 3
)

func init() {
	Register(Kind{
		Name: "uneven_gaps", Like: "The gaps of %d columns depend on other columns: %s.",
		Finds:     "gaps of a column that depend on another one, so that leaving those rows out bends what is left",
		Threshold: "1 to 60 % missing; three times as often beside one value, or a quarter of the numbers of another column, by chance with a probability of 1e-9 at most (chi-squared)",
		OfRows: func(s *Sample) []Suspicion {
			var out []Suspicion
			for c := range s.Columns {
				if one, ok := s.unevenGaps(c); ok {
					out = append(out, one)
				}
			}
			return out
		},
	})
}

// unevenGaps suspects that the gaps of a column depend on the value of another one, the one that tells most.
func (s *Sample) unevenGaps(c int) (Suspicion, bool) {
	column := &s.Columns[c]
	if column.Column == nil || column.Missing*100 < s.Rows || column.Missing*100 > s.Rows*60 {
		return Suspicion{}, false
	}
	by, value, best := -1, "", 0.0
	var parts parting
	for g := range s.Columns {
		if g == c {
			continue
		}
		if some, ok := s.partingBy(g); ok {
			if v, chi := s.gapsBeside(c, some.picked); chi > best {
				by, value, best, parts = g, v, chi, some
			}
		}
	}
	if by < 0 {
		return Suspicion{}, false
	}
	row := func(r *Row) (bool, bool) {
		missing := r.Cell(c).Missing
		return missing, missing && parts.row(r) == value
	}
	return Suspicion{Row: row, Told: func(a Answer) (Lead, bool) {
		return Lead{Column: column.Name, Columns: []string{column.Name, s.Columns[by].Name}, Rows: a.Rows, Sure: 0.5, Says: fmt.Sprintf(
			"%s of the %s without %s have %s: leaving them out would bend what is left.", document.Grouped(a.Rows),
			document.Counted(a.Applies, "row", "rows"), column.Name, parts.says(value))}, a.Rows > 0
	}}, true
}

// parting says in which part of the table a row lies, by a column: its value, or, where it holds many numbers, the quarter
// of them. Parts have names.
type parting struct {
	picked func(i int) string // the part of a picked row
	row    func(r *Row) string
	says   func(part string) string
}

// partingBy parts the table by a column, false where it says nothing that others could depend on: where it is itself
// missing often, or names rows.
func (s *Sample) partingBy(g int) (parting, bool) {
	c := &s.Columns[g]
	switch {
	case c.Column == nil || c.Dates != nil || c.Distinct < 2 || c.Missing*10 > s.Rows:
		return parting{}, false
	case c.Numbers == nil && c.Distinct <= 50:
		return parting{
			picked: func(i int) string { return table.Level(s.texts[g][i]) },
			row:    func(r *Row) string { return table.Level(r.Text(g)) },
			says:   func(part string) string { return fmt.Sprintf("%q in %s", part, c.Name) },
		}, true
	case c.Numbers == nil || s.floats[g] == nil || c.Type == table.TypeInteger && c.Distinct*10 >= c.Filled*9:
		return parting{}, false // whole numbers that name rows tell where the gaps are, and nothing of why
	}
	bounds := []float64{quartile(c, 0.25), quartile(c, 0.5), quartile(c, 0.75)}
	quarter := func(x float64) string {
		if math.IsNaN(x) {
			return ""
		}
		at := 0
		for at < len(bounds) && x >= bounds[at] {
			at++
		}
		return string(rune('0' + at))
	}
	return parting{
		picked: func(i int) string { return quarter(s.floats[g][i]) },
		row: func(r *Row) string {
			if v := r.Cell(g).Value; v.Kind == table.Number {
				return quarter(v.Number.Float())
			}
			return ""
		},
		says: func(part string) string {
			written := func(x float64) string { return table.DecimalNear(x).String() }
			switch part {
			case "0":
				return c.Name + " below " + written(bounds[0])
			case "3":
				return c.Name + " from " + written(bounds[2]) + " on"
			}
			at := int(part[0] - '0')
			return c.Name + " from " + written(bounds[at-1]) + " to " + written(bounds[at])
		},
	}, true
}

// gapsBeside returns the part of the table in which a column is missing most, and chi-squared of its rows against the others
// where it is that large.
func (s *Sample) gapsBeside(c int, part func(i int) string) (value string, chi float64) {
	type counts struct{ rows, missing float64 }
	of, all := map[string]counts{}, counts{}
	for i := range s.Picked {
		name := part(i)
		one := of[name]
		one.rows++
		all.rows++
		if s.cells[c][i].Missing {
			one.missing++
			all.missing++
		}
		of[name] = one
	}
	for name, one := range of {
		if name == "" {
			continue // what misses together is told as such
		}
		rest := counts{all.rows - one.rows, all.missing - one.missing}
		if one.rows < 5 || rest.rows < 5 || one.missing/one.rows < gapTimes*rest.missing/rest.rows {
			continue
		}
		share := all.missing / all.rows
		expected := one.rows * share
		x := (one.missing - expected) * (one.missing - expected) / (one.rows * share * (1 - share)) * all.rows / rest.rows
		// The tail of chi-squared with one degree of freedom.
		if expected >= 1 && math.Erfc(math.Sqrt(x/2)) <= gapChance && (x > chi || x == chi && name < value) {
			value, chi = name, x
		}
	}
	return value, chi
}

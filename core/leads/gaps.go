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
		Threshold: "1 to 60 % missing; three times as often beside one value, by chance with a probability of 1e-9 at most (chi-squared)",
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
	for g := range s.Columns {
		other := &s.Columns[g]
		if g == c || other.Column == nil || other.Distinct < 2 || other.Distinct > 50 || other.Numbers != nil ||
			other.Dates != nil || other.Missing*10 > s.Rows {
			continue
		}
		if v, chi := s.gapsBeside(c, g); chi > best {
			by, value, best = g, v, chi
		}
	}
	if by < 0 {
		return Suspicion{}, false
	}
	other := &s.Columns[by]
	row := func(r *Row) (bool, bool) {
		missing := r.Cell(c).Missing
		return missing, missing && table.Level(r.Text(by)) == value
	}
	return Suspicion{Row: row, Told: func(a Answer) (Lead, bool) {
		return Lead{Column: column.Name, Columns: []string{column.Name, other.Name}, Rows: a.Rows, Sure: 0.5, Says: fmt.Sprintf(
			"%s of the %s without %s have %q in %s: leaving them out would bend what is left.", document.Grouped(a.Rows),
			document.Counted(a.Applies, "row", "rows"), column.Name, value, other.Name)}, a.Rows > 0
	}}, true
}

// gapsBeside returns the value of a column beside which another one is missing most, and chi-squared of the rows with
// that value against the others where it is that large.
func (s *Sample) gapsBeside(c, g int) (value string, chi float64) {
	type counts struct{ rows, missing float64 }
	of, all := map[string]counts{}, counts{}
	for i := range s.Picked {
		name := table.Level(s.texts[g][i])
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

package relation

import (
	"cmp"
	"context"
	"math"
	"slices"

	"gonum.org/v1/gonum/mathext"

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
	gapValues      = 200 // a column with more different values tells nothing about gaps
	gapValuesShown = 5
	// gapRowsPerValue is how many rows a value of the other column has on the average, at least: columns that name rows
	// tell where the gaps are, and nothing of why.
	gapRowsPerValue = 5
)

// Gaps says with which other columns the gaps of a column go, the strongest first. Only
// columns with few different values are looked at.
func Gaps(ctx context.Context, t *Table, column string) ([]Gap, error) {
	names := t.Source.Columns()
	own, err := t.position(column)
	if err != nil {
		return nil, err
	}
	at := make([]int, len(names))
	for i := range at {
		at[i] = i
	}
	type counts struct{ rows, missing int64 }
	type tally struct{ columns []map[string]counts }
	begin := func() *tally {
		s := &tally{make([]map[string]counts, len(names))}
		for i := range names {
			if i != own {
				s.columns[i] = map[string]counts{}
			}
		}
		return s
	}
	add := func(s *tally, i int, v string, c counts) {
		m := s.columns[i]
		if m == nil {
			return
		}
		was, known := m[v]
		if !known && len(m) >= gapValues {
			s.columns[i] = nil
			return
		}
		m[v] = counts{was.rows + c.rows, was.missing + c.missing}
	}
	work := func(s *tally, r *Readers, b *table.Batch) {
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
				if n == 0 {
					continue
				}
				v := b.Columns[i].Texts[code]
				if r.known[i][code].Missing {
					v = ""
				}
				add(s, i, v, counts{n, missing[code]})
			}
		}
	}
	whole := begin()
	if err := Scan(ctx, t, at, begin, work, func(s *tally) {
		for i := range names {
			if s.columns[i] == nil {
				whole.columns[i] = nil
			}
			for v, c := range s.columns[i] {
				add(whole, i, v, c)
			}
		}
	}); err != nil {
		return nil, err
	}
	out := []Gap{}
	for i, values := range whole.columns {
		if len(values) < 2 {
			continue
		}
		g := Gap{Column: names[i], Chance: 1}
		var all counts
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

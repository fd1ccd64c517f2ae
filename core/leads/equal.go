package leads

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "equal_rows", Finds: "rows that are equal to an earlier one in every cell",
		Threshold: "one row, in tables of two columns and more whose rows are nine in ten different",
		OfRows: func(s *Sample) []Suspicion {
			if len(s.Columns) < 2 || s.AsksEqualRows {
				return nil
			}
			return []Suspicion{{Repeats: &relation.Repeats{}, Told: func(a Answer) (Lead, bool) {
				if a.Surplus == 0 || a.Surplus*10 > s.Rows {
					return Lead{}, false
				}
				return Lead{Rows: a.Surplus, Sure: 0.9, Says: fmt.Sprintf("%s %s an earlier one in every cell.",
					document.Counted(a.Surplus, "row", "rows"), document.Plural(a.Surplus, "repeats", "repeat"))}, true
			}}}
		},
	})
	Register(Kind{
		Name: "near_key", Like: "%d columns name nearly every row, and some of them twice or not at all: %s.",
		Finds:     "a column that names nearly every row, and some of them twice or not at all",
		Threshold: "texts without spaces or whole numbers, 20 rows, nine in ten of which it names",
		OfRows: func(s *Sample) []Suspicion {
			var out []Suspicion
			for i := range s.Columns {
				c := &s.Columns[i]
				if c.Asked.Key || !c.nearKey(s.Rows) {
					continue
				}
				out = append(out, Suspicion{Repeats: &relation.Repeats{Columns: []string{c.Name}}, Told: func(a Answer) (Lead, bool) {
					faults := a.Surplus + a.Lacking
					if faults == 0 || faults*nearKeyFaults > s.Rows {
						return Lead{}, false
					}
					var but []string
					if a.Groups > 0 {
						but = append(but, fmt.Sprintf("%s in %s", document.Counted(a.Groups, "value stands", "values stand"),
							document.Counted(a.Surplus+a.Groups, "row", "rows")))
					}
					if a.Lacking > 0 {
						but = append(but, document.Counted(a.Lacking, "row has none", "rows have none"))
					}
					return Lead{Column: c.Name, Rows: faults, Sure: 0.85, Says: fmt.Sprintf(
						"%s names nearly every row, as a key does, but %s.", c.Name, strings.Join(but, ", and "))}, true
				}})
			}
			return out
		},
	})
	Register(Kind{
		Name: "key_spellings", Finds: "a key some of whose values are the same once case, spaces, accents and punctuation are left aside",
		Threshold: "a column of texts that names every row, or nearly every one; one value, and at most one in ten",
		OfRows: func(s *Sample) []Suspicion {
			var out []Suspicion
			for i := range s.Columns {
				c := &s.Columns[i]
				if c.Type != table.TypeText || !c.nearKey(s.Rows) {
					continue
				}
				names := []string{c.Name}
				exact := c.Filled - c.Distinct
				out = append(out, Suspicion{Repeats: &relation.Repeats{Columns: names, Levelled: true},
					Told: func(a Answer) (Lead, bool) {
						more := a.Surplus - exact
						if more <= 0 || a.Surplus*10 > s.Rows || c.DistinctError > 0 {
							return Lead{}, false
						}
						return Lead{Column: c.Name, Columns: names, Rows: more, FirstRows: slices.Clone(a.FirstRows), Sure: 0.8, Says: fmt.Sprintf(
							"%s of %s %s another one but for case, spaces, accents or punctuation.",
							document.Counted(more, "value", "values"), c.Name, document.Plural(more, "is", "are"))}, true
					}})
			}
			return out
		},
	})
}

// nearKeyFaults is the part, one in so many, of the rows that a near-key may not name.
const nearKeyFaults = 10

// nearKey reports whether a column may name the rows, by how many different values it has.
func (c *Column) nearKey(rows int64) bool {
	names := c.Type == table.TypeText || c.Type == table.TypeCode || c.Type == table.TypeInteger && c.consecutive()
	distinct := float64(c.Distinct) * (1 + 3*c.DistinctError)
	if len(c.Shapes) > 0 && strings.ContainsAny(c.Shapes[0].Text, " ·") {
		return false // words, as of a remark
	}
	return c.Column != nil && rows >= 20 && names && c.Longest <= 64 && distinct*nearKeyFaults >= float64(rows*(nearKeyFaults-1))
}

// consecutive reports whether whole numbers lie as those of a key do that were given one after another, and those of a
// measure do not: one in two of the numbers between the least and the greatest is there, those far away left aside.
func (c *Column) consecutive() bool {
	if c.Numbers == nil || len(c.Numbers.Quantiles) == 0 {
		return false
	}
	low, high := quartile(c, 0.05), quartile(c, 0.95)
	return high-low <= 2*0.9*float64(c.Filled)
}

package leads

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/intake/detect"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "total_rows", Finds: "totals among the rows, which would be counted twice",
		Threshold: "a text that is a word for totals, in at most a tenth of the cells; or a number that is the sum of all others, five at least",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Numbers != nil {
				return c.totalOfOthers()
			}
			var found []profile.Frequency
			for _, one := range c.seen() {
				word := strings.TrimRight(table.Level(one.Text), ": ")
				if slices.Contains(detect.TotalWords, word) || word == "all" && c.Distinct > 2 {
					found = append(found, one)
				}
			}
			rows := total(found)
			if rows == 0 || rows*10 > c.Filled {
				return nil
			}
			return []Lead{{Rows: rows, Texts: found, Sure: 0.9, Share: 0.5, Condition: c.noneOf(found), Says: fmt.Sprintf(
				"%s of %s %s to be of totals, not of single things: %s.", document.Counted(rows, "row", "rows"), c.Name,
				document.Plural(rows, "seems", "seem"), quoted(found))}}
		},
	})
}

// totalOfOthers finds a greatest number that is the sum of all others.
func (c *Column) totalOfOthers() []Lead {
	highest, ok := table.ParseDecimal(c.Highest)
	sum, also := table.ParseDecimal(c.Sum)
	if !ok || !also || c.Numbers.Count < 6 || highest.Sign() <= 0 || highest.Times(2).Cmp(sum) != 0 {
		return nil
	}
	return []Lead{{Rows: 1, Texts: []profile.Frequency{{Text: c.Highest, Rows: 1}}, Sure: 0.95, Share: 0.5, Says: fmt.Sprintf(
		"The greatest number of %s, %s, is the sum of all others, as a total is.", c.Name, c.Highest)}}
}

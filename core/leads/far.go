package leads

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// farMost is the part, one in so many, of a column's numbers that may lie far away and still be told: more are how the
// numbers lie.
const farMost = 200

func init() {
	Register(Kind{
		Name: "outliers", Like: "%d columns hold numbers far from the others: %s.",
		Finds:     "numbers far from the others",
		Threshold: "three interquartile ranges outside the quartiles (of logarithms, above skewed numbers), four of more than 5,000 numbers; at most 0.5 % of the numbers, or three",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Numbers == nil || c.Asked.Range {
				return nil
			}
			f := c.Numbers.Outliers.Far
			if f == nil {
				return nil
			}
			rows := f.Below + f.Above
			if rows*farMost > c.Numbers.Count && rows > 3 || c.Numbers.Count < 8 {
				return nil
			}
			about := ""
			if c.AtLeast {
				about = "About "
			}
			return []Lead{{Rows: rows, Texts: f.Texts, Sure: 0.7, Share: c.shareOf(f.Texts), Says: fmt.Sprintf(
				"%s%s of %s %s far from the others, which go from %s to %s: %s.", about, document.Counted(rows, "number", "numbers"),
				c.Name, document.Plural(rows, "lies", "lie"), f.From, f.To, quoted(f.Texts))}}
		},
	})
}

// shareOf returns the share of a column's sum that some of its numbers have.
func (c *Column) shareOf(texts []profile.Frequency) float64 {
	sum, ok := table.ParseDecimal(c.Sum)
	if !ok || sum.Sign() == 0 {
		return 0
	}
	part := table.Decimal{}
	for _, t := range texts {
		if d, ok := table.ParseDecimal(t.Text); ok {
			part = part.Add(d.Abs().Times(t.Rows))
		}
	}
	share := part.Float() / sum.Abs().Float()
	return min(share, 1)
}

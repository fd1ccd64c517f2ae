package leads

import (
	"fmt"

	"proudsieve/core/document"
)

// nearlyConstant is the share of its filled cells, in thousandths, that one value of a nearly constant column has.
const nearlyConstant = 995

func init() {
	Register(Kind{
		Name: "empty", Finds: "a column without any value", Threshold: "no filled cell", Like: "%d columns are empty: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Filled > 0 || t.Rows == 0 {
				return nil
			}
			return []Lead{{Rows: t.Rows, Sure: 0.3, Says: fmt.Sprintf("%s is empty.", c.Name)}}
		},
	})
	Register(Kind{
		Name: "constant", Finds: "a column whose cells all hold the same", Threshold: "two filled cells",
		Like: "%d columns hold one value alone: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Filled < 2 || c.Distinct != 1 || len(c.Frequent) == 0 {
				return nil
			}
			return []Lead{{Sure: 0.2, Says: fmt.Sprintf("Every filled cell of %s is %q.", c.Name, c.Frequent[0].Text)}}
		},
	})
	Register(Kind{
		Name: "nearly_constant", Finds: "a column that holds the same but for a few cells",
		Threshold: "more than 100 filled cells, 99.5 % of them the same", Like: "%d columns hold one value in nearly every cell: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Distinct < 2 || c.Filled <= 100 || len(c.Frequent) == 0 ||
				c.Frequent[0].Rows*1000 < c.Filled*nearlyConstant {
				return nil
			}
			others := c.Filled - c.Frequent[0].Rows
			return []Lead{{Rows: others, Sure: 0.4, Says: fmt.Sprintf("%s is %q in all but %s of its filled cells.", c.Name,
				c.Frequent[0].Text, document.Grouped(others))}}
		},
	})
}

package leads

import (
	"fmt"

	"proudsieve/core/document"
)

const (
	natureFilled = 5  // of a hundred cells missing, at most, where a column is filled
	natureEmpty  = 95 // at least, where it is not
	natureParts  = 3  // of the table, of each kind
	partsOfRows  = 60 // rows that a table has at least
)

func init() {
	Register(Kind{
		Name: "changes_down", Finds: "a column that is filled in one part of the file and empty in the rest",
		Threshold: "at most 5 % missing up to some row and at least 95 % after it, or the other way round; three of 48 parts of the table each",
		Like:      "%d columns are filled in one part of the file alone: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			n := len(c.Gaps)
			if n < 2*natureParts || c.Filled == 0 || t.Rows < partsOfRows {
				return nil
			}
			size := func(i int) int64 { return t.Rows*int64(i+1)/int64(n) - t.Rows*int64(i)/int64(n) }
			empty, filled := func(i int) bool { return int64(c.Gaps[i])*100 >= size(i)*natureEmpty },
				func(i int) bool { return int64(c.Gaps[i])*100 <= size(i)*natureFilled }
			for _, first := range []bool{false, true} { // the empty part last, then first
				is, then := filled, empty
				if first {
					is, then = empty, filled
				}
				split := 0
				for split < n && is(split) {
					split++
				}
				rest := split
				if rest < n && !then(rest) { // the part in which it changes
					rest++
				}
				for i := rest; i < n; i++ {
					if !then(i) {
						rest = 0
						break
					}
				}
				if split < natureParts || rest == 0 || n-rest < natureParts {
					continue
				}
				row := document.Grouped(t.Rows*int64(split)/int64(n) + 1)
				says := fmt.Sprintf("%s is empty from about row %s on.", c.Name, row)
				if first {
					says = fmt.Sprintf("%s is empty up to about row %s.", c.Name, row)
				}
				return []Lead{{Rows: c.Missing, Sure: 0.8, Says: says}}
			}
			return nil
		},
	})
}

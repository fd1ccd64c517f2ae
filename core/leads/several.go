package leads

import (
	"fmt"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "several_values", Finds: "several values in one cell",
		Threshold: "a text that is made of others of its column, between / , ; | + &; in at most a fifth of the cells",
		OfColumn: func(t *Table, c *Column) []Lead {
			texts, known := c.All()
			if !known || c.Numbers != nil || c.Dates != nil {
				return nil
			}
			single := map[string]int64{}
			for _, one := range texts {
				if !strings.ContainsAny(one.Text, separators) {
					single[table.Level(one.Text)] += one.Rows
				}
			}
			var found []profile.Frequency
			for _, one := range texts {
				if madeOf(one, single) {
					found = append(found, one)
				}
			}
			rows := total(found)
			if rows == 0 || rows*5 > c.Filled {
				return nil
			}
			return []Lead{{Rows: rows, Texts: byRows(found), Sure: 0.85, Says: fmt.Sprintf("%s of %s %s several values: %s.",
				document.Counted(rows, "cell", "cells"), c.Name, document.Plural(rows, "holds", "hold"), quoted(found))}}
		},
	})
}

const separators = "/,;|+&"

// madeOf reports whether a text is made of several that stand alone in other cells, and is rarer than they are.
func madeOf(one profile.Frequency, single map[string]int64) bool {
	parts := strings.FieldsFunc(one.Text, func(r rune) bool { return strings.ContainsRune(separators, r) })
	if len(parts) < 2 {
		return false
	}
	for _, part := range parts {
		if single[table.Level(part)] < one.Rows {
			return false
		}
	}
	return true
}

package leads

import (
	"fmt"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

// straySpace is a pattern of the spaces that are told: at either end, doubled, or other than the plain one, seen or not.
const straySpace = `^ | $|  |[\t\n\v\f\r\x{85}\x{a0}\x{ad}\x{1680}\x{2000}-\x{200d}\x{2028}\x{2029}\x{202f}\x{205f}\x{2060}\x{3000}\x{feff}]`

func init() {
	Register(Kind{
		Name: "spaces", Finds: "stray spaces before, after and inside texts, and characters that look like nothing",
		Threshold: "one cell", Like: "%d columns have stray spaces: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			s := c.Spaces
			if s.Any == 0 || c.Asked.Codes {
				return nil
			}
			var parts []string
			for _, k := range []struct {
				n    int64
				says string
			}{{s.Leading, "before"}, {s.Trailing, "after"}, {s.Doubled, "doubled inside"},
				{s.Invisible, "invisible or unusual"}} {
				if k.n > 0 {
					parts = append(parts, fmt.Sprintf("%s %s", document.Grouped(k.n), k.says))
				}
			}
			name, holds := condition.Column(c.Name), ""
			if c.Type == table.TypeText {
				holds = name + " NOT LIKE_REGEX " + condition.Text(straySpace)
			}
			return []Lead{{Rows: s.Any, Sure: 0.9, Condition: holds, Says: fmt.Sprintf("%s of %s %s stray spaces: %s.",
				document.Counted(s.Any, "cell", "cells"), c.Name, document.Plural(s.Any, "has", "have"), strings.Join(parts, ", "))}}
		},
	})
}

package leads

import (
	"fmt"
	"strings"

	"proudsieve/core/document"
)

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
			return []Lead{{Rows: s.Any, Sure: 0.9, Says: fmt.Sprintf("%s of %s %s stray spaces: %s.",
				document.Counted(s.Any, "cell", "cells"), c.Name, document.Plural(s.Any, "has", "have"), strings.Join(parts, ", "))}}
		},
	})
}

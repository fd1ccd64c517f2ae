package leads

import (
	"fmt"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

func init() {
	Register(Kind{
		Name: "header_repeated", Finds: "the header once more among the rows",
		Threshold: "the names of two columns and half of them at least, as texts in their own columns",
		OfTable: func(t *Table) []Lead {
			columns, rows, text := 0, int64(0), ""
			for i := range t.Columns {
				c := &t.Columns[i]
				if c.Column == nil {
					continue
				}
				for _, one := range c.seen() {
					if table.Trim(one.Text) == table.Trim(c.Name) {
						columns++
						if text == "" && c.Type == table.TypeText {
							text = condition.Column(c.Name) + " <> " + condition.Text(one.Text)
						}
						if rows == 0 || one.Rows < rows {
							rows = one.Rows
						}
					}
				}
			}
			if columns < 2 || columns*2 < len(t.Columns) {
				return nil
			}
			return []Lead{{Rows: rows, Sure: 0.95, Share: 0.05, Condition: text, Says: fmt.Sprintf("The header stands among the rows again, in %s.",
				document.Counted(rows, "row", "rows"))}}
		},
	})
}

package leads

import (
	"fmt"
	"unicode/utf8"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

const (
	// neighbourRarer is how many times rarer a value in the wrong column is than in the right one.
	neighbourRarer = 10
	// neighbourShared is how many values two columns may share at most and still be of different things.
	neighbourShared = 3
)

func init() {
	Register(Kind{
		Name: "neighbour_values", Finds: "values that belong to another column",
		Threshold: "columns of texts that come again and share three of them at most; ten times rarer than in the other column, which holds it in 1 % of its cells",
		OfTable: func(t *Table) []Lead {
			var out []Lead
			values := make([]map[string]int64, len(t.Columns))
			for i := range t.Columns {
				values[i] = t.Columns[i].repeated()
			}
			for i := range t.Columns {
				for k := range t.Columns {
					a, b := &t.Columns[i], &t.Columns[k]
					if i == k || values[i] == nil || values[k] == nil {
						continue
					}
					found, shared := []profile.Frequency{}, 0
					for text, rows := range values[i] {
						there, ok := values[k][text]
						if !ok {
							continue
						}
						if shared++; utf8.RuneCountInString(text) > 1 && rows*neighbourRarer <= there && there*100 >= b.Filled {
							found = append(found, profile.Frequency{Text: a.asWritten(text), Rows: rows})
						}
					}
					if rows := total(found); rows > 0 && shared <= neighbourShared && shared < len(values[i]) && rows*20 <= a.Filled {
						out = append(out, Lead{Column: a.Name, Columns: []string{a.Name, b.Name}, Rows: rows, Texts: byRows(found), Sure: 0.8,
							Says: fmt.Sprintf("%s of %s %s what belongs into %s: %s.", document.Counted(rows, "cell", "cells"), a.Name,
								document.Plural(rows, "holds", "hold"), b.Name, quoted(found))})
					}
				}
			}
			return out
		},
	})
}

// repeated returns the levelled texts of a column of texts that come again, with their rows; nil for other columns.
func (c *Column) repeated() map[string]int64 {
	if c.Column == nil || c.Numbers != nil || c.Dates != nil || c.Type == table.TypeBoolean || c.Distinct*4 > c.Filled {
		return nil
	}
	texts, known := c.All()
	if !known {
		return nil
	}
	out := map[string]int64{}
	for _, t := range texts {
		out[table.Level(t.Text)] += t.Rows
	}
	return out
}

// asWritten returns a text of the column that is the same once it is levelled.
func (c *Column) asWritten(level string) string {
	texts, _ := c.All()
	for _, t := range texts {
		if table.Level(t.Text) == level {
			return t.Text
		}
	}
	return level
}

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
			in := map[string][]int{} // the columns that a text stands in
			for i := range t.Columns {
				values[i] = t.Columns[i].repeated()
				for text := range values[i] {
					in[text] = append(in[text], i)
				}
			}
			for i := range t.Columns {
				shared := make([]int, len(t.Columns))
				for text := range values[i] {
					for _, k := range in[text] {
						shared[k]++
					}
				}
				for k, n := range shared {
					if i == k || n == 0 || n > neighbourShared || n == len(values[i]) {
						continue
					}
					if l, ok := neighbours(&t.Columns[i], &t.Columns[k], values[i], values[k]); ok {
						out = append(out, l)
					}
				}
			}
			return out
		},
	})
}

// neighbours finds what of a column belongs into another one, given the values of both.
func neighbours(a, b *Column, ofA, ofB map[string]int64) (l Lead, ok bool) {
	found := []profile.Frequency{}
	for text, rows := range ofA {
		there, shared := ofB[text]
		if shared && utf8.RuneCountInString(text) > 1 && rows*neighbourRarer <= there && there*100 >= b.Filled {
			found = append(found, profile.Frequency{Text: a.asWritten(text), Rows: rows})
		}
	}
	rows := total(found)
	if rows == 0 || rows*20 > a.Filled {
		return l, false
	}
	return Lead{Column: a.Name, Columns: []string{a.Name, b.Name}, Rows: rows, Texts: byRows(found), Sure: 0.8,
		Says: fmt.Sprintf("%s of %s %s what belongs into %s: %s.", document.Counted(rows, "cell", "cells"), a.Name,
			document.Plural(rows, "holds", "hold"), b.Name, quoted(found))}, true
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

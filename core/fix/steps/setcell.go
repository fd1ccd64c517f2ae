package steps

import (
	"fmt"
	"maps"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
)

func init() {
	fix.Register(fix.Kind{
		Name: "set_cell", Says: "sets one cell of the row that a key names",
		Fields: []fix.Field{
			{Name: "key", Says: "The texts of the row's key, by their columns", Required: true},
			{Name: "column", Kind: "column", Says: "The column of the cell", Required: true},
			{Name: "to", Says: "The new text", Required: true}},
		Declare: func(i *fix.Item) fix.Action {
			return setCell{i.KeyOf("key"), i.ColumnOf("column"), i.TextOf("to")}
		},
	})
}

type setCell struct {
	key        map[string]string // by column
	column, to string
}

func (s setCell) Columns() []string        { return append(slices.Sorted(maps.Keys(s.key)), s.column) }
func (s setCell) Sets() ([]string, string) { return []string{s.column}, s.to }

// Chosen implements fix.Setter. A row is meant where each of its cells is the same thing as the key's text.
func (s setCell) Chosen(rows rulebook.Batch) func(at int) bool {
	meant := map[int][]bool{} // by column, per code
	for name, text := range s.key {
		c := slices.Index(rows.Names, name)
		wanted := rows.Cells[c].Read(text)
		for _, there := range rows.Columns[c].Texts {
			cell := rows.Cells[c].Read(there)
			meant[c] = append(meant[c], cell.Missing == wanted.Missing && cell.Identity(there) == wanted.Identity(text))
		}
	}
	return func(at int) bool {
		for c, codes := range meant {
			if !codes[rows.Columns[c].Codes[at]] {
				return false
			}
		}
		return true
	}
}

// Note implements fix.Noter.
func (setCell) Note(matched int64) string {
	switch {
	case matched == 0:
		return "No row has this key; nothing was changed."
	case matched > 1:
		return fmt.Sprintf("%s have this key; the cell was set in each.", document.Counted(int64(matched), "row", "rows"))
	}
	return ""
}

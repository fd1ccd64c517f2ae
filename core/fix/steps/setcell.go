package steps

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/fix"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;71;31/05/2024\n", Step: "{do: set_cell, key: {sample: S1}, column: value, to: \"7,1\"}"},
		Name:    "set_cell", Says: "sets one cell of the row that a key names",
		Fields: []fix.Field{
			{Name: "key", Kind: "pairs", Says: "The texts of the row's key, by their columns", Required: true},
			{Name: "column", Kind: "column", Says: "The column of the cell", Required: true},
			{Name: "to", Says: "The new text", Required: true},
			{Name: "rows", Kind: "number", Says: "How many rows have this key, where that is not one"}},
		Declare: func(i *fix.Item) fix.Action {
			s := setCell{key: i.PairsOf("key", "{sample_id: HG-00012}"), column: i.TextOf("column"), to: i.TextOf("to"), rows: 1}
			if i.Gives("rows") {
				s.rows = int64(i.WholeOf("rows", 1, 1<<31))
			}
			return s
		},
	})
}

type setCell struct {
	key        []fix.Pair // text by column
	column, to string
	rows       int64
}

// Bind implements fix.Action. A row is meant where each of its cells is the same thing as the key's text.
func (s setCell) Bind(b *fix.Binder) *fix.Work {
	at := make([]int, len(s.key))
	for i, one := range s.key {
		at[i] = b.Column("key", one.Name)
	}
	column := b.Column("column", s.column)
	work := &fix.Work{Note: s.note}
	if !b.Earlier {
		work.Judge = s.judge
	}
	work.Edit = func(rows *fix.Rows) ([]fix.Edit, error) {
		meant := make([][]bool, len(at)) // per code
		for i, c := range at {
			wanted := rows.Cells[c].Read(s.key[i].Text)
			for _, text := range rows.Columns[c].Texts {
				cell := rows.Cells[c].Read(text)
				meant[i] = append(meant[i], cell.Missing == wanted.Missing && cell.Identity(text) == wanted.Identity(s.key[i].Text))
			}
		}
		matched := int64(0)
		edit := rows.Each(column, func(row int) (string, bool) {
			for i, c := range at {
				if !meant[i][rows.Columns[c].Codes[row]] {
					return "", true
				}
			}
			matched++
			return s.to, false
		})
		rows.Count("matched", matched)
		return []fix.Edit{edit}, nil
	}
	return work
}

func (setCell) note(counts map[string]int64) string {
	switch matched := counts["matched"]; {
	case matched == 0:
		return "No row has this key; nothing was changed."
	case matched > 1:
		return fmt.Sprintf("%s have this key; the cell is set in each.", document.Counted(matched, "row", "rows"))
	}
	return ""
}

func (s setCell) judge(counts map[string]int64) (why string, rows int64) {
	if matched := counts["matched"]; matched > s.rows || matched > 0 && matched < s.rows {
		return fmt.Sprintf("this many have the key, and the step is for %d; write rows: %d if each of them is meant, or a key that names one row", s.rows, matched), matched
	}
	return "", 0
}

package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,10;31/05/2024\nS2;AV-002;PH;n/a;\n", Step: "{do: standard_form}"},
		Name:    fix.StandardForm, KeepsMarks: true,
		Says: "writes values in the standard form: a point before decimals, dates as 2024-05-31, true and false, and nothing for a missing mark",
		Fields: []fix.Field{{Name: "columns", Kind: "columns",
			Says: "The columns whose values are written so; all where it is left out"}},
		Declare: func(i *fix.Item) fix.Action { return standardForm{i.TextsOf("columns")} },
	})
}

type standardForm struct{ columns []string }

// becomesValue is why texts are not left as they are that would be read as values then.
const becomesValue = "these are no values of their type as the table is read, but would be in standard form, with another meaning perhaps; decide each with a step set_cell or set_missing before this one"

// Bind implements fix.Action.
func (s standardForm) Bind(b *fix.Binder) *fix.Work {
	at := b.All()
	if len(s.columns) > 0 {
		at = b.Columns("columns", s.columns)
	}
	after := b.Clone()
	before := b.Cells
	for _, c := range at {
		if c >= 0 {
			after.Cells[c] = before[c].InStandardForm()
		}
	}
	return &fix.Work{Frame: after, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		edits := make([]fix.Edit, len(at))
		for i, c := range at {
			refused := map[string]bool{}
			edits[i] = rows.Rewrite(c, func(text string) (string, bool) {
				now, ok := standard(before[c], rows.Cells[c], text)
				if !ok {
					refused[text] = true
				}
				return now, false
			})
			if len(refused) == 0 {
				continue
			}
			for row := range rows.Len() {
				if text := rows.Text(c, row); refused[text] {
					rows.Refuse(row, c, text, becomesValue)
				}
			}
		}
		return edits, nil
	}}
}

// standard writes a text in standard form; false where it is no value as it is read and would become one.
func standard(before, after *rulebook.Cells, text string) (now string, ok bool) {
	if before.IsStandard(text) {
		return text, true
	}
	cell := before.Read(text)
	switch {
	case cell.Missing:
		return "", true
	case cell.Mistyped:
		return text, after.Read(text).Mistyped
	case cell.Value.Kind != table.Text:
		return cell.Value.Standard(), true
	}
	return text, true
}

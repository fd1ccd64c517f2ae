package steps

import (
	"context"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-002;PH;7,1;31/05/2024\nS2;AV-001;PH;7;01/05/2024\nS3;AV-001;PH;6;02/05/2024\n", Step: "{do: sort_rows, order: [station, taken], descending: [taken]}"},
		Name:    "sort_rows", Says: "puts the rows in the order of some columns; what has no value comes last, and rows that are equal in them stay as they are",
		Fields: []fix.Field{{Name: "order", Kind: "columns", Says: "The columns by whose values the rows are ordered", Required: true},
			{Name: "descending", Kind: "columns", Says: "Those of them whose largest value comes first"}},
		Declare: func(i *fix.Item) fix.Action {
			return sortRows{i.TextsOf("order"), i.TextsOf("descending")}
		},
	})
}

type sortRows struct{ order, descending []string }

// Bind implements fix.Action.
func (s sortRows) Bind(b *fix.Binder) *fix.Work {
	at := b.Columns("order", s.order)
	down := make([]bool, len(b.Names))
	for _, name := range s.descending {
		found := false
		for i, c := range at {
			if c >= 0 && s.order[i] == name {
				down[c], found = true, true
			}
		}
		if !found {
			b.Wrong("descending", "%q is not among the columns of \"order\"", name)
		}
	}
	all := b.All()
	return &fix.Work{Frame: b.Clone(), Make: func(ctx context.Context, t *fix.Table, out *fix.Maker) error {
		var sorter table.Sorter
		defer sorter.Close()
		if err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) ([]record, error) {
			made := make([]record, rows.Len())
			for row := range made {
				var key []byte
				for _, c := range at {
					text := rows.Text(c, row)
					key = table.AppendOrdered(key, rows.Cells[c].Read(text).Value, text, down[c])
				}
				made[row] = record{appendRow(key, rows.Rows[row]), appendTexts(nil, rows, all, row)}
			}
			return made, nil
		}, addRecords(&sorter)); err != nil {
			return err
		}
		return sorter.Each(ctx, func(key, value []byte) error { return out.Add(textsOf(value), rowIn(key)) })
	}}
}

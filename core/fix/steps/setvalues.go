package steps

import (
	"proudsieve/core/condition"
	"proudsieve/core/fix"
	"proudsieve/core/table"
)

var expressionField = fix.Field{Name: "expression", Kind: "expression",
	Says: "What is worked out in each row, in the language of conditions, as flow * 86.4 or UPPER(TRIM(site))", Required: true}

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;71;31/05/2024\nS2;AV-001;NO3;71;31/05/2024\n", Step: "{do: set_values, columns: [value], expression: value / 10, where: parameter = 'PH' AND value > 14}"},
		Name:    "set_values", Says: "writes into the cells of some rows what is worked out of the row",
		Fields: []fix.Field{columnsField, expressionField, whereField},
		Declare: func(i *fix.Item) fix.Action {
			return setValues{i.TextsOf("columns"), i.TextOf("expression")}
		},
	})
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: derive, into: year, expression: EXTRACT(YEAR FROM taken)}"},
		Name:    "derive", Says: "makes a new column of what is worked out in each row",
		Fields: []fix.Field{{Name: "into", Says: "The name of the new column", Required: true}, expressionField, whereField},
		Declare: func(i *fix.Item) fix.Action {
			return derive{i.TextOf("into"), i.TextOf("expression")}
		},
	})
}

const noValue = "without value"

func withoutValue(counts map[string]int64) string {
	return counting(counts[noValue], "row has nothing that it could be worked out of", "rows have nothing that it could be worked out of")
}

type setValues struct {
	columns    []string
	expression string
}

// Bind implements fix.Action.
func (s setValues) Bind(b *fix.Binder) *fix.Work {
	at := b.Columns("columns", s.columns)
	x := b.Expression("expression", s.expression)
	if x != nil {
		for i, c := range at {
			if c >= 0 && !takesKind(b.Cells[c].Type, x.Kind) {
				b.Wrong("expression", "it makes a %s, and the values of %q are of type %s", x.Kind, s.columns[i], b.Cells[c].Type)
			}
		}
	}
	return &fix.Work{Note: withoutValue, Edit: func(rows *fix.Rows) ([]fix.Edit, error) { return worked(rows, x, at), nil }}
}

// worked writes what an expression comes to into columns.
func worked(rows *fix.Rows, x *condition.Expression, columns []int) []fix.Edit {
	value := rows.Values(x)
	none := int64(0)
	edits := make([]fix.Edit, len(columns))
	for i, c := range columns {
		edits[i] = rows.Each(c, func(row int) (string, bool) {
			v := value(row)
			if v.Kind == table.Missing && i == 0 {
				none++
			}
			return rows.WriteWorked(c, row, v), false
		})
	}
	rows.Count(noValue, none)
	return edits
}

// takesKind reports whether a column of a type can hold values of a kind: one of texts holds all of them.
func takesKind(t table.Type, kind table.Kind) bool {
	switch t {
	case table.TypeInteger, table.TypeDecimal:
		return kind == table.Number
	case table.TypeBoolean:
		return kind == table.Boolean
	case table.TypeDate, table.TypeDateTime:
		return kind == table.Date || kind == table.Instant
	}
	return true
}

type derive struct{ into, expression string }

// Bind implements fix.Action.
func (d derive) Bind(b *fix.Binder) *fix.Work {
	b.New("into", d.into)
	x := b.Expression("expression", d.expression)
	if x == nil {
		return nil
	}
	after := b.With(d.into, b.Made(d.into, x.Kind))
	at := len(after.Names) - 1
	if t := after.Cells[at].Type; !takesKind(t, x.Kind) {
		b.Wrong("expression", "it makes a %s, and %q is declared of type %s", x.Kind, d.into, t)
	}
	return &fix.Work{Frame: after, Note: withoutValue, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		return worked(rows, x, []int{at}), nil
	}}
}

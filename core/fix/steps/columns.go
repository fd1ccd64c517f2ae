package steps

import (
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
)

func init() {
	fix.Register(fix.Kind{
		Example:    fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: rename_columns, names: {value: result}}"},
		KeepsMarks: true,
		Name:       "rename_columns", Says: "gives columns other names",
		Fields: []fix.Field{{Name: "names", Kind: "pairs", Says: "The new name of each column, by its old one", Required: true}},
		Declare: func(i *fix.Item) fix.Action {
			return renameColumns{i.PairsOf("names", "{old name: new_name}")}
		},
	})
	fix.Register(fix.Kind{
		Example:    fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: drop_columns, columns: [station, taken]}"},
		KeepsMarks: true,
		Name:       "drop_columns", Says: "leaves columns out of the table",
		Fields:  []fix.Field{{Name: "columns", Kind: "columns", Says: "The columns that go", Required: true}},
		Declare: func(i *fix.Item) fix.Action { return dropColumns{i.TextsOf("columns")} },
	})
	fix.Register(fix.Kind{
		Example:    fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: move_columns, columns: [taken], after: sample}"},
		KeepsMarks: true,
		Name:       "move_columns", Says: "gives columns other places, in the order in which they are named",
		Fields: []fix.Field{{Name: "columns", Kind: "columns", Says: "The columns that move", Required: true},
			{Name: "before", Kind: "column", Says: "The column that they stand before then; at the end where neither it nor after is given"},
			{Name: "after", Kind: "column", Says: "The column that they follow then"}},
		Declare: func(i *fix.Item) fix.Action {
			if i.Gives("before") && i.Gives("after") {
				i.Wrong("after", "columns move before one column or after one, not both")
			}
			return moveColumns{i.TextsOf("columns"), i.TextOf("before"), i.TextOf("after")}
		},
	})
}

type renameColumns struct{ names []fix.Pair }

// Bind implements fix.Action.
func (r renameColumns) Bind(b *fix.Binder) *fix.Work {
	after := b.Clone()
	for _, one := range r.names {
		if at := b.Column("names", one.Name); at >= 0 {
			after.Names[at] = one.Text
		}
	}
	for at, name := range after.Names {
		if slices.Index(after.Names, name) != at {
			b.Wrong("names", "two columns would be called %q then", name)
		}
		if name == "" {
			b.Wrong("names", "a column has a name of letters or digits")
		}
	}
	return &fix.Work{Frame: after, From: b.All()}
}

type dropColumns struct{ columns []string }

// Bind implements fix.Action.
func (d dropColumns) Bind(b *fix.Binder) *fix.Work {
	gone := b.Columns("columns", d.columns)
	var stay []int
	for _, at := range b.All() {
		if !slices.Contains(gone, at) {
			stay = append(stay, at)
		}
	}
	if len(stay) == 0 {
		b.Wrong("columns", "a table has one column at least, and none would be left")
	}
	return arranged(b, stay)
}

type moveColumns struct {
	columns       []string
	before, after string
}

// Bind implements fix.Action.
func (m moveColumns) Bind(b *fix.Binder) *fix.Work {
	moving := b.Columns("columns", m.columns)
	var order []int
	for _, at := range b.All() {
		if !slices.Contains(moving, at) {
			order = append(order, at)
		}
	}
	place := len(order)
	for field, name := range map[string]string{"before": m.before, "after": m.after} {
		if name == "" {
			continue
		}
		at := b.Column(field, name)
		if place = slices.Index(order, at); place < 0 {
			if at >= 0 {
				b.Wrong(field, "%q moves itself", name)
			}
			return nil
		}
		if field == "after" {
			place++
		}
	}
	return arranged(b, slices.Insert(order, place, moving...))
}

// arranged leaves the columns of some places, in their order.
func arranged(b *fix.Binder, places []int) *fix.Work {
	frame := &fix.Frame{Names: make([]string, len(places)), Cells: make([]*rulebook.Cells, len(places))}
	for c, at := range places {
		if at >= 0 {
			frame.Names[c], frame.Cells[c] = b.Names[at], b.Cells[at]
		}
	}
	return &fix.Work{Frame: frame, From: places}
}

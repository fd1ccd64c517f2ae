package steps

import (
	"context"
	"encoding/binary"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

// Which row fill takes a text of.
const (
	rowBefore = "row_before"
	rowAfter  = "row_after"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;01/05/2024\nS2;AV-001;PH;;03/05/2024\nS3;AV-002;PH;;02/05/2024\n", Step: "{do: fill, columns: [value], from: row_before, group: [station], order: [taken]}"},
		Name:    "fill", Says: "fills missing cells with a text, from another column, with what is worked out, or from the row before or after",
		Fields: []fix.Field{columnsField,
			{Name: "with", Says: "The text that is put in"},
			{Name: "from_column", Kind: "column", Says: "The column whose values are put in"},
			{Name: "expression", Kind: "expression", Says: "What is worked out in each row and put in"},
			{Name: "from", Kind: "choice", Choices: []string{rowBefore, rowAfter}, Says: "Whether the value of the row before or after is put in"},
			groupField, orderField,
			{Name: "limit", Kind: "number", Says: "How many gaps on end are filled from one row at the most; any number where it is left out"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			given := 0
			for _, field := range []string{"with", "from_column", "expression", "from"} {
				if i.Gives(field) {
					given++
				}
			}
			if given != 1 {
				i.Wrong("", "a step \"fill\" has one of \"with\", \"from_column\", \"expression\" and \"from\"")
			}
			if from := i.ChoiceOf("from", "a row to take a value of", nil, rowBefore, rowAfter); from != "" {
				if !i.Gives("order") {
					i.Wrong("from", "which row is before another is said by \"order\", the columns by whose values rows follow on each other")
				}
				return fillFromRow{i.TextsOf("columns"), i.TextsOf("group"), i.TextsOf("order"), from == rowAfter, i.WholeOf("limit", 1, 1<<31)}
			}
			for _, field := range []string{"group", "order", "limit"} {
				if i.Gives(field) {
					i.Wrong(field, "%q goes with from: row_before and from: row_after", field)
				}
			}
			return fill{i.TextsOf("columns"), i.TextOf("with"), i.TextOf("from_column"), i.TextOf("expression")}
		},
	})
}

type fill struct {
	columns                []string
	with, from, expression string
}

const leftEmpty = "left empty"

func leftEmptyNote(counts map[string]int64) string {
	return counting(counts[leftEmpty], "cell stays empty, since there is nothing to put in", "cells stay empty, since there is nothing to put in")
}

// Bind implements fix.Action.
func (f fill) Bind(b *fix.Binder) *fix.Work {
	at := b.Columns("columns", f.columns)
	switch {
	case f.from != "":
		from := b.Column("from_column", f.from)
		for i, c := range at {
			if from < 0 || c < 0 {
				return nil
			}
			if !takesType(b.Cells[c].Type, b.Cells[from].Type) {
				b.Wrong("from_column", "its values are of type %s, and those of %q of type %s", b.Cells[from].Type, f.columns[i], b.Cells[c].Type)
			}
		}
		return &fix.Work{Note: leftEmptyNote, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
			values := rows.Read(from)
			return filled(rows, at, func(c, row int) (string, bool) {
				switch cell := values[rows.Columns[from].Codes[row]]; {
				case cell.Missing:
					return "", false
				case cell.Mistyped || cell.Value.Kind == table.Text:
					return rows.Text(from, row), true
				default:
					return rows.Write(c, row, cell.Value), true
				}
			}), nil
		}}
	case f.expression != "":
		x := b.Expression("expression", f.expression)
		if x == nil {
			return nil
		}
		for i, c := range at {
			if c >= 0 && !takesKind(b.Cells[c].Type, x.Kind) {
				b.Wrong("expression", "it makes a %s, and the values of %q are of type %s", x.Kind, f.columns[i], b.Cells[c].Type)
			}
		}
		return &fix.Work{Note: leftEmptyNote, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
			value := rows.Values(x)
			return filled(rows, at, func(c, row int) (string, bool) {
				v := value(row)
				return rows.WriteWorked(c, row, v), v.Kind != table.Missing
			}), nil
		}}
	}
	return &fix.Work{Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		return filled(rows, at, func(int, int) (string, bool) { return f.with, true }), nil
	}}
}

// takesType reports whether the values of one type can stand in a column of another.
func takesType(t, of table.Type) bool {
	return t == of || t == table.TypeText || t == table.TypeCode && of == table.TypeText || t.IsNumber() && of.IsNumber() ||
		t == table.TypeDateTime && of == table.TypeDate || t == table.TypeDate && of == table.TypeDateTime
}

// filled puts texts into the missing cells of columns; text returns false where there is none.
func filled(rows *fix.Rows, columns []int, text func(column, row int) (string, bool)) []fix.Edit {
	edits := make([]fix.Edit, len(columns))
	for i, c := range columns {
		cells := rows.Read(c)
		edits[i] = rows.Each(c, func(row int) (string, bool) {
			if !cells[rows.Columns[c].Codes[row]].Missing {
				return "", true
			}
			now, there := text(c, row)
			if !there {
				rows.Count(leftEmpty, 1)
			}
			return now, !there
		})
	}
	return edits
}

type fillFromRow struct {
	columns, group, order []string
	after                 bool
	limit                 int
}

// Bind implements fix.Action.
func (f fillFromRow) Bind(b *fix.Binder) *fix.Work {
	at, group, order := b.Columns("columns", f.columns), b.Columns("group", f.group), b.Columns("order", f.order)
	return &fix.Work{Settle: func(ctx context.Context, t *fix.Table) (*fix.Work, error) {
		return f.settle(ctx, t, at, group, order)
	}, Note: func(counts map[string]int64) string {
		return joined(leftEmptyNote(counts),
			counting(counts["unordered"], "row has no place in the order and was left aside", "rows have no place in the order and were left aside"),
			counting(counts["tied"], "gap was filled from a row whose place in the order another row shares; of these the last in the file counts as nearest",
				"gaps were filled from rows whose place in the order other rows share; of these the last in the file counts as nearest"))
	}}
}

// settle puts the rows into order, group by group, and carries what was met last into the gaps.
func (f fillFromRow) settle(ctx context.Context, t *fix.Table, at, group, order []int) (*fix.Work, error) {
	var sorter table.Sorter
	defer sorter.Close()
	type keyed struct{ key, value []byte }
	err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) ([]keyed, error) {
		out := make([]keyed, 0, rows.Len())
		placed := placer(rows, group, order, f.after)
		for row := range rows.Len() {
			key, ok := placed(row)
			if !ok {
				rows.Count("unordered", 1)
				continue
			}
			value := []byte{0}
			if rows.Means(row) {
				value[0] = 1
			}
			for _, c := range at {
				text := rows.Text(c, row)
				if rows.Cells[c].Read(text).Missing {
					text = ""
				}
				value = append(binary.AppendUvarint(value, uint64(len(text))), text...)
			}
			out = append(out, keyed{key, value})
		}
		return out, nil
	}, func(all []keyed) error {
		for _, one := range all {
			if err := sorter.Add(one.key, one.value); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	edits := newCellEdits(at)
	if err := f.carry(ctx, t, &sorter, edits); err != nil {
		edits.close()
		return nil, err
	}
	return edits.work(ctx)
}

// placer returns the key by which a row is sorted: its group, how many bytes that has, its place in it, and its row. Rows
// without a value to be ordered by have none.
func placer(rows *fix.Rows, group, order []int, descending bool) func(row int) (key []byte, ok bool) {
	return func(row int) ([]byte, bool) {
		key := make([]byte, 0, 48)
		for _, c := range group {
			key = appendIdentity(key, rows, c, row)
		}
		length := len(key)
		for _, c := range order {
			v := rows.Cell(c, row).Value
			if v.Kind == table.Missing {
				return nil, false
			}
			key = table.AppendOrdered(key, v, "", descending)
		}
		number := rows.Rows[row]
		if descending {
			number = ^number
		}
		key = binary.BigEndian.AppendUint32(key, number)
		return binary.BigEndian.AppendUint32(key, uint32(length)), true
	}
}

// appendIdentity appends what makes a cell the same thing as another, in the order of its values.
func appendIdentity(key []byte, rows *fix.Rows, column, row int) []byte {
	text := rows.Text(column, row)
	cell := rows.Cells[column].Read(text)
	if cell.Mistyped {
		return table.AppendOrdered(key, cell.Value, text, false)
	}
	if cell.Value.Kind == table.Text {
		return table.AppendOrdered(key, table.TextValue(cell.Identity(text)), "", false)
	}
	return table.AppendOrdered(key, cell.Value, "", false)
}

// carry goes through the rows in their order.
func (f fillFromRow) carry(ctx context.Context, t *fix.Table, sorter *table.Sorter, edits *cellEdits) error {
	type last struct {
		text   string
		place  string
		filled int
		tied   bool
	}
	lasts := make([]last, len(edits.columns))
	group := ""
	return sorter.Each(ctx, func(key, value []byte) error {
		n := len(key) - 4
		length := int(binary.BigEndian.Uint32(key[n:]))
		row := binary.BigEndian.Uint32(key[n-4:])
		if f.after {
			row = ^row
		}
		if now := string(key[:length]); now != group {
			group = now
			clear(lasts)
		}
		place := string(key[length : n-4])
		meant := value[0] == 1
		value = value[1:]
		for i := range lasts {
			size, used := binary.Uvarint(value)
			text := string(value[used : used+int(size)])
			value = value[used+int(size):]
			l := &lasts[i]
			switch {
			case text != "":
				*l = last{text: text, place: place, tied: l.place == place && l.text != "" && l.text != text}
			case !meant:
			case l.text == "" || f.limit > 0 && l.filled >= f.limit:
				t.Count(leftEmpty, 1)
			default:
				l.filled++
				if l.tied {
					t.Count("tied", 1)
				}
				if err := edits.set(row, i, l.text); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

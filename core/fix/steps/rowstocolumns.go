package steps

import (
	"context"
	"slices"
	"strings"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;;PH;7,1;\nS1;;NO3;4;\nS2;;NO3;5;\n", Step: "{do: rows_to_columns, key: [sample, station, taken], names_from: parameter, values_from: value}"},
		Name:    "rows_to_columns", Says: "makes a row of each key, with a column for each of some names and its values in it",
		Fields: []fix.Field{
			{Name: "key", Kind: "columns", Says: "The columns whose values name a row", Required: true},
			{Name: "names_from", Kind: "column", Says: "The column whose texts become columns", Required: true},
			{Name: "values_from", Kind: "column", Says: "The column with the values", Required: true},
			{Name: "names", Kind: "texts", Says: "The texts that become columns, in their order; the code list of names_from where it is left out"}},
		Declare: func(i *fix.Item) fix.Action {
			return rowsToColumns{i.TextsOf("key"), i.TextOf("names_from"), i.TextOf("values_from"), i.TextsOf("names")}
		},
	})
}

type rowsToColumns struct {
	key         []string
	name, value string
	names       []string
}

const (
	unnamed     = "these are not among the names that become columns; add them to names, or set their rows aside before"
	contradicts = "several rows have the same key and name, with different values; a step keep_one before this one would settle it"
)

// Bind implements fix.Action.
func (s rowsToColumns) Bind(b *fix.Binder) *fix.Work {
	key, name, value := b.Columns("key", s.key), b.Column("names_from", s.name), b.Column("values_from", s.value)
	if name < 0 || value < 0 || slices.Contains(key, -1) {
		return nil
	}
	names := s.names
	if len(names) == 0 {
		list := b.Cells[name].Codes()
		if list == nil {
			b.Wrong("names_from", "%q has no code list; say in names which of its texts become columns", s.name)
			return nil
		}
		for _, code := range list.Codes {
			names = append(names, code.Code)
		}
	}
	frame := &fix.Frame{}
	for _, at := range key {
		frame = frame.With(b.Names[at], b.Cells[at])
	}
	for _, one := range names {
		frame.NewIn(b, "names", one)
		frame = frame.With(one, b.Cells[value])
	}
	for at, other := range b.Names {
		if at != name && at != value && !slices.Contains(key, at) {
			b.Wrong("key", "the column %q is neither of the key nor turned; a step drop_columns before this one would leave it out", other)
		}
	}
	return &fix.Work{Frame: frame, From: whence(key, len(names)), Make: func(ctx context.Context, t *fix.Table, out *fix.Maker) error {
		return s.make(ctx, t, out, b.Cells, key, name, value, names)
	}}
}

func (s rowsToColumns) make(ctx context.Context, t *fix.Table, out *fix.Maker, cells []*rulebook.Cells, key []int, name, value int, names []string) error {
	columns := append(slices.Clone(key), name, value)
	var sorter, made table.Sorter // rows by their key, and made rows by the first of those
	defer sorter.Close()
	defer made.Close()
	if err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) ([]record, error) {
		records := make([]record, rows.Len())
		for at := range records {
			var group []byte
			for _, c := range key {
				group = appendIdentity(group, rows, c, at)
			}
			records[at] = record{appendRow(group, rows.Rows[at]), appendTexts(nil, rows, columns, at)}
		}
		return records, nil
	}, addRecords(&sorter)); err != nil {
		return err
	}
	w := &wideRow{step: s, table: t, made: &made, cells: cells, key: key, name: name, value: value, names: names}
	if err := sorter.Each(ctx, func(k, v []byte) error { return w.add(k, textsOf(v)) }); err != nil {
		return err
	}
	if err := w.end(); err != nil {
		return err
	}
	return made.Each(ctx, func(_, v []byte) error {
		texts := textsOf(v)
		return out.Add(texts[1:], rowsIn(texts[0])...)
	})
}

// rowsIn are the numbers of rows, four bytes each.
func rowsIn(raw string) []uint32 {
	out := make([]uint32, 0, len(raw)/4)
	for ; len(raw) > 0; raw = raw[4:] {
		out = append(out, rowIn([]byte(raw[:4])))
	}
	return out
}

// wideRow is the row of one key, as far as its values were met.
type wideRow struct {
	step        rowsToColumns
	table       *fix.Table
	made        *table.Sorter
	cells       []*rulebook.Cells
	key         []int
	name, value int
	names       []string

	group string
	first uint32
	from  []byte
	texts []string
	set   []bool
}

func (w *wideRow) add(key []byte, texts []string) error {
	row := rowIn(key)
	if group := string(key[:len(key)-4]); w.texts == nil || group != w.group {
		if err := w.end(); err != nil {
			return err
		}
		w.group, w.first, w.from = group, row, nil
		w.texts, w.set = append(slices.Clone(texts[:len(w.key)]), make([]string, len(w.names))...), make([]bool, len(w.names))
	}
	w.from = appendRow(w.from, row)
	name, value := texts[len(w.key)], texts[len(w.key)+1]
	cell := w.cells[w.name].Read(name)
	at := slices.Index(w.names, strings.TrimSpace(cell.Identity(name)))
	if at < 0 {
		w.table.Refuse(unnamed, 1, fix.Place{Row: row, Column: w.step.name, Text: name})
		return nil
	}
	identity := func(text string) string { return w.cells[w.value].Read(text).Identity(text) }
	if there := &w.texts[len(w.key)+at]; w.set[at] && identity(*there) != identity(value) {
		w.table.Refuse(contradicts, 1, fix.Place{Row: row, Column: w.step.value, Text: value})
	} else if !w.set[at] {
		*there, w.set[at] = value, true
	}
	return nil
}

func (w *wideRow) end() error {
	if w.texts == nil {
		return nil
	}
	var value []byte
	for _, text := range append([]string{string(w.from)}, w.texts...) {
		value = appendSized(value, text)
	}
	return w.made.Add(appendRow(nil, w.first), value)
}

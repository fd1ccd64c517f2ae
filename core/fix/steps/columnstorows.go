package steps

import (
	"context"
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: columns_to_rows, columns: [sample, station], names_to: what, values_to: which}"},
		Name:    "columns_to_rows", Says: "makes a row of each cell of some columns: one new column has their headings, one their values; the other columns are repeated",
		Fields: []fix.Field{
			{Name: "columns", Kind: "columns", Says: "The columns that become rows"},
			{Name: "heading_dates", Says: "Takes every column whose heading is a date by this pattern, as dd/MM/yyyy; the headings are written as dates then"},
			{Name: "names_to", Says: "The new column with the headings", Required: true},
			{Name: "values_to", Says: "The new column with the values", Required: true},
			{Name: "gaps", Kind: "choice", Choices: []string{"keep", "leave_out"}, Says: "Whether empty cells become rows; they do where it is left out"}},
		Declare: func(i *fix.Item) fix.Action {
			c := columnsToRows{columns: i.TextsOf("columns"), names: i.TextOf("names_to"), values: i.TextOf("values_to"),
				without: i.ChoiceOf("gaps", "what becomes of empty cells", nil, "keep", "leave_out") == "leave_out"}
			if i.Gives("columns") == i.Gives("heading_dates") {
				i.Wrong("", "a step \"columns_to_rows\" has either \"columns\" or \"heading_dates\"")
			}
			if i.Gives("heading_dates") {
				p, err := table.ParseDatePattern(i.TextOf("heading_dates"))
				if err != nil {
					i.Wrong("heading_dates", "%v", err)
				}
				c.pattern = &p
			}
			return c
		},
	})
}

type columnsToRows struct {
	columns       []string
	pattern       *table.DatePattern
	names, values string
	without       bool // empty cells
}

// Bind implements fix.Action.
func (s columnsToRows) Bind(b *fix.Binder) *fix.Work {
	turned := b.Columns("columns", s.columns)
	headings := slices.Clone(s.columns)
	kind := table.Text
	if s.pattern != nil {
		for at, name := range b.Names {
			micros, ok := s.pattern.Parse(name)
			if !ok {
				continue
			}
			heading := table.InstantValue(micros)
			if kind = table.Instant; !s.pattern.Timed() {
				heading, kind = table.DateValue(heading.Day()), table.Date
			}
			turned, headings = append(turned, at), append(headings, heading.Standard())
		}
		if kind == table.Text { // none yet, as in a rulebook that does not name the days
			kind = table.Date
		}
		if len(turned) == 0 && !b.Reading {
			b.Wrong("heading_dates", "no column has a heading that is a date by %s", s.pattern.String())
		}
	}
	frame := &fix.Frame{}
	var stay []int
	for _, at := range b.All() {
		if !slices.Contains(turned, at) {
			stay = append(stay, at)
			frame = frame.With(b.Names[at], b.Cells[at])
		}
	}
	for field, name := range map[string]string{"names_to": s.names, "values_to": s.values} {
		frame.NewIn(b, field, name)
	}
	if s.names == s.values {
		b.Wrong("values_to", "the headings and the values need a column each")
	}
	frame = frame.With(s.names, b.Made(s.names, kind)).With(s.values, s.cells(b, turned))
	return &fix.Work{Frame: frame, From: whence(stay, 2), Note: func(counts map[string]int64) string {
		return counting(counts["gaps"], "empty cell was left out", "empty cells were left out")
	}, Make: func(ctx context.Context, t *fix.Table, out *fix.Maker) error {
		return s.make(ctx, t, out, stay, turned, headings)
	}}
}

// whence says where the columns of a new frame were before: some, and so many new ones.
func whence(stay []int, more int) []int {
	out := slices.Clone(stay)
	for range more {
		out = append(out, -1)
	}
	return out
}

// cells returns how the values are read: as those of the columns, where these are all of one type and written in one way.
func (s columnsToRows) cells(b *fix.Binder, turned []int) *rulebook.Cells {
	var first *rulebook.Cells
	for i, at := range turned {
		switch {
		case at < 0:
		case first == nil:
			first = b.Cells[at]
		case !first.Alike(b.Cells[at]):
			b.Wrong("columns", "%q and %q are read in different ways (%s and %s); steps standard_form or convert before this one would settle it",
				b.Names[turned[0]], b.Names[turned[i]], first.Type, b.Cells[at].Type)
			return first
		}
	}
	declared := b.Result.Column(s.values)
	switch {
	case first == nil:
		return b.Made(s.values, table.Text)
	case first.Declared == nil && declared != nil && declared.Type != table.TypeCode: // headings that no rulebook can name
		return b.Book.CellsOfType(declared.Type)
	}
	return first
}

func (s columnsToRows) make(ctx context.Context, t *fix.Table, out *fix.Maker, stay, turned []int, headings []string) error {
	type batch struct {
		rows  []uint32
		cells [][]string // of each row: those that stay, then those that are turned
		empty [][]bool
	}
	return fix.Scan(ctx, t, nil, func(rows *fix.Rows) (batch, error) {
		b := batch{rows: rows.Rows}
		for at := range rows.Len() {
			cells, empty := make([]string, 0, len(stay)+len(turned)), make([]bool, len(turned))
			for _, c := range stay {
				cells = append(cells, rows.Text(c, at))
			}
			for i, c := range turned {
				text := rows.Text(c, at)
				empty[i] = rows.Cells[c].Read(text).Missing
				cells = append(cells, text)
			}
			b.cells, b.empty = append(b.cells, cells), append(b.empty, empty)
		}
		return b, nil
	}, func(b batch) error {
		row := make([]string, len(stay)+2)
		for at, cells := range b.cells {
			copy(row, cells[:len(stay)])
			for i, heading := range headings {
				if s.without && b.empty[at][i] {
					t.Count("gaps", 1)
					continue
				}
				row[len(stay)], row[len(stay)+1] = heading, cells[len(stay)+i]
				if err := out.Add(row, b.rows[at]); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

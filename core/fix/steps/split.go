package steps

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

var (
	splitColumn = fix.Field{Name: "column", Kind: "column", Says: "The column whose texts are split", Required: true}
	splitAt     = fix.Field{Name: "at", Says: "The text between the parts, as / or a space"}
)

// What becomes of a measure where a row becomes several.
const (
	keptOnce   = "kept_once" // it stands in the first of them
	shared     = "shared"    // each has the same part of it
	leftBlank  = "blank"     // it stands in none
	keepInLast = "keep_in_last"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1/2;AV-001;PH;7,1;31/05/2024\n", Step: "{do: split_into_columns, column: sample, at: /, into: [bottle, part]}"},
		Name:    "split_into_columns", Says: "makes new columns of the parts of a text; the column that they come from stays",
		Fields: []fix.Field{splitColumn, splitAt,
			{Name: "pattern", Says: "A pattern (RE2) that fits the whole text, whose groups are the parts"},
			{Name: "into", Kind: "texts", Says: "The names of the new columns, in the order of the parts", Required: true},
			{Name: "surplus", Kind: "choice", Choices: []string{keepInLast}, Says: "keep_in_last: more parts than columns stay together in the last one; the step is refused otherwise"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			s := splitColumns{column: i.TextOf("column"), at: i.TextOf("at"), into: i.TextsOf("into"),
				last: i.ChoiceOf("surplus", "what becomes of surplus parts", nil, keepInLast) != ""}
			if i.Gives("at") == i.Gives("pattern") {
				i.Wrong("", "a step \"split_into_columns\" has either \"at\" or \"pattern\"")
			}
			if i.Gives("at") && s.at == "" {
				i.Wrong("at", "what stands between the parts is not an empty text")
			}
			if i.Gives("pattern") {
				expression, err := regexp.Compile(`\A(?:` + i.TextOf("pattern") + `)\z`)
				switch {
				case err != nil:
					i.Wrong("pattern", "%q is no pattern: %v", i.TextOf("pattern"), err)
				case expression.NumSubexp() != len(s.into):
					i.Wrong("pattern", "it has %s, and \"into\" names %s", document.Counted(int64(expression.NumSubexp()), "group", "groups"),
						document.Counted(int64(len(s.into)), "column", "columns"))
				}
				s.pattern = expression
			}
			return s
		},
	})
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH+NO3;7,1;31/05/2024\n", Step: "{do: split_into_rows, column: parameter, at: +, measures: {value: kept_once}}"},
		Name:    "split_into_rows", Says: "makes a row of each part of a text, with the other cells repeated",
		Fields: []fix.Field{splitColumn, {Name: "at", Says: splitAt.Says, Required: true},
			{Name: "measures", Kind: "pairs", Says: "What becomes of each measure of a row that becomes several: kept_once, shared or blank"}},
		Declare: func(i *fix.Item) fix.Action {
			s := splitRows{column: i.TextOf("column"), at: i.TextOf("at"), measures: i.PairsOf("measures", "{load: kept_once}")}
			if s.at == "" {
				i.Wrong("at", "what stands between the parts is not an empty text")
			}
			for _, one := range s.measures {
				if !slices.Contains([]string{keptOnce, shared, leftBlank}, one.Text) {
					i.Wrong("measures", "%q is not what can become of a measure; it is kept_once, shared or blank", one.Text)
				}
			}
			return s
		},
	})
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: put_together, columns: [station, parameter], with: '-', into: series}"},
		Name:    "put_together", Says: "makes a new column of the texts of several, with something between them; missing ones are left out",
		Fields: []fix.Field{{Name: "columns", Kind: "columns", Says: "The columns, in their order", Required: true},
			{Name: "with", Says: "The text between them", Required: true},
			{Name: "into", Says: "The name of the new column", Required: true}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			return putTogether{i.TextsOf("columns"), i.TextOf("with"), i.TextOf("into")}
		},
	})
}

type splitColumns struct {
	column, at string
	pattern    *regexp.Regexp
	into       []string
	last       bool // surplus parts stay in the last column
}

// parts returns the parts of a text; false where the pattern does not fit.
func (s splitColumns) parts(text string) ([]string, bool) {
	if s.pattern != nil {
		found := s.pattern.FindStringSubmatch(text)
		if found == nil {
			return nil, false
		}
		return found[1:], true
	}
	limit := -1
	if s.last {
		limit = len(s.into)
	}
	parts := strings.SplitN(text, s.at, limit)
	for i := range parts {
		parts[i] = table.Trim(parts[i])
	}
	return parts, true
}

// Bind implements fix.Action.
func (s splitColumns) Bind(b *fix.Binder) *fix.Work {
	from := b.Column("column", s.column)
	frame := b.Frame
	for _, name := range s.into {
		frame.NewIn(b, "into", name)
		frame = frame.With(name, b.Made(name, table.Text))
	}
	first := len(b.Names)
	return &fix.Work{Frame: frame, Note: func(counts map[string]int64) string {
		return joined(counting(counts["fewer"], "text has fewer parts than there are columns", "texts have fewer parts than there are columns"),
			counting(counts["unfit"], "text does not fit the pattern, and none of its parts is set", "texts do not fit the pattern, and none of their parts are set"))
	}, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		split := make([][]string, len(rows.Columns[from].Texts))
		for code, text := range rows.Columns[from].Texts {
			if !rows.Cells[from].Read(text).Missing {
				split[code], _ = s.parts(text)
			}
		}
		edits := make([]fix.Edit, len(s.into))
		for i := range s.into {
			edits[i] = rows.Each(first+i, func(row int) (string, bool) {
				parts := split[rows.Columns[from].Codes[row]]
				if i == 0 && len(parts) > 0 {
					s.tell(rows, from, row, len(parts))
				}
				if i >= len(parts) {
					return "", true
				}
				return parts[i], false
			})
		}
		for code, n := range rows.Counts(from) {
			if split[code] == nil && !rows.Cells[from].Read(rows.Columns[from].Texts[code]).Missing {
				rows.Count("unfit", n)
			}
		}
		return edits, nil
	}}
}

func (s splitColumns) tell(rows *fix.Rows, from, row, parts int) {
	switch {
	case parts > len(s.into):
		rows.Refuse(row, from, rows.Text(from, row), fmt.Sprintf("these texts have more parts than the %s of \"into\"; name more columns, or write surplus: keep_in_last",
			document.Counted(int64(len(s.into)), "column", "columns")))
	case parts < len(s.into):
		rows.Count("fewer", 1)
	}
}

type splitRows struct {
	column, at string
	measures   []fix.Pair
}

// Bind implements fix.Action.
func (s splitRows) Bind(b *fix.Binder) *fix.Work {
	from := b.Column("column", s.column)
	fate := make([]string, len(b.Names))
	for _, one := range s.measures {
		if at := b.Column("measures", one.Name); at >= 0 {
			if fate[at] = one.Text; one.Text == shared && !b.Cells[at].Type.IsNumber() {
				b.Wrong("measures", "%q is shared among rows, and its values are of type %s, no numbers", one.Name, b.Cells[at].Type)
			}
		}
	}
	for _, m := range b.Book.Measures {
		if at := b.At(m); at >= 0 && fate[at] == "" && at != from {
			b.Wrong("measures", "what becomes of the measure %q of a row that becomes several? Write kept_once, shared or blank", m)
		}
	}
	return &fix.Work{Frame: b.Clone(), Note: func(counts map[string]int64) string {
		return counting(counts["split"], "row becomes several", "rows become several")
	}, Make: func(ctx context.Context, t *fix.Table, out *fix.Maker) error { return s.make(ctx, t, out, from, fate) }}
}

func (s splitRows) make(ctx context.Context, t *fix.Table, out *fix.Maker, from int, fate []string) error {
	type made struct {
		cells [][]string
		rows  []uint32
		split int64
	}
	return fix.Scan(ctx, t, nil, func(rows *fix.Rows) (m made, err error) {
		for at := range rows.Len() {
			parts := []string{rows.Text(from, at)}
			if !rows.Cell(from, at).Missing && strings.Contains(parts[0], s.at) {
				parts = slices.DeleteFunc(strings.Split(parts[0], s.at), func(p string) bool { return table.Trim(p) == "" })
				if len(parts) == 0 {
					parts = []string{rows.Text(from, at)}
				}
				for i := range parts {
					parts[i] = table.Trim(parts[i])
				}
			}
			if len(parts) > 1 {
				m.split++
			}
			for i, part := range parts {
				cells := make([]string, len(rows.Columns))
				for c := range cells {
					cells[c] = rows.Text(c, at)
					if fate[c] != "" && len(parts) > 1 {
						cells[c] = shareOf(rows.Cells[c], cells[c], fate[c], i, len(parts))
					}
				}
				cells[from] = part
				m.cells, m.rows = append(m.cells, cells), append(m.rows, rows.Rows[at])
			}
		}
		return m, nil
	}, func(m made) error {
		t.Count("split", m.split)
		for i, cells := range m.cells {
			if err := out.Add(cells, m.rows[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// shareDecimals is how many more decimals than the whole a share has.
const shareDecimals = 6

// shareOf is what the i-th of n rows has of a measure. Shares add up to the whole: the last one has what rounding left.
func shareOf(cells *rulebook.Cells, text, fate string, i, n int) string {
	switch {
	case fate == leftBlank, fate == keptOnce && i > 0:
		return ""
	case fate == keptOnce:
		return text
	}
	whole := cells.Read(text).Value
	if whole.Kind != table.Number {
		if i > 0 {
			return ""
		}
		return text
	}
	quotient, _ := whole.Number.Div(table.DecimalOf(int64(n), 0))
	one := quotient.Round(whole.Number.Places() + shareDecimals)
	if i == n-1 {
		one = whole.Number.Sub(one.Times(int64(n - 1)))
	}
	if short, ok := table.ParseDecimal(one.Shortest()); ok {
		one = short
	}
	share, ok := cells.Write(table.NumberValue(one))
	if !ok {
		return one.String()
	}
	return share
}

type putTogether struct {
	columns    []string
	with, into string
}

// Bind implements fix.Action.
func (p putTogether) Bind(b *fix.Binder) *fix.Work {
	at := b.Columns("columns", p.columns)
	b.New("into", p.into)
	after := b.With(p.into, b.Made(p.into, table.Text))
	into := len(after.Names) - 1
	return &fix.Work{Frame: after, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		return []fix.Edit{rows.Each(into, func(row int) (string, bool) {
			var parts []string
			for _, c := range at {
				if text := rows.Text(c, row); !rows.Cells[c].Read(text).Missing {
					parts = append(parts, text)
				}
			}
			return strings.Join(parts, p.with), false
		})}, nil
	}}
}

package steps

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What becomes of a column where rows become one.
var gathers = []string{"sum", "mean", "count", "least", "largest", "first", "last", "share_true"}

var periods = []string{"hour", "day", "week", "month", "quarter", "year"}

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\nS2;AV-001;PH;7,3;02/05/2024\nS3;AV-001;PH;7;01/06/2024\n", Step: "{do: change_grain, group: [station], time: taken, period: month, gather: {value: mean}, rows_into: samples}"},
		Name:    "change_grain", Says: "makes one row of those that are alike in some columns, or fall into one period",
		Fields: []fix.Field{
			{Name: "group", Kind: "columns", Says: "The columns by whose values rows become one"},
			{Name: "time", Kind: "column", Says: "The column of dates or datetimes by whose periods rows become one"},
			{Name: "period", Kind: "choice", Choices: periods, Says: "hour, day, week (from Monday), month, quarter or year; it stands in the column by its first day"},
			{Name: "gather", Kind: "pairs", Says: "What becomes of other columns: sum, mean, count, least, largest, first, last or share_true; the columns that are not named are left out", Required: true},
			{Name: "decimals", Kind: "number", Says: "How many decimals means and shares have; as many as they take, up to 16 digits, where it is left out"},
			{Name: "rows_into", Says: "The new column that says how many rows each was made of", Required: true}},
		Declare: func(i *fix.Item) fix.Action {
			g := changeGrain{group: i.TextsOf("group"), time: i.TextOf("time"), gather: i.PairsOf("gather", "{flow: mean}"),
				period: i.ChoiceOf("period", "a period", nil, periods...), rows: i.TextOf("rows_into"), decimals: -1}
			if i.Gives("time") != i.Gives("period") {
				i.Wrong("time", "\"time\" and \"period\" go together")
			}
			if !i.Gives("time") && len(g.group) == 0 {
				i.Wrong("", "a step \"change_grain\" has \"group\", or \"time\" and \"period\", or all of them")
			}
			if i.Gives("decimals") {
				g.decimals = i.WholeOf("decimals", 0, 30)
			}
			for _, one := range g.gather {
				if !slices.Contains(gathers, one.Text) {
					i.Wrong("gather", "%q is not what can become of a column; it is one of %s", one.Text, strings.Join(gathers, ", "))
				}
			}
			return g
		},
	})
}

type changeGrain struct {
	group        []string
	time, period string
	gather       []fix.Pair
	decimals     int
	rows         string
}

// Bind implements fix.Action.
func (g changeGrain) Bind(b *fix.Binder) *fix.Work {
	by := b.Columns("group", g.group)
	frame := &fix.Frame{}
	from := slices.Clone(by)
	for i, at := range by {
		if at >= 0 {
			frame = frame.With(g.group[i], b.Cells[at])
		}
	}
	var period *condition.Expression
	if g.time != "" {
		at := b.Column("time", g.time)
		if at < 0 {
			return nil
		}
		if t := b.Cells[at].Type; t != table.TypeDate && t != table.TypeDateTime {
			b.Wrong("time", "the values of %q are of type %s; periods are of dates and datetimes", g.time, t)
			return nil
		}
		source := fmt.Sprintf("DATE_TRUNC('%s', %q)", g.period, g.time)
		if period = b.Expression("time", source); period == nil {
			return nil
		}
		frame, from = frame.With(g.time, b.Cells[at]), append(from, at)
	}
	columns := make([]int, len(g.gather))
	for i, one := range g.gather {
		columns[i] = b.Column("gather", one.Name)
		frame.NewIn(b, "gather", one.Name)
		if columns[i] < 0 {
			continue
		}
		frame, from = frame.With(one.Name, g.cells(b, one, columns[i])), append(from, columns[i])
		if one.Text == "count" || one.Text == "share_true" {
			from[len(from)-1] = -1
		}
	}
	frame.NewIn(b, "rows_into", g.rows)
	frame, from = frame.With(g.rows, rulebook.OfType(table.TypeInteger)), append(from, -1)
	var out []string
	for _, name := range b.Names {
		if frame.At(name) < 0 {
			out = append(out, name)
		}
	}
	return &fix.Work{Frame: frame, From: from, Note: func(counts map[string]int64) string {
		left := ""
		if len(out) > 0 {
			left = "Left out: " + strings.Join(out, ", ") + "."
		}
		return joined(left, counting(counts["no period"], "row has no date in the column of the period; such rows become one of their own",
			"rows have no date in the column of the period; they become rows of their own"),
			counting(counts["no number"], "text that is no value of its type was not gathered", "texts that are no values of their type were not gathered"))
	}, Make: func(ctx context.Context, t *fix.Table, made *fix.Maker) error {
		return g.make(ctx, t, made, frame, b.Cells, by, period, columns)
	}}
}

// cells returns how a gathered column is read.
func (g changeGrain) cells(b *fix.Binder, one fix.Pair, at int) *rulebook.Cells {
	cells := b.Cells[at]
	switch one.Text {
	case "count":
		return rulebook.OfType(table.TypeInteger)
	case "share_true":
		if cells.Type != table.TypeBoolean {
			b.Wrong("gather", "%q has values of type %s; a share of what is true is one of booleans", one.Name, cells.Type)
		}
		return rulebook.OfType(table.TypeDecimal)
	case "mean":
		b.Numbers("gather", []string{one.Name})
		if cells.Type == table.TypeInteger {
			return rulebook.OfType(table.TypeDecimal)
		}
	case "sum":
		b.Numbers("gather", []string{one.Name})
	}
	return cells
}

func (g changeGrain) make(ctx context.Context, t *fix.Table, out *fix.Maker, frame *fix.Frame, cells []*rulebook.Cells, by []int,
	period *condition.Expression, columns []int) error {
	all := append(slices.Clone(by), columns...)
	time := -1
	if period != nil {
		time = len(by)
	}
	var sorter table.Sorter
	defer sorter.Close()
	if err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) ([]record, error) {
		records := make([]record, rows.Len())
		var value func(at int) table.Value
		if period != nil {
			value = rows.Values(period)
		}
		for at := range records {
			var key []byte
			for _, c := range by {
				key = appendIdentity(key, rows, c, at)
			}
			texts := appendTexts(nil, rows, all, at)
			if period != nil {
				v := value(at)
				if v.Kind == table.Missing {
					rows.Count("no period", 1)
				}
				key = table.AppendOrdered(key, v, "", false)
				texts = appendSized(texts, periodText(frame.Cells[time], v))
			}
			records[at] = record{appendRow(key, rows.Rows[at]), texts}
		}
		return records, nil
	}, addRecords(&sorter)); err != nil {
		return err
	}
	one := &grain{changeGrain: g, table: t, out: out, frame: frame, cells: cells, by: len(by), columns: columns, timed: period != nil}
	if err := sorter.Each(ctx, func(key, value []byte) error { return one.add(key, textsOf(value)) }); err != nil {
		return err
	}
	return one.end()
}

// periodText writes the first day of a period as the column's cells are written: as a date in a column of dates.
func periodText(cells *rulebook.Cells, v table.Value) string {
	if v.Kind == table.Instant && cells.Type == table.TypeDate {
		v = table.DateValue(v.Day())
	}
	text, ok := cells.Write(v)
	if !ok {
		return v.Standard()
	}
	return text
}

// grain is a row that is made of others, as far as those were met.
type grain struct {
	changeGrain
	table   *fix.Table
	out     *fix.Maker
	frame   *fix.Frame
	cells   []*rulebook.Cells
	by      int
	columns []int
	timed   bool

	group    string
	began    bool
	texts    []string // of the group
	period   string
	rows     []uint32
	gathered []gathered
}

type gathered struct {
	n, true     int64
	sum         table.Decimal
	least, most table.Value
	first, last string
	leastText   string
	mostText    string
}

func (g *grain) add(key []byte, texts []string) error {
	if group := string(key[:len(key)-4]); !g.began || group != g.group {
		if err := g.end(); err != nil {
			return err
		}
		g.began, g.group, g.texts, g.rows, g.gathered = true, group, slices.Clone(texts[:g.by]), nil, make([]gathered, len(g.columns))
		if g.timed {
			g.period = texts[len(texts)-1]
		}
	}
	g.rows = append(g.rows, rowIn(key))
	for i, c := range g.columns {
		text := texts[g.by+i]
		cell := g.cells[c].Read(text)
		switch v := cell.Value; {
		case cell.Mistyped:
			g.table.Count("no number", 1)
		case !cell.Missing:
			g.gathered[i].add(v, text)
		}
	}
	return nil
}

func (g *gathered) add(v table.Value, text string) {
	if g.n == 0 {
		g.first, g.least, g.most, g.leastText, g.mostText = text, v, v, text, text
	}
	g.n++
	g.last = text
	if v.Kind == table.Number {
		g.sum = g.sum.Add(v.Number)
	}
	if v.True {
		g.true++
	}
	if table.Compare(v, g.least) < 0 {
		g.least, g.leastText = v, text
	}
	if table.Compare(v, g.most) > 0 {
		g.most, g.mostText = v, text
	}
}

func (g *grain) end() error {
	if !g.began {
		return nil
	}
	cells := slices.Clone(g.texts)
	if g.timed {
		cells = append(cells, g.period)
	}
	for i, one := range g.gather {
		cells = append(cells, g.text(one.Text, &g.gathered[i], g.frame.Cells[len(cells)]))
	}
	return g.out.Add(append(cells, fmt.Sprint(len(g.rows))), g.rows...)
}

// text is what became of a column; nothing where there were no values.
func (g *grain) text(how string, of *gathered, cells *rulebook.Cells) string {
	if how == "count" {
		return fmt.Sprint(of.n)
	}
	if of.n == 0 {
		return ""
	}
	n := table.DecimalOf(of.n, 0)
	var number table.Decimal
	switch how {
	case "first":
		return of.first
	case "last":
		return of.last
	case "least":
		return of.leastText
	case "largest":
		return of.mostText
	case "sum":
		number = of.sum
	case "mean":
		number = g.quotient(of.sum, n)
	case "share_true":
		number = g.quotient(table.DecimalOf(of.true, 0), n)
	}
	text, ok := cells.Write(table.NumberValue(number))
	if !ok {
		return number.String()
	}
	return text
}

func (g *grain) quotient(a, n table.Decimal) table.Decimal {
	q, _ := a.Div(n) // n is one at least
	if g.decimals >= 0 {
		return q.Round(g.decimals)
	}
	short, _ := table.ParseDecimal(q.Shortest())
	return short
}

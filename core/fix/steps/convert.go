package steps

import (
	"strings"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// How values are written that convert reads.
const (
	fromUnit     = "unit"
	fromPercent  = "percent"
	fromCurrency = "currency"
	fromBrackets = "brackets"
	fromPattern  = "pattern"
)

func init() {
	choices := []string{fromUnit, fromPercent, fromCurrency, fromBrackets, table.DayNumber, table.DayNumber1904, fromPattern}
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;NO3;310 ug/L;31/05/2024\nS2;AV-001;NO3;0,4;31/05/2024\n", Step: "{do: convert, columns: [value], from: unit, unit: ug/L, times: 0.001}"},
		Name:    "convert", Says: "writes values that are in another unit, or written in another way, as those of the column",
		Fields: []fix.Field{columnsField,
			{Name: "from", Kind: "choice", Choices: choices, Required: true,
				Says: "unit (times a number and plus one), percent (12 % is 0.12), currency (its sign goes), brackets ((5) is -5), day_number and day_number_1904 (days as spreadsheets count them), pattern (dates)"},
			{Name: "unit", Says: "What is written before or after the numbers that are meant, as ug/L; every number where it is left out"},
			{Name: "times", Kind: "number", Says: "The factor"},
			{Name: "plus", Kind: "number", Says: "What is added then"},
			{Name: "pattern", Says: "The pattern of the dates, as yyyyMMdd"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			c := convert{columns: i.TextsOf("columns"), from: i.ChoiceOf("from", "a way in which values are written", nil, choices...), unit: i.TextOf("unit")}
			times, timed := i.NumberOf("times")
			plus, added := i.NumberOf("plus")
			if c.times = table.DecimalOf(1, 0); timed {
				c.times = times
			}
			c.plus = plus
			for field, goes := range map[string]bool{"times": timed, "plus": added} {
				if goes && c.from != fromUnit {
					i.Wrong(field, "%q goes with from: unit", field)
				}
			}
			switch {
			case c.from == fromUnit && !timed && !added && !i.Gives("unit"):
				i.Wrong("", "from: unit needs \"times\", \"plus\" or \"unit\"")
			case c.from == fromCurrency && c.unit == "":
				i.Wrong("", "from: currency needs \"unit\", the sign of the currency")
			case c.unit != "" && c.from != fromUnit && c.from != fromCurrency:
				i.Wrong("unit", "\"unit\" goes with from: unit and from: currency")
			case c.from == fromPattern != i.Gives("pattern"):
				i.Wrong("", "from: pattern needs \"pattern\", and nothing else has it")
			}
			source := c.from
			if c.from == fromPattern {
				source = i.TextOf("pattern")
			}
			if c.isDate() && source != "" {
				p, err := table.ParseDatePattern(source)
				if err != nil {
					i.Wrong("pattern", "%v", err)
				}
				c.pattern = p
			}
			return c
		},
	})
}

type convert struct {
	columns     []string
	from, unit  string
	times, plus table.Decimal
	pattern     table.DatePattern
}

func (c convert) isDate() bool {
	return c.from == fromPattern || c.from == table.DayNumber || c.from == table.DayNumber1904
}

// Bind implements fix.Action.
func (c convert) Bind(b *fix.Binder) *fix.Work {
	return rewriter{columns: c.columns, rewrite: func(column *bound, text string) (string, string) {
		return c.convert(column.Cells[column.at], text)
	}, note: func(counts map[string]int64) string {
		return joined(counting(counts["unwritten"], "value cannot be written in its column and stays as it is", "values cannot be written in their column and stay as they are"),
			counting(counts["others"], "text is not written so and stays as it is", "texts are not written so and stay as they are"))
	}, fits: func(b *fix.Binder, name string, at int) {
		t := b.Cells[at].Type
		if dates := t == table.TypeDate || t == table.TypeDateTime; t != table.TypeText && dates != c.isDate() {
			b.Wrong("from", "from: %s makes %s, and %q has none: its values are of type %s", c.from, c.makes(), name, t)
		}
	}}.Bind(b)
}

func (c convert) makes() string {
	if c.isDate() {
		return "dates"
	}
	return "numbers"
}

// convert returns a text as the column writes it; texts that are not written in the way that is meant stay.
func (c convert) convert(cells *rulebook.Cells, text string) (now, counted string) {
	cell := cells.Read(text)
	if cell.Missing {
		return text, ""
	}
	v, ok := c.value(cells, table.Trim(text))
	if !ok {
		if cell.Mistyped || cells.Type == table.TypeText {
			return text, "others"
		}
		return text, "" // it is a value already
	}
	if now, ok = cells.Write(v); !ok {
		return text, "unwritten"
	}
	if cells.Type == table.TypeText {
		now = v.Standard()
	}
	return now, ""
}

func (c convert) value(cells *rulebook.Cells, text string) (v table.Value, ok bool) {
	number := func(text string) (table.Decimal, bool) {
		v, ok := cells.ParseAs(table.TypeDecimal, table.Trim(text))
		return v.Number, ok
	}
	bare, beside := text, false
	switch c.from {
	case fromUnit, fromCurrency:
		if c.unit != "" {
			if bare, beside = without(text, c.unit); !beside {
				return v, false
			}
		}
		d, ok := number(bare)
		return table.NumberValue(d.Mul(c.times).Add(c.plus)), ok
	case fromPercent:
		if bare, beside = without(text, "%"); !beside {
			return v, false
		}
		d, ok := number(bare)
		return table.NumberValue(d.Mul(table.DecimalOf(1, 2))), ok
	case fromBrackets:
		if bare, beside = strings.CutPrefix(text, "("); !beside || !strings.HasSuffix(bare, ")") {
			return v, false
		}
		d, ok := number(strings.TrimSuffix(bare, ")"))
		return table.NumberValue(d.Neg()), ok && d.Sign() >= 0
	}
	micros, ok := c.pattern.Parse(text)
	v = table.InstantValue(micros)
	if cells.Type == table.TypeDate || !c.pattern.Timed() && c.from == fromPattern && cells.Type != table.TypeDateTime {
		day := table.DateValue(v.Day())
		return day, ok && table.Compare(day, v) == 0
	}
	return v, ok
}

// without takes off what is written before or after a number.
func without(text, beside string) (string, bool) {
	if rest, ok := strings.CutSuffix(text, beside); ok {
		return rest, true
	}
	return strings.CutPrefix(text, beside)
}

package rules

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "no_gaps", Section: "table_rules", Place: 30, Dimension: rulebook.Completeness,
		Fields: []rulebook.FieldForm{inField,
			{Name: "step", Kind: "text", Required: true, Says: "day, week, month, quarter, year, or a whole number",
				Aspect: "step", Eases: rulebook.EasesAny},
			perField},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			return noGaps{in: i.ColumnOf("in", rulebook.AnyColumn), per: i.ColumnsOf("per", "per", rulebook.AnyColumn),
				step: stepOf(i)}
		},
	})
}

// step is the distance between neighbours in a series: so many days or months, or of numbers so many.
type step struct {
	days, months int
	number       int64
	says         string
}

var calendarSteps = map[string]step{"day": {days: 1}, "week": {days: 7}, "month": {months: 1}, "quarter": {months: 3},
	"year": {months: 12}}

// stepOf reads day, week, month, quarter, year, or a whole number.
func stepOf(i *rulebook.Item) step {
	text := i.TextOf("step")
	s, calendar := calendarSteps[text]
	if s.says = text; !calendar {
		n, err := strconv.ParseInt(text, 10, 64)
		switch {
		case !i.Gives("step"):
		case err != nil:
			i.Wrong("step", "a step (day, week, month, quarter, year, or a whole number) is a whole number, not %q",
				text)
		case n < 1:
			i.Wrong("step", "a step is 1 or more")
		}
		s.number = max(n, 1)
	}
	column, _ := i.Said("in")
	switch t := i.TypeOf(column); {
	case t == "" || !i.Gives("step"):
	case t == table.TypeDate && !calendar:
		i.Wrong("step", "%q is of type date, so that its step is day, week, month, quarter or year", column)
	case t == table.TypeInteger && calendar:
		i.Wrong("step", "%q is of type integer, so that its step is a whole number", column)
	case t != table.TypeDate && t != table.TypeInteger:
		i.Wrong("step", "%q is of type %s; a series is of dates or whole numbers", column, t)
	}
	return s
}

// noGaps is broken by the row after each gap in a series of dates or whole numbers.
type noGaps struct {
	onTable
	in   string
	per  []string
	step step
}

func (r noGaps) Columns() []string { return append(slices.Clone(r.per), r.in) }

func (r noGaps) Says() string {
	return sentence(fmt.Sprintf("%sno %s is left out between the first and the last %s", forEach(r.per), r.step.says,
		r.in))
}

func (r noGaps) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.per, Value: r.in}
}

// Begin implements rulebook.TableRule.
func (r noGaps) Begin(context.Context, *rulebook.Around) (rulebook.TableJudge, error) {
	return &gapsJudge{r, map[table.Hash]*series{}}, nil
}

// series are the places of one group in a series of dates or numbers.
type series struct {
	label  string
	places []place
}

type place struct {
	at  int64
	row uint32
}

type gapsJudge struct {
	noGaps
	groups map[table.Hash]*series
}

// placeOf counts days or months, or is the number itself.
func (r noGaps) placeOf(v table.Value) (int64, bool) {
	switch {
	case v.Kind == table.Date && r.step.months > 0:
		when := time.Unix(v.When*86_400, 0).UTC()
		return int64(when.Year())*12 + int64(when.Month()), true
	case v.Kind == table.Date:
		return v.When, true
	case v.Kind == table.Number && v.Number.IsWhole():
		return v.Number.Units(0, false), true
	}
	return 0, false
}

func (j *gapsJudge) Take(rows []rulebook.TableRow) error {
	for i := range rows {
		one := &rows[i]
		at, ok := j.placeOf(one.Value)
		if !ok {
			continue
		}
		g, err := groupOf(j.groups, one, j.per, func(label string) *series { return &series{label: label} })
		if err != nil {
			return err
		}
		if n := len(g.places); n == 0 || g.places[n-1].at != at {
			g.places = append(g.places, place{at, one.Row})
		}
	}
	return nil
}

func (j *gapsJudge) End() (rulebook.Outcome, error) {
	o := rulebook.Outcome{Rows: table.NewRowSet(), Texts: map[string]int64{}}
	length := int64(j.step.days) + int64(j.step.months) + j.step.number
	groups := slices.SortedFunc(maps.Values(j.groups),
		func(a, b *series) int { return strings.Compare(a.label, b.label) })
	gaps, left, first := int64(0), int64(0), ""
	for _, g := range groups {
		slices.SortFunc(g.places, func(a, b place) int {
			return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.row, b.row))
		})
		for i := 1; i < len(g.places); i++ {
			before, after := g.places[i-1], g.places[i]
			n := (after.at - before.at - 1) / length
			if n < 1 {
				continue
			}
			gaps++
			left += n
			o.Rows.Add(after.row)
			text := "after " + j.written(before.at)
			if g.label != "" {
				text = g.label + ": " + text
			}
			if first == "" {
				first = text
			}
			if len(o.Texts) < textsKept {
				o.Texts[text] += n
			}
		}
	}
	if gaps > 0 {
		o.Found = fmt.Sprintf("%s %s %s in the series of %s, with %s %s left out; the first one is %s.",
			document.Plural(gaps, "There is", "There are"),
			document.Grouped(gaps), document.Plural(gaps, "gap", "gaps"), j.in, document.Grouped(left), j.leftOut(left),
			first)
	}
	return o, nil
}

func (r noGaps) leftOut(n int64) string {
	if r.step.number > 0 {
		return document.Plural(n, "number", "numbers")
	}
	return document.Plural(n, r.step.says, r.step.says+"s")
}

func (r noGaps) written(at int64) string {
	switch {
	case r.step.months > 0:
		return fmt.Sprintf("%04d-%02d", (at-1)/12, (at-1)%12+1)
	case r.step.days > 0:
		return table.DateValue(at).Standard()
	}
	return fmt.Sprint(at)
}

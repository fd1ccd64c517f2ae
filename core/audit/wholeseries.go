package audit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

type orderJudge struct {
	rule *rulebook.TableRule
	last map[table.Hash]table.Value
	rows *table.RowSet
	of   int64
}

func (j *orderJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		if one.value.Kind == table.Missing {
			continue
		}
		last, met := j.last[one.group]
		switch {
		case !met && len(j.last) == groupLimit:
			return tooManyGroups(j.rule)
		case met && table.Compare(one.value, last) < 0:
			j.rows.Add(one.row)
		}
		if one.value.Kind == table.Text {
			one.value.Text = strings.Clone(one.value.Text)
		}
		j.last[one.group] = one.value
	}
	return nil
}

func (j *orderJudge) end() (outcome, error) {
	n := int64(j.rows.GetCardinality())
	if n == 0 {
		return outcome{}, nil
	}
	return outcome{found: fmt.Sprintf("%s of %s %s %s a %s below the one before.", Grouped(n), Grouped(j.of), plural(j.of, "row", "rows"), plural(n, "has", "have"), j.rule.In), rows: j.rows}, nil
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

type seriesJudge struct {
	rule   *rulebook.TableRule
	groups map[table.Hash]*series
}

// placeOf counts days or months, or is the number itself.
func (j *seriesJudge) placeOf(v table.Value) (int64, bool) {
	switch {
	case v.Kind == table.Date && j.rule.Step.Months > 0:
		when := time.Unix(v.When*86_400, 0).UTC()
		return int64(when.Year())*12 + int64(when.Month()), true
	case v.Kind == table.Date:
		return v.When, true
	case v.Kind == table.Number && v.Number.IsWhole():
		return v.Number.Units(0, false), true
	}
	return 0, false
}

func (j *seriesJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		at, ok := j.placeOf(one.value)
		if !ok {
			continue
		}
		g, err := groupOf(j.groups, one, j.rule, func(label string) *series { return &series{label: label} })
		if err != nil {
			return err
		}
		if n := len(g.places); n == 0 || g.places[n-1].at != at {
			g.places = append(g.places, place{at, one.row})
		}
	}
	return nil
}

func (j *seriesJudge) end() (outcome, error) {
	o := outcome{rows: table.NewRowSet(), texts: map[string]int64{}}
	step := int64(j.rule.Step.Days) + int64(j.rule.Step.Months) + j.rule.Step.Number
	groups := slices.SortedFunc(maps.Values(j.groups), func(a, b *series) int { return strings.Compare(a.label, b.label) })
	gaps, left, first := int64(0), int64(0), ""
	for _, g := range groups {
		slices.SortFunc(g.places, func(a, b place) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.row, b.row)) })
		for i := 1; i < len(g.places); i++ {
			before, after := g.places[i-1], g.places[i]
			n := (after.at - before.at - 1) / step
			if n < 1 {
				continue
			}
			gaps++
			left += n
			o.rows.Add(after.row)
			text := "after " + j.written(before.at)
			if g.label != "" {
				text = g.label + ": " + text
			}
			if first == "" {
				first = text
			}
			if len(o.texts) < textsKept {
				o.texts[text] += n
			}
		}
	}
	if gaps > 0 {
		o.found = fmt.Sprintf("%s %s %s in the series of %s, with %s %s left out; the first one is %s.", plural(gaps, "There is", "There are"), Grouped(gaps), plural(gaps, "gap", "gaps"), j.rule.In, Grouped(left), j.leftOut(left), first)
	}
	return o, nil
}

func (j *seriesJudge) leftOut(n int64) string {
	if j.rule.Step.Number > 0 {
		return plural(n, "number", "numbers")
	}
	return plural(n, j.rule.Step.Says, j.rule.Step.Says+"s")
}

func (j *seriesJudge) written(at int64) string {
	switch {
	case j.rule.Step.Months > 0:
		return fmt.Sprintf("%04d-%02d", (at-1)/12, (at-1)%12+1)
	case j.rule.Step.Days > 0:
		return table.DateValue(at).Standard()
	}
	return fmt.Sprint(at)
}

package audit

import (
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// judge judges the texts of one column, each once per batch. What is wrong with a text are
// bits, one for each of the column's rules on cells.
type judge struct {
	cells  *rulebook.Cells
	checks []columnCheck
	// what is broken by every missing and by every mistyped cell
	lacking, mistyped uint16
	values            []columnCheck // of values
	sweep             sweep
	dates             []datesPattern // of a swept column of dates, in the order in which they are tried
	plain             []plainCheck   // of a swept column of texts
	units             *unitsCheck    // of a swept column of numbers; nil for no bounds
	// digitsAlike says that texts which differ in nothing but their digits are judged alike.
	digitsAlike bool
}

// columnCheck is the bit of a check within one column's verdict.
type columnCheck struct {
	bit   uint16
	check int
	rule  rulebook.CellRule
}

type plainCheck struct {
	bit  uint16
	rule rulebook.PlainRule
}

// unitsCheck has the bounds of a number, in units of each number of digits after the point.
type unitsCheck struct {
	bit             uint16
	lowest, highest [19]int64
}

// sweep says which texts of a column can be judged in passing.
type sweep uint8

const (
	sweepNothing sweep = iota
	sweepNumbers
	sweepTexts
	sweepDates
)

func (j *judge) add(rule rulebook.CellRule, check int) {
	c := columnCheck{1 << len(j.checks), check, rule}
	if c.bit == 0 {
		panic("audit: a column has more than 16 rules on cells")
	}
	j.checks = append(j.checks, c)
	switch rule.Speaks() {
	case rulebook.Lacking:
		j.lacking |= c.bit
	case rulebook.Mistyped:
		j.mistyped |= c.bit
	default:
		j.values = append(j.values, c)
	}
}

func (j *judge) findSweep() {
	switch {
	case j.cells.Type == table.TypeText:
		j.sweepTexts()
	case j.cells.Type.IsNumber():
		j.sweepNumbers()
	default:
		if rivals, _ := j.cells.Patterns(); len(rivals) == 0 { // which have to be counted
			j.sweepDates()
		}
	}
}

// datesPattern is a pattern by which dates are written.
type datesPattern struct {
	table.DatePattern
	standard bool // what is written by it is what the date is identified by
}

// sweepDates sweeps a column of dates or datetimes whose texts are plain.
func (j *judge) sweepDates() {
	standard := table.ISODates[0].String()
	if j.cells.Type == table.TypeDateTime {
		standard = table.ISODateTimes[0].String()
	}
	for _, pattern := range j.cells.PlainDates() {
		j.sweep = sweepDates
		j.dates = append(j.dates, datesPattern{pattern, pattern.String() == standard})
	}
}

// dateOf reads a date in a text, and says whether it is identified by that text.
func (j *judge) dateOf(text string) (micros int64, standard, ok bool) {
	for i := range j.dates {
		if micros, ok = j.dates[i].Parse(text); ok {
			return micros, j.dates[i].standard, true
		}
	}
	return 0, false, false
}

func (j *judge) sweepTexts() {
	j.digitsAlike = len(j.values) > 0
	for _, one := range j.values {
		rule, ok := one.rule.(rulebook.PlainRule)
		if !ok {
			return
		}
		j.plain = append(j.plain, plainCheck{one.bit, rule})
		j.digitsAlike = j.digitsAlike && rule.DigitsAlike()
	}
	j.sweep = sweepTexts
}

func (j *judge) sweepNumbers() {
	if len(j.values) > 1 {
		return
	}
	for _, one := range j.values {
		rule, ok := one.rule.(rulebook.UnitsRule)
		if !ok {
			return
		}
		j.units = &unitsCheck{bit: one.bit}
		for scale := range j.units.lowest {
			j.units.lowest[scale], j.units.highest[scale] = rule.Units(scale)
		}
	}
	j.sweep = sweepNumbers
}

// ofPlainText judges a text of printable characters without spaces, of a swept column.
func (j *judge) ofPlainText(t table.Token) (broken uint16) {
	for i := range j.plain {
		if one := &j.plain[i]; one.rule.BreaksPlain(t) {
			broken |= one.bit
		}
	}
	return broken
}

func (u *unitsCheck) outOfRange(coefficient int64, scale uint8) bool {
	return coefficient < u.lowest[scale] || coefficient > u.highest[scale]
}

// judge reads a text and says, by its bits, what is wrong with it.
func (j *judge) judge(text string) (cell rulebook.Cell, broken uint16) {
	cell = j.cells.Read(text)
	switch {
	case cell.Missing:
		return cell, j.lacking
	case cell.Mistyped:
		return cell, j.mistyped
	}
	for i := range j.values {
		if one := &j.values[i]; one.rule.Breaks(cell, text) {
			broken |= one.bit
		}
	}
	return cell, broken
}

package rulebook

import (
	"proudsieve/core/intake/detect"
	"proudsieve/core/table"
)

// typicalShare is how many of a hundred filled cells must be of a type for a column to
// be of it; the others are then shown as exceptions.
const typicalShare = 90

// Draft is the rulebook of a table that nobody has declared anything about: the type of
// each column as its first rows suggest, and no rule that could be broken but by a value
// of another type. It passes whatever its score.
func Draft(dataset string, d *detect.Detection, names []string) *Rulebook {
	book := &Rulebook{Dataset: dataset, Reading: d.Reading, CodeLists: map[string]*CodeList{}}
	for i, name := range names {
		c := Column{Name: name, Type: table.TypeText, Weight: 1}
		if i < len(d.Columns) && d.Sample != nil {
			draftColumn(&c, d, i)
		}
		book.Columns = append(book.Columns, c)
	}
	for c := range book.Columns {
		book.Expect("columns", Note, &book.Columns[c])
	}
	return book
}

// Expect adds the rules that an item of a section has by itself, as the type of a column.
func (b *Rulebook) Expect(section string, severity Severity, column *Column) {
	i := newItem(&parser{book: b}, SectionOf(section), nil)
	i.Severity, i.Column = severity, column
	for _, k := range KindsOf(section) {
		i.declare(k)
	}
	b.sortRules()
}

// draftColumn gives a column the narrowest type that most of its cells are of.
func draftColumn(c *Column, d *detect.Detection, i int) {
	e, reading := &d.Columns[i], d.Reading
	if dates := e.Dates; dates != nil && dates.Status == detect.DatesDecided &&
		dates.Patterns[0].Pattern != "yyyyMMdd" && typical(dates.Patterns[0].Rows, e.Filled) {
		c.Type, c.Dates = table.TypeDate, []string{dates.Patterns[0].Pattern}
		if dates.Instants {
			c.Type = table.TypeDateTime
		}
		return
	}
	if m := e.Numbers; m != nil && (m.DecimalMark != reading.DecimalMark || m.GroupingMark != reading.GroupingMark) &&
		m.DecidedRow > 0 {
		c.DecimalMark, c.GroupingMark = m.DecimalMark, m.GroupingMark
	}
	book := Rulebook{Reading: reading}
	format, column := book.Format(c), &d.Sample.Columns[i]
	counts := column.Counts(nil)
	for _, t := range []table.Type{table.TypeInteger, table.TypeDecimal, table.TypeDate, table.TypeDateTime,
		table.TypeBoolean} {
		fits := 0
		for code, text := range column.Texts {
			if _, ok := format.Parse(t, text); ok && !leadingZero(t, text) {
				fits += int(counts[code])
			}
		}
		if typical(fits, e.Filled) {
			c.Type = t
			return
		}
	}
}

func typical(fits, filled int) bool { return filled > 0 && fits*100 >= filled*typicalShare }

// leadingZero reports whether a number would lose its leading zeros: 00712 names
// something, it does not count.
func leadingZero(t table.Type, text string) bool {
	return t.IsNumber() && len(text) > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '9'
}

package rulebook

import (
	"slices"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/table"
)

// typicalShare is how many of a hundred filled cells must be of a type for a column to
// be of it; the others are then shown as exceptions.
const typicalShare = 90

// Draft is the rulebook of a table that nobody has declared anything about: the type of each column as its first
// rows suggest, and no rule at all.
func Draft(dataset string, d *detect.Detection, names []string) *Rulebook {
	book := &Rulebook{Dataset: dataset, Reading: d.Reading, CodeLists: map[string]*CodeList{}}
	return book.WithOpen(names, d.Columns, d.Sample)
}

// Judges reports whether anything is declared that a table could break.
func (b *Rulebook) Judges() bool { return len(b.Rules) > 0 }

// Expect adds the rules that an item of a section has by itself, as that no two rows are equal.
func (b *Rulebook) Expect(section string, severity Severity) {
	i := newItem(&parser{book: b}, SectionOf(section), nil)
	i.Severity = severity
	for _, k := range KindsOf(section) {
		i.declare(k)
	}
	b.sortRules()
}

// WithOpen returns the rulebook with the columns that it does not declare, each of the type that the first rows of a
// table suggest: what is seen of their values, and the rows; nil where there are none.
func (b *Rulebook) WithOpen(names []string, seen []detect.ColumnEvidence, rows *table.Batch) *Rulebook {
	copied := *b
	copied.Columns = slices.Clone(b.Columns)
	for i, name := range names {
		if copied.Column(name) != nil {
			continue
		}
		c := Column{Name: name, Type: table.TypeText, Weight: 1, Open: true}
		if i < len(seen) && rows != nil {
			suggest(&c, b.Reading, &seen[i], &rows.Columns[i])
		}
		copied.Columns = append(copied.Columns, c)
	}
	return &copied
}

// WithTypes returns the rulebook with the columns that it does not declare, of types that are known.
func (b *Rulebook) WithTypes(names []string, types map[string]table.Type) *Rulebook {
	copied := *b
	copied.Columns = slices.Clone(b.Columns)
	for _, name := range names {
		if copied.Column(name) == nil {
			copied.Columns = append(copied.Columns, Column{Name: name, Type: types[name], Weight: 1, Open: true})
		}
	}
	return &copied
}

// Opened is what all values of an open column decided.
type Opened struct {
	Type  table.Type
	Dates string // the pattern, of dates that have one of their own
}

// Settled returns the rulebook with its open columns as all of their values decided.
func (b *Rulebook) Settled(opened map[string]Opened) *Rulebook {
	copied := *b
	copied.Columns = slices.Clone(b.Columns)
	for i := range copied.Columns {
		c := &copied.Columns[i]
		is, known := opened[c.Name]
		if !c.Open || !known {
			continue
		}
		patterns := slices.Concat(c.Dates, c.Rivals)
		c.Type, c.Dates, c.Rivals = is.Type, nil, nil
		for _, p := range patterns {
			if p == is.Dates {
				c.Dates = []string{p}
			} else {
				c.Rivals = append(c.Rivals, p)
			}
		}
	}
	return &copied
}

// ReadsAs reports whether the open columns are read as all of their values decided already.
func (b *Rulebook) ReadsAs(opened map[string]Opened) bool {
	return !slices.ContainsFunc(b.Columns, func(c Column) bool {
		is, known := opened[c.Name]
		return known && !c.ReadsAs(is)
	})
}

// ReadsAs reports whether a column is read as all of its values decided; one that is declared always is.
func (c *Column) ReadsAs(is Opened) bool {
	return !c.Open || ReadAlike(c.Type, is.Type) && strings.Join(c.Dates, "") == is.Dates
}

// ReadAlike reports whether the texts of two types become the same values in an open column.
func ReadAlike(a, b table.Type) bool { return a == b || a.IsNumber() && b.IsNumber() }

// suggest gives a column the narrowest type that most of its cells are of.
func suggest(c *Column, reading intake.Reading, e *detect.ColumnEvidence, column *table.Column) {
	if dates := e.Dates; dates != nil && dates.Patterns[0].Pattern != "yyyyMMdd" {
		for _, p := range dates.Patterns {
			for _, or := range append([]string{p.Pattern, detect.Swapped(p.Pattern)}, p.Or...) {
				if or != "" && !slices.Contains(c.Rivals, or) {
					c.Rivals = append(c.Rivals, or)
				}
			}
		}
		c.Rivals = c.Rivals[:min(len(c.Rivals), mostRivals)]
		if dates.Status == detect.DatesDecided && typical(dates.Patterns[0].Rows, e.Filled) {
			c.Type, c.Dates, c.Rivals = table.TypeDate, c.Rivals[:1:1], c.Rivals[1:]
			if dates.Instants {
				c.Type = table.TypeDateTime
			}
		}
		return
	}
	if m := e.Numbers; m != nil && (m.DecimalMark != reading.DecimalMark || m.GroupingMark != reading.GroupingMark) &&
		m.DecidedRow > 0 {
		c.DecimalMark, c.GroupingMark = m.DecimalMark, m.GroupingMark
	}
	book := Rulebook{Reading: reading}
	format, counts := book.Format(c), column.Counts(nil)
	for _, t := range []table.Type{table.TypeInteger, table.TypeDecimal, table.TypeDate, table.TypeDateTime,
		table.TypeBoolean} {
		fits := 0
		for code, text := range column.Texts {
			if v, ok := format.Parse(t, text); ok && !(v.Kind == table.Number && table.ZeroPadded(text)) {
				fits += int(counts[code])
			}
		}
		if typical(fits, e.Filled) {
			c.Type = t
			return
		}
	}
}

// mostRivals is how many patterns of dates an open column is held against.
const mostRivals = 8

func typical(fits, filled int) bool { return filled > 0 && fits*100 >= filled*typicalShare }

package rulebook

import (
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// Cells reads the cells of one column as the rulebook declares it.
type Cells struct {
	Declared *Column // nil where the rulebook does not know the column
	Type     table.Type
	Required bool // declared so, or part of a key
	// Open says that nobody declared the type. A number with a zero too many before it is none then: 00712 names
	// something, and counts nothing.
	Open     bool
	format   *table.Format
	codes    *CodeList
	marks    map[string]bool
	longest  int                 // of the marks, in bytes
	truth    int                 // of the words for true and false, in bytes; of an open column
	patterns []table.DatePattern // that the dates of an open column may be written by, where there are several
	own      string              // the pattern by which they are read
	typed    *[256]bool          // the bytes that numbers and dates of an open column are made of
	written  Written             // how the format was declared
}

// InStandardForm reads the cells of the column as a table of ours in standard form has them: nothing but the empty cell is
// missing, numbers have a point, dates are those of ISO 8601.
func (c *Cells) InStandardForm() *Cells {
	copied := *c
	copied.format, copied.marks, copied.longest, copied.written = &table.StandardFormat, nil, 0, Written{}
	return &copied
}

// AsDecimal reads the cells of a column of numbers as decimals.
func (c *Cells) AsDecimal() *Cells {
	copied := *c
	copied.Type = table.TypeDecimal
	return &copied
}

// OfType reads the cells of a column that no rulebook declares and that is of a type, in standard form.
func OfType(t table.Type) *Cells { return &Cells{Type: t, format: &table.StandardFormat} }

// IsStandard reports, at a glance, that a text means the same in standard form: it is not missing, and its column is
// written so. It may be false of others that do.
func (c *Cells) IsStandard(text string) bool {
	if !c.written.isStandard() || text == "" || c.mayBeMissing(text) {
		return false
	}
	switch c.Type {
	case table.TypeText, table.TypeCode:
		return true
	case table.TypeInteger, table.TypeDecimal:
		return plainNumber(text)
	case table.TypeDate:
		return true // by ISO 8601 there is one way to write a day
	}
	return false
}

// plainNumber reports that a text is a number as we write it: digits, a point, a minus sign.
func plainNumber(text string) bool {
	digits := strings.TrimPrefix(text, "-")
	if len(digits) == 0 || len(digits) > 17 || digits[0] < '0' || digits[0] > '9' || digits[0] == '0' && (len(digits) == 1 && len(text) > 1 || len(digits) > 1 && digits[1] != '.') {
		return false
	}
	point := false
	for i := range len(digits) {
		switch c := digits[i]; {
		case c >= '0' && c <= '9':
		case c == '.' && !point && i < len(digits)-1:
			point = true
		default:
			return false
		}
	}
	return len(text) == len(digits) || strings.Trim(digits, "0.") != "" // -0.0 is 0.0
}

// Write writes a value as a text that the column's cells are read as; false where there is none.
func (c *Cells) Write(v table.Value) (text string, ok bool) {
	if text, ok = c.format.Write(c.Type, v); !ok || c.Type == table.TypeText || c.Type == table.TypeCode {
		return text, ok
	}
	read := c.Read(text)
	return text, !read.Mistyped && read.Missing == (v.Kind == table.Missing) && table.Compare(read.Value, v) == 0
}

// ParseAs reads a text as a value of another type than the column's, with the marks and patterns of the column.
func (c *Cells) ParseAs(t table.Type, text string) (table.Value, bool) {
	return c.format.Parse(t, text)
}

// Written returns how the cells are written, where that is not the standard form.
func (c *Cells) Written() (Written, bool) {
	switch {
	case c.written.isStandard():
		return Written{}, false
	case c.Type.IsNumber():
		return Written{DecimalMark: c.written.DecimalMark, GroupingMark: c.written.GroupingMark, With: c.written.With,
			Brackets: c.written.Brackets}, c.format.DecimalMark == ',' || !c.format.PlainNumbers()
	case c.Type == table.TypeDate || c.Type == table.TypeDateTime:
		return Written{Dates: c.written.Dates}, len(c.written.Dates) > 0
	case c.Type == table.TypeBoolean:
		return Written{TrueWords: c.written.TrueWords, FalseWords: c.written.FalseWords}, len(c.written.TrueWords) > 0
	}
	return Written{}, false
}

// WrittenAs reports whether values are written in one way in both columns, which are of one type.
func (c *Cells) WrittenAs(o *Cells) bool {
	a, aOther := c.Written()
	b, bOther := o.Written()
	return aOther == bOther && a.equal(b)
}

// Alike reports whether the same text is the same value in both columns.
func (c *Cells) Alike(o *Cells) bool {
	return c.Type == o.Type && c.WrittenAs(o) && c.codes == o.codes && maps.Equal(c.marks, o.marks)
}

// Cell is what the text of a cell stands for.
type Cell struct {
	Value    table.Value // missing where the text stands for nothing or is not of the type
	Missing  bool
	Mistyped bool
	Spelling bool // another spelling of a code; Value holds the code
	Unknown  bool // in no way in the code list
	Ended    bool // a code that has ended
}

// Cells returns the reader of a column's cells.
func (b *Rulebook) Cells(name string) *Cells { return b.cells(b.Column(name)) }

// CellsOfType reads the cells of a column that the rulebook does not name as values of a type, by the marks and patterns of
// its reading.
func (b *Rulebook) CellsOfType(t table.Type) *Cells { return b.cells(&Column{Type: t}) }

func (b *Rulebook) cells(c *Column) *Cells {
	out := &Cells{Declared: c, Type: table.TypeText, format: b.Format(c), marks: map[string]bool{}, written: b.written(c)}
	for _, m := range b.Reading.Missing {
		m = table.Trim(m)
		out.marks[m] = true
		out.longest = max(out.longest, len(m))
	}
	if c == nil {
		return out
	}
	out.Type, out.Required = c.Type, c.Required
	if c.Open {
		if c.Type == table.TypeInteger { // as long as all of them are
			out.Type = table.TypeDecimal
		}
		out.Open, out.Declared, out.truth = true, nil, out.format.LongestTruth()
		out.own = strings.Join(c.Dates, "")
		if all := slices.Concat(c.Dates, c.Rivals); len(all) > 1 {
			out.patterns = table.MustDatePatterns(all...)
		}
		out.typed = out.format.TypedBytes(out.patterns)
	}
	if c.Type == table.TypeCode {
		out.codes = b.CodeLists[c.CodeList]
	}
	return out
}

// Read judges one text. A text is missing where it is blank or one of the
// reading's marks, spaces around it left aside. Another spelling of a code has the
// code that is meant as its value, so that conditions do not report one fault as two.
func (c *Cells) Read(text string) Cell {
	if text == "" {
		return Cell{Missing: true}
	}
	if c.mayBeMissing(text) {
		if trimmed := table.Trim(text); trimmed == "" || c.marks[trimmed] {
			return Cell{Missing: true}
		}
	}
	value, ok := c.format.Parse(c.Type, text)
	if !ok || c.Open && value.Kind == table.Number && table.ZeroPadded(text) {
		return Cell{Value: table.MistypedValue(), Mistyped: true}
	}
	if c.codes == nil {
		return Cell{Value: value}
	}
	if i, ok := c.codes.exact[text]; ok {
		return Cell{Value: value, Ended: c.codes.Codes[i].Ended}
	}
	i, ok := c.codes.levelled[table.Level(text)]
	if !ok {
		return Cell{Value: value, Unknown: c.codes.Lacking == ""}
	}
	code := &c.codes.Codes[i]
	return Cell{Value: table.TextValue(code.Code), Spelling: true, Ended: code.Ended}
}

// mayBeMissing rules most texts out: a blank one starts with a space of some kind, and a
// mark is short, or has spaces to be levelled.
func (c *Cells) mayBeMissing(text string) bool {
	if first := text[0]; first <= ' ' || first > '~' && spaceLike(utf8.DecodeRuneInString(text)) {
		return true
	}
	if c.longest == 0 {
		return false
	}
	last := text[len(text)-1]
	return len(text) <= c.longest || last <= ' ' || last > '~' && spaceLike(utf8.DecodeLastRuneInString(text)) ||
		strings.Contains(text, "  ")
}

// spaceLike reports whether a character beyond the printable ones of ASCII may be taken off an end.
func spaceLike(r rune, _ int) bool { return r == '\x7f' || r == utf8.RuneError || table.IsSpace(r) }

// MayStandForNothing reports whether a text that is not empty may be blank or a mark for missing values.
func (c *Cells) MayStandForNothing(text string) bool { return c.mayBeMissing(text) }

// MayBeMissing is the same question about a short text of printable characters without spaces.
func (c *Cells) MayBeMissing(t table.Token) bool { return t.Len() <= c.longest }

// Looks says which types a text has by itself, and which patterns of dates it fits, a bit for each.
type Looks uint16

// The types that a text can look like. Every integer is a decimal too, and 0 and 1 may be booleans.
const (
	LooksInteger Looks = 1 << iota
	LooksDecimal
	LooksDate
	LooksInstant
	LooksBoolean
	LooksPadded // a number, but for zeros too many before it
	// LooksPattern is the first of the column's own patterns of dates, its rivals following.
	LooksPattern
)

// LooksLike tells which types other than text the text of an open column has by itself.
func (c *Cells) LooksLike(text string) (l Looks) {
	if len(text) > c.truth && !c.mayBeTyped(text) {
		return 0
	}
	if len(text) <= c.truth {
		if _, ok := c.format.Parse(table.TypeBoolean, text); ok {
			l |= LooksBoolean
		}
	}
	for i := range c.patterns {
		if _, ok := c.patterns[i].Parse(text); ok {
			l |= LooksPattern << i
		}
	}
	if text == "" || !table.BeginsTyped(text[0]) {
		return l
	}
	if v, ok := c.format.Parse(table.TypeDecimal, text); ok {
		switch {
		case table.ZeroPadded(text):
			l |= LooksPadded
		case v.Number.IsWhole():
			l |= LooksInteger | LooksDecimal
		default:
			l |= LooksDecimal
		}
		return l
	}
	if _, ok := c.format.Parse(table.TypeDate, text); ok {
		return l | LooksDate
	}
	if _, ok := c.format.Parse(table.TypeDateTime, text); ok {
		return l | LooksInstant
	}
	return l
}

// mayBeTyped rules most texts out that are no number or date.
func (c *Cells) mayBeTyped(text string) bool {
	for i := range len(text) {
		if !c.typed[text[i]] {
			return false
		}
	}
	return true
}

// MayLookLike reports whether a short text, or one that differs from it in nothing but digits, may have
// a type other than text by itself. Every field of a date may be made of ones, so that ones tell.
func (c *Cells) MayLookLike(t table.Token) bool {
	if t.Len() <= c.truth {
		return true
	}
	ones := []byte(t.Text(""))
	for i, b := range ones {
		switch {
		case b >= '0' && b <= '9':
			ones[i] = '1'
		case (b == 'e' || b == 'E') && i > 0 && (ones[i-1] == '1' || ones[i-1] == '.'): // an exponent may be too large
			return true
		}
	}
	return c.LooksLike(string(ones)) != 0
}

// Patterns returns those by which the dates of an open column may be written, each with its bit of Looks, where there
// are several; own is the one by which they are read, empty where that is the reading's.
func (c *Cells) Patterns() (several []table.DatePattern, own string) { return c.patterns, c.own }

// PlainDates returns the patterns of a column of dates or datetimes, in the order in which they are tried, where all texts that fit
// them are made of ASCII characters and have no stray spaces; nil for other columns.
func (c *Cells) PlainDates() []table.DatePattern {
	patterns := c.format.Dates
	switch {
	case c.Type == table.TypeDateTime:
		if patterns = c.format.DateTimes; len(patterns) == 0 {
			patterns = table.ISODateTimes
		}
	case c.Type != table.TypeDate:
		return nil
	case len(patterns) == 0:
		patterns = table.ISODates
	}
	for i := range patterns {
		if !patterns[i].Plain() || c.Type == table.TypeDate && patterns[i].Timed() {
			return nil
		}
	}
	return patterns
}

// Number reads a short text as a number of the column, of digits with at most a sign and one decimal mark, with the token
// of what it is with a point. It reports false for everything else, numbers that are written in other ways included.
func (c *Cells) Number(t table.Token) (plain table.Token, coefficient int64, scale int, ok bool) {
	if c.MayBeMissing(t) || c.Open && t.ZeroPadded() {
		return t, 0, 0, false
	}
	if mark := c.format.DecimalMark; mark != 0 && mark != '.' {
		if t, ok = t.WithPoint(mark); !ok {
			return t, 0, 0, false
		}
	}
	coefficient, scale, ok = t.Number()
	return t, coefficient, scale, ok && (scale == 0 || c.Type != table.TypeInteger)
}

// PlainNumbers reports whether numbers are written with a point and without grouping.
func (c *Cells) PlainNumbers() bool { return c.format.PlainNumbers() }

// Marks returns the texts that stand for a missing value, beside the empty cell.
func (c *Cells) Marks() []string { return slices.Sorted(maps.Keys(c.marks)) }

// Codes returns the column's code list, or nil.
func (c *Cells) Codes() *CodeList { return c.codes }

// Sum adds up the numbers of a column exactly, over all rows or some by their index.
func (c *Cells) Sum(column *table.Column, some []int) table.Decimal {
	var sum table.Decimal
	var words [9]int64 // of numbers with so many decimals, in units of the last one
	for code, n := range column.Counts(some) {
		if n == 0 {
			continue
		}
		if t := table.TokenOf(column.Texts[code]); t.Plain() && c.Type.IsNumber() {
			// A product is below 2^39, so that a sum that is still below 2^61 cannot overflow by it.
			if _, coefficient, scale, ok := c.Number(t); ok && scale < len(words) && coefficient < 1<<31 && coefficient > -1<<31 && n < 1<<8 {
				words[scale] += coefficient * n
				if words[scale] < 1<<61 && words[scale] > -1<<61 {
					continue
				}
				sum = sum.Add(table.DecimalOf(words[scale], scale))
				words[scale] = 0
				continue
			}
		}
		if v := c.Read(column.Texts[code]).Value; v.Kind == table.Number {
			sum = sum.Add(v.Number.Times(n))
		}
	}
	for scale, units := range words {
		if units != 0 {
			sum = sum.Add(table.DecimalOf(units, scale))
		}
	}
	return sum
}

// Identity is the text by which a cell is one thing with others, in keys, groups, references, joins and fixes alike: that
// of its value where it is a number, date or boolean, so that 1.0 and 1 are one thing; the code where it is
// another spelling of one; and the text as it stands everywhere else.
func (c Cell) Identity(text string) string {
	switch {
	case c.Spelling:
		return c.Value.Text
	case c.Value.Kind == table.Missing || c.Value.Kind == table.Text:
		return text
	}
	return c.Value.Identity()
}

// IdentityToken returns the token of the text by which a cell is one thing with others, as Cell.Identity has it, and whether it is
// missing. Numbers and plain texts, as most cells are, are not read for it.
func (c *Cells) IdentityToken(text string) (t table.Token, missing bool) {
	if text == "" {
		return t, true
	}
	if t = table.TokenOf(text); t.Plain() {
		switch {
		case c.Type.IsNumber():
			if ok, point := t.ShortestNumber(); ok && c.PlainNumbers() && !c.MayBeMissing(t) && (!point || c.Type != table.TypeInteger) {
				return t, false
			}
			if plain, _, scale, ok := c.Number(t); ok {
				return plain.Shortest(scale), false
			}
		case c.Type == table.TypeText && !c.MayBeMissing(t):
			return t, false
		}
	}
	cell := c.Read(text)
	if cell.Missing {
		return table.Token{}, true
	}
	identity := cell.Identity(text)
	return table.TokenOf(identity), identity == ""
}

// Batch gives conditions the typed values of a batch; it is a condition.Rows.
type Batch struct {
	*table.Batch
	Names []string
	Cells []*Cells // per column
}

// Values implements condition.Rows.
func (b Batch) Values(column string) ([]table.Value, []uint32) {
	for c, name := range b.Names {
		if name != column {
			continue
		}
		values := make([]table.Value, len(b.Columns[c].Texts))
		for i, text := range b.Columns[c].Texts {
			values[i] = b.Cells[c].Read(text).Value
		}
		return values, b.Columns[c].Codes
	}
	panic("rulebook: no column " + column)
}

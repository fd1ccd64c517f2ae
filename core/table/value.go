package table

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Type is what a column's values are declared, or seen, to be.
type Type string

// The types of columns. A Code is a text that must stand in a code list.
const (
	TypeText     Type = "text"
	TypeInteger  Type = "integer"
	TypeDecimal  Type = "decimal"
	TypeBoolean  Type = "boolean"
	TypeDate     Type = "date"
	TypeDateTime Type = "datetime"
	TypeCode     Type = "code"
)

// Types lists every type, in the order in which messages name them.
var Types = []Type{TypeText, TypeInteger, TypeDecimal, TypeBoolean, TypeDate, TypeDateTime, TypeCode}

// IsNumber reports whether values of the type can be summed.
func (t Type) IsNumber() bool { return t == TypeInteger || t == TypeDecimal }

// Kind is the kind that values of the type have.
func (t Type) Kind() Kind {
	switch t {
	case TypeInteger, TypeDecimal:
		return Number
	case TypeBoolean:
		return Boolean
	case TypeDate:
		return Date
	case TypeDateTime:
		return Instant
	}
	return Text
}

// Kind tells which field of a Value holds it.
type Kind uint8

// The kinds of values.
const (
	Missing Kind = iota
	Text
	Number
	Boolean
	Date
	Instant
)

// String names the kind as messages do.
func (k Kind) String() string {
	return [...]string{"missing", "text", "number", "boolean", "date", "datetime"}[k]
}

// Value is one typed value. The zero Value is missing.
type Value struct {
	Kind   Kind
	True   bool    // of Kind Boolean; of Kind Missing, that a text is there which is no value of its type
	Text   string  // of Kind Text
	Number Decimal // of Kind Number
	When   int64   // of Kind Date: days since 1970-01-01; of Kind Instant: microseconds since then, without a zone
}

// TextValue, NumberValue, BooleanValue, DateValue and InstantValue make values of their kind.
func TextValue(s string) Value { return Value{Kind: Text, Text: s} }

// NumberValue makes a number.
func NumberValue(d Decimal) Value { return Value{Kind: Number, Number: d} }

// BooleanValue makes a boolean.
func BooleanValue(b bool) Value { return Value{Kind: Boolean, True: b} }

// DateValue makes a date from days since 1970-01-01.
func DateValue(days int64) Value { return Value{Kind: Date, When: days} }

// InstantValue makes a datetime from microseconds since 1970-01-01 00:00.
func InstantValue(micros int64) Value { return Value{Kind: Instant, When: micros} }

// MistypedValue is the missing value of a text that is none of its type.
func MistypedValue() Value { return Value{True: true} }

// Mistyped reports whether v is missing though a text is there, which is no value of its type.
func (v Value) Mistyped() bool { return v.Kind == Missing && v.True }

// Day returns the day of a date or an instant, as days since 1970-01-01.
func (v Value) Day() int64 {
	if v.Kind == Date {
		return v.When
	}
	day := v.When / microsPerDay
	if v.When%microsPerDay < 0 {
		day--
	}
	return day
}

// Compare orders two values of comparable kinds: equal kinds, or a date with a
// datetime, the date standing for its midnight. Text is ordered by its bytes.
// Missing values and unlike kinds are ordered by kind, which only sorting uses.
func Compare(a, b Value) int {
	if a.Kind != b.Kind {
		if a.Kind == Date && b.Kind == Instant {
			return cmp.Compare(a.When*microsPerDay, b.When)
		}
		if a.Kind == Instant && b.Kind == Date {
			return cmp.Compare(a.When, b.When*microsPerDay)
		}
		return cmp.Compare(a.Kind, b.Kind)
	}
	switch a.Kind {
	case Text:
		return strings.Compare(a.Text, b.Text)
	case Number:
		return a.Number.Cmp(b.Number)
	case Boolean:
		return cmp.Compare(truth(a.True), truth(b.True))
	case Date, Instant:
		return cmp.Compare(a.When, b.When)
	}
	return 0
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Standard writes v as it stands in a table of ours: a point as decimal mark,
// ISO 8601 dates, true and false, nothing for missing.
func (v Value) Standard() string {
	switch v.Kind {
	case Text:
		return v.Text
	case Number:
		return v.Number.String()
	case Boolean:
		if v.True {
			return "true"
		}
		return "false"
	case Date:
		return formatDate(v.When)
	case Instant:
		return formatInstant(v.When)
	}
	return ""
}

// Identity is a text that two values of one type share exactly when they are equal: 1.50 and 1.5 are.
func (v Value) Identity() string {
	if v.Kind == Number {
		return v.Number.Shortest()
	}
	return v.Standard()
}

// Format says how the text of a cell becomes a value.
type Format struct {
	DecimalMark  byte          // '.' or ','; 0 means '.'
	GroupingMark rune          // between thousands; 0 means none
	WrittenWith  []string      // what may stand before or after a number, spaces between, as % or €
	Brackets     bool          // a number in brackets is below zero
	Dates        []DatePattern // tried in order; none means yyyy-MM-dd
	DateTimes    []DatePattern // tried in order; none means yyyy-MM-dd HH:mm and its kin
	TrueWords    []string      // none means true, yes, 1
	FalseWords   []string      // none means false, no, 0
}

// StandardFormat is the format of the tables we write.
var StandardFormat = Format{}

var (
	// ISODates is the pattern of dates where none is declared.
	ISODates = MustDatePatterns("yyyy-MM-dd")
	// ISODateTimes are those of datetimes; the first is how moments are written that are whole seconds.
	ISODateTimes = MustDatePatterns("yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd'T'HH:mm:ss", "yyyy-MM-dd HH:mm",
		"yyyy-MM-dd'T'HH:mm", "yyyy-MM-dd HH:mm:ss.SSS", "yyyy-MM-dd'T'HH:mm:ss.SSS", "yyyy-MM-dd'T'HH:mm:ssX",
		"yyyy-MM-dd HH:mm:ssX", "yyyy-MM-dd'T'HH:mmX", "yyyy-MM-dd'T'HH:mm:ss.SSSX", "yyyy-MM-dd HH:mm:ss.SSSX",
		"yyyy-MM-dd HH:mm:ss.SSSSSS", "yyyy-MM-dd'T'HH:mm:ss.SSSSSS", "yyyy-MM-dd HH:mm:ss.SSSSSSX", "yyyy-MM-dd'T'HH:mm:ss.SSSSSSX")
	standardTrue  = []string{"true", "yes", "1"}
	standardFalse = []string{"false", "no", "0"}
)

// Parse reads text as a value of type t. It reports false where the text is not
// of that type; the text itself is never altered or guessed at.
func (f *Format) Parse(t Type, text string) (Value, bool) {
	switch t {
	case TypeInteger, TypeDecimal:
		d, ok := f.parseNumber(text)
		if !ok || (t == TypeInteger && !d.IsWhole()) {
			return Value{}, false
		}
		return NumberValue(d), true
	case TypeBoolean:
		return f.parseBoolean(text)
	case TypeDate:
		patterns := f.Dates
		if len(patterns) == 0 {
			patterns = ISODates
		}
		for i := range patterns {
			if micros, ok := patterns[i].Parse(text); ok && micros%microsPerDay == 0 {
				return DateValue(micros / microsPerDay), true
			}
		}
		return Value{}, false
	case TypeDateTime:
		patterns := f.DateTimes
		if len(patterns) == 0 {
			patterns = ISODateTimes
		}
		for i := range patterns {
			if micros, ok := patterns[i].Parse(text); ok {
				return InstantValue(micros), true
			}
		}
		return Value{}, false
	case TypeText, TypeCode:
		return TextValue(text), true
	}
	panic(fmt.Sprintf("table: unknown type %q", t))
}

// Write writes a value of type t as a text that the format reads as that value. It reports false where there is no such
// text: a time of day by a pattern without one, a third decimal by nothing that is known here.
func (f *Format) Write(t Type, v Value) (text string, ok bool) {
	if v.Kind == Missing {
		return "", true
	}
	is := func(text string) bool {
		read, ok := f.Parse(t, text)
		return ok && Compare(read, v) == 0
	}
	patterns, micros := f.DateTimes, v.When
	switch v.Kind {
	case Number:
		text = v.Number.String()
		if f.DecimalMark == ',' {
			text = strings.ReplaceAll(text, ".", ",")
		}
		return text, is(text)
	case Boolean:
		trueWords, falseWords := f.truths()
		if text = falseWords[0]; v.True {
			text = trueWords[0]
		}
		return text, is(text)
	case Date, Instant:
		if t == TypeDate {
			patterns = f.Dates
		}
		if v.Kind == Date {
			micros = v.When * microsPerDay
		}
		for i := range patterns {
			if text = patterns[i].Format(micros); is(text) {
				return text, true
			}
		}
	}
	text = v.Standard()
	return text, is(text)
}

// TypedBytes returns the bytes of which numbers and dates are made, those of other patterns of dates too.
func (f *Format) TypedBytes(others []DatePattern) *[256]bool {
	var made [256]bool
	add := func(text string) {
		for i := range len(text) {
			made[text[i]] = true
		}
	}
	add("0123456789+-.,eE()")
	add(string(f.GroupingMark))
	for _, beside := range f.WrittenWith {
		add(beside)
	}
	if len(f.WrittenWith) > 0 { // spaces of any kind may stand between
		for b := range utf8.RuneSelf {
			made[b] = made[b] || IsSpace(rune(b))
		}
		for b := utf8.RuneSelf; b < len(made); b++ {
			made[b] = true
		}
	}
	for _, patterns := range [][]DatePattern{f.Dates, f.DateTimes, ISODates, ISODateTimes, others} {
		for i := range patterns {
			add(patterns[i].bytes())
		}
	}
	return &made
}

// PlainNumbers reports whether numbers are digits with at most a point and a sign.
func (f *Format) PlainNumbers() bool {
	return f.GroupingMark == 0 && f.DecimalMark != ',' && len(f.WrittenWith) == 0 && !f.Brackets
}

func (f *Format) parseNumber(text string) (Decimal, bool) {
	if f.PlainNumbers() {
		return ParseDecimal(text)
	}
	text, negative, ok := f.bare(text)
	if !ok {
		return Decimal{}, false
	}
	d, ok := f.parseMarked(text)
	if negative {
		if d.Sign() < 0 {
			return Decimal{}, false
		}
		d = d.Neg()
	}
	return d, ok
}

// bare takes off what is written with a number, and brackets around it.
func (f *Format) bare(text string) (number string, negative, ok bool) {
	text = f.alone(text)
	if !f.Brackets || !strings.HasPrefix(text, "(") {
		return text, false, true
	}
	if text, ok = strings.CutSuffix(text[1:], ")"); !ok {
		return "", false, false
	}
	return f.alone(text), true, true
}

// alone takes off what is written before and after a number.
func (f *Format) alone(text string) string {
	for _, beside := range f.WrittenWith {
		if rest, ok := strings.CutPrefix(text, beside); ok {
			text = strings.TrimLeftFunc(rest, IsSpace)
			break
		}
	}
	for _, beside := range f.WrittenWith {
		if rest, ok := strings.CutSuffix(text, beside); ok {
			return strings.TrimRightFunc(rest, IsSpace)
		}
	}
	return text
}

// parseMarked reads a number with marks of its own before the decimals and between thousands.
func (f *Format) parseMarked(text string) (Decimal, bool) {
	mark := rune(f.DecimalMark)
	if mark == 0 {
		mark = '.'
	}
	var room [24]byte
	plain := room[:0]
	group, grouped, pointSeen := 0, false, false
	for _, c := range text {
		switch {
		case c == mark && !pointSeen:
			if grouped && group != 3 {
				return Decimal{}, false
			}
			pointSeen = true
			plain = append(plain, '.')
		case f.GroupingMark != 0 && c == f.GroupingMark:
			// 1.234.567 groups by threes; 1.5 under a grouping point is no number.
			if pointSeen || group == 0 || group > 3 || (grouped && group != 3) {
				return Decimal{}, false
			}
			grouped, group = true, 0
		case c >= '0' && c <= '9':
			group++
			plain = append(plain, byte(c))
		case c == '-' || c == '+' || c == 'e' || c == 'E':
			plain = append(plain, byte(c))
		default:
			return Decimal{}, false
		}
	}
	if grouped && !pointSeen && group != 3 {
		return Decimal{}, false
	}
	return ParseDecimal(string(plain))
}

// truths returns the words for true and false.
func (f *Format) truths() (trueWords, falseWords []string) {
	trueWords, falseWords = f.TrueWords, f.FalseWords
	if len(trueWords) == 0 {
		trueWords = standardTrue
	}
	if len(falseWords) == 0 {
		falseWords = standardFalse
	}
	return trueWords, falseWords
}

// LongestTruth returns the length in bytes of the longest word for true or false.
func (f *Format) LongestTruth() (longest int) {
	trueWords, falseWords := f.truths()
	for _, w := range append(slices.Clone(trueWords), falseWords...) {
		longest = max(longest, len(w))
	}
	return longest
}

func (f *Format) parseBoolean(text string) (Value, bool) {
	trueWords, falseWords := f.truths()
	for _, w := range trueWords {
		if strings.EqualFold(w, text) {
			return BooleanValue(true), true
		}
	}
	for _, w := range falseWords {
		if strings.EqualFold(w, text) {
			return BooleanValue(false), true
		}
	}
	return Value{}, false
}

// ZeroPadded reports whether a number has a zero too many before it, as 00712 and -07.5 have.
func ZeroPadded(text string) bool {
	if len(text) > 0 && (text[0] == '-' || text[0] == '+') {
		text = text[1:]
	}
	return len(text) > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '9'
}

// BeginsTyped reports whether a text that starts so can be a number or a date.
func BeginsTyped(first byte) bool {
	return first >= '0' && first <= '9' || first == '-' || first == '+' || first == '.' || first == ','
}

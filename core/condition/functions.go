package condition

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// textLimit is the longest text that an expression may make, in bytes; a longer one has no value.
const textLimit = 1 << 20

// function says what a function takes and what becomes of it.
type function struct {
	least, most int // arguments; most 0 means any number
	// takes is the kind of each argument, the last one's for those beyond; Missing for any
	// kind, and where alike is set for one kind throughout.
	takes []table.Kind
	alike bool
	// null says that missing arguments are handed to apply; elsewhere they make the result missing.
	null bool
	// result tells the kind and how it is worked out.
	result func(k *checker, c *call, kinds []table.Kind) (table.Kind, func([]table.Value) table.Value)
}

// of makes the result of a function that is the same for all arguments.
func of(kind table.Kind, apply func([]table.Value) table.Value) func(*checker, *call, []table.Kind) (table.Kind,
	func([]table.Value) table.Value) {
	return func(*checker, *call, []table.Kind) (table.Kind, func([]table.Value) table.Value) { return kind, apply }
}

func textOf(f func(string) string) func(*checker, *call, []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	return of(table.Text, func(a []table.Value) table.Value { return text(f(a[0].Text)) })
}

func numberOf(f func(table.Decimal) table.Decimal) func(*checker, *call, []table.Kind) (table.Kind,
	func([]table.Value) table.Value) {
	return of(table.Number, func(a []table.Value) table.Value { return table.NumberValue(f(a[0].Number)) })
}

// text is a text that is not too long.
func text(s string) table.Value {
	if len(s) > textLimit {
		return table.Value{}
	}
	return table.TextValue(s)
}

func whole(n int) table.Value { return table.NumberValue(table.DecimalOf(int64(n), 0)) }

var (
	oneText   = []table.Kind{table.Text}
	oneNumber = []table.Kind{table.Number}
	anyKind   = []table.Kind{table.Missing}
)

// functions by their names in upper case. Those with a space in them, and the signs, are
// made by the parser alone.
var functions map[string]function

// functionNames are those that a person can write.
var functionNames []string

func init() {
	length := function{least: 1, most: 1, takes: oneText, result: of(table.Number,
		func(a []table.Value) table.Value { return whole(utf8.RuneCountInString(a[0].Text)) })}
	ceiling := function{least: 1, most: 1, takes: oneNumber, result: numberOf(table.Decimal.Ceil)}
	functions = map[string]function{
		"LOWER":            {least: 1, most: 1, takes: oneText, result: textOf(strings.ToLower)},
		"UPPER":            {least: 1, most: 1, takes: oneText, result: textOf(strings.ToUpper)},
		"LENGTH":           length,
		"CHAR_LENGTH":      length,
		"CHARACTER_LENGTH": length,
		"TRIM":             {least: 2, most: 2, takes: oneText, result: trimmed},
		"SUBSTRING": {least: 2, most: 3, takes: []table.Kind{table.Text, table.Number},
			result: of(table.Text, substring)},
		"POSITION": {least: 2, most: 2, takes: oneText, result: of(table.Number, position)},
		"||": {least: 2, most: 2, takes: oneText, result: of(table.Text,
			func(a []table.Value) table.Value { return text(a[0].Text + a[1].Text) })},
		"LIKE":       {least: 2, most: 2, takes: oneText, result: like},
		"LIKE_REGEX": {least: 2, most: 2, takes: oneText, result: likeRegex},
		"ABS":        {least: 1, most: 1, takes: oneNumber, result: numberOf(table.Decimal.Abs)},
		"FLOOR":      {least: 1, most: 1, takes: oneNumber, result: numberOf(table.Decimal.Floor)},
		"CEIL":       ceiling,
		"CEILING":    ceiling,
		"ROUND":      {least: 1, most: 2, takes: oneNumber, result: of(table.Number, round)},
		"MOD":        {least: 2, most: 2, takes: oneNumber, result: of(table.Number, modulo)},
		"EXTRACT":    {least: 1, most: 1, takes: anyKind, result: extracted},
		"DATE_TRUNC": {least: 2, most: 2, takes: []table.Kind{table.Text, table.Missing}, result: truncated},
		"CAST":       {least: 1, most: 3, takes: anyKind, result: castTo},
		"COALESCE":   {least: 1, takes: anyKind, alike: true, null: true, result: sameKind(coalesce)},
		"NULLIF":     {least: 2, most: 2, takes: anyKind, alike: true, null: true, result: sameKind(nullIf)},
		"CASE":       {least: 3, null: true, takes: anyKind, result: sameKind(choose)},
		"IS DISTINCT FROM": {least: 2, most: 2, takes: anyKind, alike: true, null: true,
			result: of(table.Boolean, distinct)},
		"IS TRUE": {least: 1, most: 1, takes: []table.Kind{table.Boolean}, null: true,
			result: of(table.Boolean, func(a []table.Value) table.Value { return table.BooleanValue(a[0].True) })},
		"IS FALSE": {least: 1, most: 1, takes: []table.Kind{table.Boolean}, null: true,
			result: of(table.Boolean, func(a []table.Value) table.Value {
				return table.BooleanValue(a[0].Kind == table.Boolean && !a[0].True)
			})},
		"IS UNKNOWN": {least: 1, most: 1, takes: []table.Kind{table.Boolean}, null: true,
			result: of(table.Boolean, func(a []table.Value) table.Value {
				return table.BooleanValue(a[0].Kind == table.Missing)
			})},
	}
	for _, name := range slices.Sorted(maps.Keys(functions)) {
		if !strings.ContainsAny(name, " |") && name != "LIKE" && name != "LIKE_REGEX" && name != "CASE" {
			functionNames = append(functionNames, name)
		}
	}
}

// FunctionNames returns the functions a condition may use, in upper case and sorted.
func FunctionNames() []string { return slices.Clone(functionNames) }

// call checks a function's arguments and gives the node its meaning.
func (k *checker) call(c call) (node, table.Kind) {
	f := functions[c.name]
	kinds := make([]table.Kind, len(c.args))
	c.args = slices.Clone(c.args)
	for i := range c.args {
		c.args[i], kinds[i] = k.check(c.args[i])
	}
	if n := len(c.args); n < f.least || f.most > 0 && n > f.most {
		k.fail(c.place(), "%s takes %s, and this is %d", c.name, arguments(f), n)
		return c, table.Missing
	}
	for i := range c.args {
		if want := f.takes[min(i, len(f.takes)-1)]; want != table.Missing {
			k.want(c.args[i], kinds[i], want, c.name)
		}
	}
	if f.alike {
		k.allAlike(c.name, c.args, kinds, func(i int) bool { return true })
	}
	if c.name == "CASE" {
		last := len(c.args) - 1
		k.allAlike("CASE", c.args, kinds, func(i int) bool { return i == last || i%2 == 1 })
		for i := 0; i < last; i += 2 {
			k.want(c.args[i], kinds[i], table.Boolean, "WHEN")
		}
	}
	var kind table.Kind
	kind, c.apply = f.result(k, &c, kinds)
	if apply := c.apply; !f.null && apply != nil {
		c.apply = func(a []table.Value) table.Value {
			for i := range a {
				if a[i].Kind == table.Missing {
					return table.Value{}
				}
			}
			return apply(a)
		}
	}
	return c, kind
}

func arguments(f function) string {
	switch {
	case f.most == 0:
		return fmt.Sprintf("%d or more arguments", f.least)
	case f.most == 1:
		return "one argument"
	case f.least == f.most:
		return fmt.Sprintf("%d arguments", f.least)
	}
	return fmt.Sprintf("%d to %d arguments", f.least, f.most)
}

// allAlike brings the arguments for which among holds to one kind. Of dates and datetimes
// together datetimes are made, so that the result is of one kind too.
func (k *checker) allAlike(name string, args []node, kinds []table.Kind, among func(i int) bool) {
	first := -1
	for i := range args {
		if among(i) && kinds[i] != table.Missing && (first < 0 || kinds[first] == table.Text) {
			if _, literal := args[i].(literal); first < 0 || kinds[i] == table.Date || kinds[i] == table.Instant ||
				!literal {
				first = i
			}
		}
	}
	if first < 0 {
		return
	}
	mixed := false
	for i := range args {
		if !among(i) || i == first {
			continue
		}
		args[i], kinds[i] = k.coerce(args[i], kinds[i], kinds[first])
		a, b := kinds[first], kinds[i]
		temporal := (a == table.Date || a == table.Instant) && (b == table.Date || b == table.Instant)
		if mixed = mixed || temporal && a != b; a != b && b != table.Missing && !temporal {
			k.fail(args[i].place(), "%s has a %s beside a %s; they must be of one kind", name, a, b)
		}
	}
	for i := range args {
		if mixed && among(i) && kinds[i] == table.Date {
			args[i], kinds[i] = call{at: at(args[i].place()), name: "CAST", word: "TIMESTAMP", args: []node{args[i]},
				apply: func(a []table.Value) table.Value { return castInstant(a[0]) }}, table.Instant
		}
	}
}

// sameKind is the result of a function whose kind is that of its arguments.
func sameKind(apply func([]table.Value) table.Value) func(*checker, *call, []table.Kind) (table.Kind,
	func([]table.Value) table.Value) {
	return func(_ *checker, c *call, kinds []table.Kind) (table.Kind, func([]table.Value) table.Value) {
		kind := kinds[len(kinds)-1]
		for i := range kinds {
			if kind == table.Missing && (c.name != "CASE" || i%2 == 1) {
				kind = kinds[i]
			}
		}
		return kind, apply
	}
}

func coalesce(a []table.Value) table.Value {
	for i := range a {
		if a[i].Kind != table.Missing {
			return a[i]
		}
	}
	return table.Value{}
}

func nullIf(a []table.Value) table.Value {
	if a[0].Kind != table.Missing && a[1].Kind != table.Missing && table.Compare(a[0], a[1]) == 0 {
		return table.Value{}
	}
	return a[0]
}

func choose(a []table.Value) table.Value {
	last := len(a) - 1
	for i := 0; i < last; i += 2 {
		if a[i].True {
			return a[i+1]
		}
	}
	return a[last]
}

func distinct(a []table.Value) table.Value {
	if a[0].Kind == table.Missing || a[1].Kind == table.Missing {
		return table.BooleanValue(a[0].Kind != a[1].Kind)
	}
	return table.BooleanValue(table.Compare(a[0], a[1]) != 0)
}

func trimmed(_ *checker, c *call, _ []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	trim := map[string]func(s, cutset string) string{"LEADING": strings.TrimLeft, "TRAILING": strings.TrimRight,
		"BOTH": strings.Trim}[c.word]
	return table.Text, func(a []table.Value) table.Value { return text(trim(a[0].Text, a[1].Text)) }
}

// wholeNumber returns a number that is whole and fits an int.
func wholeNumber(v table.Value) (int, bool) {
	if !v.Number.IsWhole() {
		return 0, false
	}
	n := v.Number.Units(0, false)
	return int(n), n > -1<<40 && n < 1<<40
}

// substring counts characters from 1; a start before the first is counted, as SQL does.
// A place that is not whole, or a length below 0, has no value.
func substring(a []table.Value) table.Value {
	from, ok := wholeNumber(a[1])
	to := 1 << 41
	if len(a) == 3 {
		length, good := wholeNumber(a[2])
		ok = ok && good && length >= 0
		to = from + length
	}
	if !ok {
		return table.Value{}
	}
	n, start, end := 1, -1, len(a[0].Text)
	for i := range a[0].Text {
		if n >= from && start < 0 {
			start = i
		}
		if n >= to {
			end = i
			break
		}
		n++
	}
	if start < 0 || start > end {
		return table.TextValue("")
	}
	return table.TextValue(a[0].Text[start:end])
}

func position(a []table.Value) table.Value {
	i := strings.Index(a[1].Text, a[0].Text)
	if i < 0 {
		return whole(0)
	}
	return whole(utf8.RuneCountInString(a[1].Text[:i]) + 1)
}

// like makes a regular expression of a LIKE pattern, so that it runs in linear time:
// % is any text, _ one character.
func like(k *checker, c *call, _ []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	pattern := c.args[1].(literal)
	expression, whole := LikePattern(pattern.value.Text, c.word)
	if !whole {
		k.fail(pattern.place(), "the pattern ends with its escape character")
		return table.Boolean, nil
	}
	return table.Boolean, k.matching(pattern, expression)
}

// LikePattern makes a pattern of RE2 of one of LIKE, with its escape character; empty for none. It reports false where the pattern ends with that.
func LikePattern(pattern, escape string) (expression string, ok bool) {
	var b strings.Builder
	b.WriteString(`\A(?s:`)
	escaped := false
	for _, r := range pattern {
		switch {
		case escaped:
			b.WriteString(regexp.QuoteMeta(string(r)))
			escaped = false
		case escape != "" && string(r) == escape:
			escaped = true
		case r == '%':
			b.WriteString(".*")
		case r == '_':
			b.WriteByte('.')
		default:
			b.WriteString(regexp.QuoteMeta(string(r)))
		}
	}
	b.WriteString(`)\z`)
	return b.String(), !escaped
}

// likeRegex finds a pattern anywhere in a text.
func likeRegex(k *checker, c *call, _ []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	pattern := c.args[1].(literal)
	return table.Boolean, k.matching(pattern, pattern.value.Text)
}

func (k *checker) matching(pattern literal, source string) func([]table.Value) table.Value {
	compiled, err := regexp.Compile(source)
	if err != nil {
		k.fail(pattern.place(), "the pattern cannot be read: %s",
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return nil
	}
	return func(a []table.Value) table.Value { return table.BooleanValue(compiled.MatchString(a[0].Text)) }
}

// roundLimit is the most places before or after the point to which ROUND goes.
const roundLimit = 100

func round(a []table.Value) table.Value {
	scale := 0
	if len(a) == 2 {
		var ok bool
		if scale, ok = wholeNumber(a[1]); !ok || scale > roundLimit || scale < -roundLimit {
			return table.Value{}
		}
	}
	return table.NumberValue(a[0].Number.Round(scale))
}

func modulo(a []table.Value) table.Value {
	rest, ok := a[0].Number.Mod(a[1].Number)
	if !ok {
		return table.Value{}
	}
	return table.NumberValue(rest)
}

// casts are the types that CAST knows, by their names in SQL.
var casts = map[string]table.Type{"INTEGER": table.TypeInteger, "INT": table.TypeInteger, "BIGINT": table.TypeInteger,
	"DECIMAL": table.TypeDecimal, "NUMERIC": table.TypeDecimal, "TEXT": table.TypeText,
	"VARCHAR": table.TypeText, "DATE": table.TypeDate, "TIMESTAMP": table.TypeDateTime, "BOOLEAN": table.TypeBoolean}

// castTo is CAST. A value that cannot be turned into one of the type has none.
func castTo(k *checker, c *call, kinds []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	to, ok := casts[c.word]
	if !ok {
		k.fail(c.place(), "CAST knows no type %q%s", c.word, document.Nearest(c.word, slices.Sorted(maps.Keys(casts))))
		return table.Missing, nil
	}
	if len(c.args) > 1 {
		return table.Number, k.castRounding(c, to)
	}
	from, kind := kinds[0], to.Kind()
	if from == table.Missing || from == table.Text || kind == table.Text || from == kind && kind != table.Number {
		return kind, func(a []table.Value) table.Value { return castText(a[0], to) }
	}
	switch {
	case from == table.Number && to == table.TypeInteger:
		return kind, func(a []table.Value) table.Value { return table.NumberValue(a[0].Number.Round(0)) }
	case from == table.Number && to == table.TypeDecimal:
		return kind, func(a []table.Value) table.Value { return a[0] }
	case from == table.Date && kind == table.Instant:
		return kind, func(a []table.Value) table.Value { return castInstant(a[0]) }
	case from == table.Instant && kind == table.Date:
		return kind, func(a []table.Value) table.Value { return table.DateValue(a[0].Day()) }
	}
	k.fail(c.place(), "a %s cannot be cast to %s", from, c.word)
	return kind, nil
}

// castRounding is CAST to DECIMAL(digits, places): rounded to so many places, and no
// value where there are more digits before them.
func (k *checker) castRounding(c *call, to table.Type) func([]table.Value) table.Value {
	digits, ok := wholeNumber(c.args[1].(literal).value)
	places := 0
	if len(c.args) == 3 {
		var good bool
		places, good = wholeNumber(c.args[2].(literal).value)
		ok = ok && good
	}
	if to != table.TypeDecimal || !ok || digits < 1 || digits > roundLimit || places < 0 || places > digits {
		k.fail(c.args[1].place(), "only DECIMAL has digits and places, 1 to %d and no more places than digits",
			roundLimit)
		return nil
	}
	bound := table.DecimalOf(1, 0)
	for range digits - places {
		bound = bound.Times(10)
	}
	return func(a []table.Value) table.Value {
		v := castText(a[0], to)
		if v.Kind != table.Number {
			return table.Value{}
		}
		rounded := v.Number.Round(places)
		if rounded.Abs().Cmp(bound) >= 0 {
			return table.Value{}
		}
		return table.NumberValue(rounded)
	}
}

// castText turns a text into a value, or a value into text.
func castText(v table.Value, to table.Type) table.Value {
	if v.Kind == to.Kind() {
		return v
	}
	if v.Kind != table.Text {
		return table.TextValue(v.Standard())
	}
	parsed, _ := table.StandardFormat.Parse(to, strings.TrimSpace(v.Text))
	return parsed
}

package inplace

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/table"
	"proudsieve/engine"
)

// clickhouse is the SQL of ClickHouse from 18.16 on, as far as old and new servers agree. Numbers are decimals of 38 digits, of which a server says so where
// they do not suffice; days are counted from 1970-01-01, and moments in microseconds since then, since its own dates have a short reach.
type clickhouse struct{}

func (clickhouse) name(n string) string {
	return "`" + strings.NewReplacer("\\", "\\\\", "`", "\\`").Replace(n) + "`"
}

func (clickhouse) quote(text string) (string, error) {
	return "'" + strings.NewReplacer("\\", "\\\\", "'", "\\'", "\x00", "\\0").Replace(text) + "'", nil
}

var (
	clickhouseDecimal = regexp.MustCompile(`^Decimal\(([0-9]+), ?([0-9]+)\)$`)
	clickhouseInteger = regexp.MustCompile(`^U?Int(8|16|32|64)$`)
	clickhouseLong    = regexp.MustCompile(`^U?Int64$`)
	clickhouseMoment  = regexp.MustCompile(`^DateTime64\(([0-9])`)
)

func (c clickhouse) natureOf(of *engine.Column) nature {
	n := c.kindOf(of)
	n.sure = !strings.Contains(of.Type, "Nullable(")
	return n
}

func (clickhouse) kindOf(c *engine.Column) nature {
	t := c.Type
	for _, wrap := range []string{"LowCardinality(", "Nullable("} {
		if inner, wrapped := strings.CutPrefix(t, wrap); wrapped {
			t = strings.TrimSuffix(inner, ")")
		}
	}
	switch {
	case clickhouseLong.MatchString(t):
		return nature{kind: integer}
	case clickhouseInteger.MatchString(t):
		return nature{kind: integer, digits: 10}
	case clickhouseDecimal.MatchString(t):
		m := clickhouseDecimal.FindStringSubmatch(t)
		digits, _ := strconv.Atoi(m[1])
		scale, _ := strconv.Atoi(m[2])
		return nature{kind: exact, scale: scale, digits: digits}
	case strings.HasPrefix(t, "Float"):
		return nature{kind: floating}
	case t == "Bool":
		return nature{kind: boolean}
	case t == "Date" || t == "Date32":
		return nature{kind: dated}
	case clickhouseMoment.MatchString(t):
		scale, _ := strconv.Atoi(clickhouseMoment.FindStringSubmatch(t)[1])
		return nature{kind: moment, scale: scale, zoned: true}
	case strings.HasPrefix(t, "DateTime"):
		return nature{kind: moment, zoned: true}
	case t == "String":
		return nature{kind: textual}
	case strings.HasPrefix(t, "FixedString("):
		return nature{kind: padded}
	}
	return nature{kind: other}
}

func (clickhouse) text(ref string, n nature) string {
	switch n.kind {
	case textual:
		return ref
	case padded:
		return "replaceRegexpOne(toString(" + ref + `), '\\x00+$', '')`
	case moment:
		return "concat(toString(" + ref + ", 'UTC'), 'Z')"
	}
	return "toString(" + ref + ")"
}

// garbled knows of 18.16, which leaves bytes out of decimals of more than 21 digits before their point.
func (clickhouse) garbled(ref string, n nature) (where, try, right string) {
	if n.kind != exact || n.digits-n.scale <= 21 {
		return "", "", ""
	}
	limit := "toDecimal128('1" + strings.Repeat("0", 21) + "', 0)"
	return fmt.Sprintf("(%s >= %s OR %[1]s <= -%[2]s)", ref, limit), "SELECT toString(toDecimal128('" + strings.Repeat("9", 24) + "', 0))", strings.Repeat("9", 24)
}

func (c clickhouse) direct(ref string, n nature, to table.Type) (v said, odd string, ok bool) {
	switch {
	case n.kind == integer && to.IsNumber():
		return said{sql: ref, kind: table.Number, digits: n.digits}, "", true
	case n.kind == exact && to.IsNumber():
		v = said{sql: ref, kind: table.Number, scale: n.scale, digits: n.digits + 1} // the word that holds it has room for one more
		if to == table.TypeInteger {
			odd = "floor(" + v.sql + ") != " + v.sql
		}
		return v, odd, true
	case n.kind == floating && to.IsNumber():
		v = said{sql: "toFloat64(" + c.text(ref, n) + ")", kind: table.Number, scale: -1, float: true}
		if odd = "(isNaN(" + ref + ") OR isInfinite(" + ref + "))"; to == table.TypeInteger {
			odd = "(" + odd + " OR floor(" + v.sql + ") != " + v.sql + ")"
		}
		return v, odd, true
	case n.kind == boolean && to == table.TypeBoolean:
		return said{sql: "toUInt8(" + ref + ")", kind: table.Boolean}, "", true
	case n.kind == dated && to == table.TypeDate:
		return said{sql: "toInt64(toRelativeDayNum(" + ref + "))", kind: table.Date, near: true}, "", true
	case n.kind == moment && n.scale == 0 && to == table.TypeDateTime:
		return said{sql: "(toInt64(toUnixTimestamp(" + ref + ")) * 1000000)", kind: table.Instant, near: true}, "", true
	}
	return said{}, "", false
}

func (clickhouse) none(like said) said {
	like.sure, like.wide = false, true
	switch like.kind {
	case table.Number:
		like.sql = fmt.Sprintf("CAST(NULL AS Nullable(Decimal(38, %d)))", max(like.scale, 0))
		if like.float {
			like.sql = "CAST(NULL AS Nullable(Float64))"
		}
	case table.Text:
		like.sql = "CAST(NULL AS Nullable(String))"
	case table.Boolean:
		like.sql = "CAST(NULL AS Nullable(UInt8))"
	default:
		like.sql = "CAST(NULL AS Nullable(Int64))"
	}
	return like
}

func (c clickhouse) literal(v table.Value) (said, error) {
	switch v.Kind {
	case table.Missing:
		return said{}, nil
	case table.Text:
		sql, err := c.quote(v.Text)
		return said{sql: sql, kind: table.Text, sure: true}, err
	case table.Boolean:
		return said{sql: map[bool]string{true: "toUInt8(1)", false: "toUInt8(0)"}[v.True], kind: table.Boolean, sure: true}, nil
	case table.Number:
		text := v.Number.Shortest()
		_, fraction, _ := strings.Cut(text, ".")
		digits := len(strings.Trim(text, "-.")) // and the point, where there is one
		switch {
		case digits > 36:
			return said{}, unsaid("a number of more than 36 digits")
		case digits <= narrowDigits:
			return said{sql: fmt.Sprintf("toDecimal64('%s', %d)", text, len(fraction)), kind: table.Number, scale: len(fraction), digits: digits, sure: true}, nil
		}
		return said{sql: fmt.Sprintf("toDecimal128('%s', %d)", text, len(fraction)), kind: table.Number, scale: len(fraction), wide: true, sure: true}, nil
	}
	return said{sql: "toInt64(" + strconv.FormatInt(v.When, 10) + ")", kind: v.Kind, sure: true}, nil
}

// narrowDigits is how many digits a word of 64 bits holds, which is compared and calculated with in half the time of one of 128.
const narrowDigits = 18

// narrow says that an exact number, written with so many digits after the point, fits into a word of 64 bits.
func narrow(v said, scale int) bool {
	more := scale - v.scale
	return !v.wide && v.digits > 0 && (more == 0 || v.digits+more <= narrowDigits)
}

func (c clickhouse) compare(sign string, a, b said) (string, error) {
	switch scale := max(a.scale, b.scale); {
	case a.float != b.float:
		return c.compareFloat(sign, a, b)
	case a.kind == table.Number && !a.float && !(narrow(a, scale) && narrow(b, scale)):
		a.sql, b.sql = c.widened(a), c.widened(b)
	case a.kind == table.Date && b.kind == table.Instant:
		a.sql = "(" + a.sql + " * 86400000000)"
	case a.kind == table.Instant && b.kind == table.Date:
		b.sql = "(" + b.sql + " * 86400000000)"
	}
	return "(" + a.sql + " " + sign + " " + b.sql + ")", nil
}

// not is no NOT, of which servers of old take two together away where they tell others what to do.
func (clickhouse) not(condition string) string { return "(" + condition + " = 0)" }

// join works with numbers, since servers of old take what is unknown for false: 0 for false, 1 for unknown, 2 for true.
func (clickhouse) join(word, a, b string) string {
	of := map[string]string{condition.And: "least", condition.Or: "greatest"}[word]
	return fmt.Sprintf("intDiv(nullIf(%s(ifNull(%s * 2, 1), ifNull(%s * 2, 1)), 1), 2)", of, a, b)
}

var floatLiteral = regexp.MustCompile(`^toDecimal(?:64|128)\('(-?[0-9]+(?:\.[0-9]+)?)', [0-9]+\)$`)

// compareFloat compares a binary fraction with a number that stands in the condition: the fraction that lies nearest to it is on the same side of all others.
func (clickhouse) compareFloat(sign string, a, b said) (string, error) {
	for _, one := range []*said{&a, &b} {
		if one.float {
			continue
		}
		m := floatLiteral.FindStringSubmatch(one.sql)
		if m == nil || len(strings.Trim(m[1], "-.0")) > 15 {
			return "", unsaid("a comparison of a binary fraction with an exact number that is worked out")
		}
		one.sql = "toFloat64('" + m[1] + "')"
	}
	return "(" + a.sql + " " + sign + " " + b.sql + ")", nil
}

func (c clickhouse) calculate(sign string, a, b said) (said, error) {
	switch {
	case a.float || b.float:
		return said{}, unsaid("an exact calculation with binary fractions")
	case sign == "/":
		return said{}, unsaid("an exact quotient")
	}
	out := said{kind: table.Number, scale: max(a.scale, b.scale)}
	digits := max(a.digits-a.scale, b.digits-b.scale) + out.scale + 1
	if sign == "*" {
		out.scale, digits = a.scale+b.scale, a.digits+b.digits
	}
	if narrow(a, a.scale) && narrow(b, b.scale) && digits <= narrowDigits {
		out.sql, out.digits = fmt.Sprintf("(toDecimal64(%s, %d) %s toDecimal64(%s, %d))", a.sql, a.scale, sign, b.sql, b.scale), digits
		return out, nil
	}
	out.sql, out.wide = "("+c.widened(a)+" "+sign+" "+c.widened(b)+")", true
	if out.scale > 30 {
		return said{}, unsaid("a product of so many digits after the point")
	}
	return out, nil
}

// widened gives an exact number room for calculations.
func (clickhouse) widened(v said) string {
	if v.wide || v.float || v.kind != table.Number {
		return v.sql
	}
	return fmt.Sprintf("toDecimal128(%s, %d)", v.sql, v.scale)
}

// alike gives values the same type, as the branches of a choice must have.
func (c clickhouse) alike(of []said) ([]said, error) {
	scale, float, instant := 0, false, false
	for _, v := range of {
		scale, float, instant = max(scale, v.scale), float || v.float, instant || v.kind == table.Instant
	}
	out := make([]said, len(of))
	for i, v := range of {
		if out[i] = v; v.kind != table.Number {
			if v.kind == table.Date && instant {
				out[i].sql, out[i].kind = "("+v.sql+" * 86400000000)", table.Instant
			}
			continue
		}
		if float != v.float {
			return nil, unsaid("a choice between binary fractions and exact numbers")
		}
		if out[i].sql, out[i].wide = c.widened(v), true; !float && v.scale < scale {
			out[i].sql, out[i].scale = fmt.Sprintf("(%s * toDecimal128('1', %d))", out[i].sql, scale-v.scale), scale
		}
	}
	return out, nil
}

func (c clickhouse) choose(when []string, then []said) (said, error) {
	then, err := c.alike(then)
	if err != nil {
		return said{}, err
	}
	var parts []string
	last := then[len(then)-1]
	near := last.near
	for i, w := range when {
		parts, near = append(parts, w, then[i].sql), near && then[i].near
	}
	return said{sql: "multiIf(" + strings.Join(append(parts, last.sql), ", ") + ")", kind: last.kind, scale: last.scale, float: last.float, near: near, wide: !last.float}, nil
}

func (c clickhouse) call(s *condition.Step, args []said) (said, error) {
	number := func(sql string) (said, error) {
		return said{sql: "toDecimal128(" + sql + ", 0)", kind: table.Number, wide: true}, nil
	}
	text := func(sql string) (said, error) { return said{sql: sql, kind: table.Text}, nil }
	switch s.Does {
	case "ABS":
		args[0].sql, args[0].wide = "abs("+c.widened(args[0])+")", true
		return args[0], nil
	case "LENGTH", "CHAR_LENGTH", "CHARACTER_LENGTH":
		return number("lengthUTF8(" + args[0].sql + ")")
	case "POSITION":
		return number("positionUTF8(" + args[1].sql + ", " + args[0].sql + ")")
	case "LOWER", "UPPER":
		return text(strings.ToLower(s.Does) + "UTF8(" + args[0].sql + ")")
	case "SUBSTRING":
		from, ok := wholeLiteral(s.Of[1])
		length := 1 << 20
		if ok && len(args) == 3 {
			length, ok = wholeLiteral(s.Of[2])
		}
		if !ok || from < 1 || from > 1<<20 || length < 0 || length > 1<<20 {
			return said{}, unsaid("SUBSTRING from a place, or of a length, that is worked out")
		}
		if length == 0 {
			return text("if(" + c.isNull(args[0].sql) + ", NULL, '')")
		}
		return text(fmt.Sprintf("substringUTF8(%s, %d, %d)", args[0].sql, from, length))
	case "ROUND", "FLOOR", "CEIL", "CEILING":
		places, ok := 0, true
		if len(args) == 2 {
			places, ok = wholeLiteral(s.Of[1])
		}
		if args[0].float || !ok || places < 0 || places > 30 {
			return said{}, unsaid("%s of a binary fraction, or to a number of places that is worked out,", s.Does)
		}
		does := strings.TrimSuffix(strings.ToLower(s.Does), "ing")
		args[0].sql = fmt.Sprintf("%s(%s, %d)", does, c.widened(args[0]), min(places, args[0].scale))
		args[0].wide = true
		return args[0], nil
	case "EXTRACT":
		return c.extract(s.Word, args[0])
	case "DATE_TRUNC":
		return c.truncate(strings.ToLower(s.Of[0].Is.Text), args[1])
	case "||":
		return text("concat(" + args[0].sql + ", " + args[1].sql + ")")
	case condition.DaysFrom:
		return number("(" + args[0].sql + " - " + args[1].sql + ")")
	case condition.PlusDays, condition.LessDays:
		days, ok := wholeLiteral(s.Of[1])
		if !ok || days > 1_000_000 || days < -1_000_000 {
			return said{}, unsaid("a date moved by days that are worked out")
		}
		if s.Does == condition.LessDays {
			days = -days
		}
		return said{sql: fmt.Sprintf("(%s + (%d))", args[0].sql, days), kind: table.Date}, nil
	case condition.Move:
		if s.By.Months != 0 {
			return said{}, unsaid("a date moved by months or years")
		}
		if s.Kind == table.Date {
			return said{sql: fmt.Sprintf("(%s + (%d))", args[0].sql, s.By.Days), kind: table.Date}, nil
		}
		at := args[0].sql
		if args[0].kind == table.Date {
			at = "(" + at + " * 86400000000)"
		}
		return said{sql: fmt.Sprintf("(%s + (%d))", at, s.By.Days*86_400_000_000+s.By.Micros), kind: table.Instant}, nil
	case "CAST":
		switch {
		case len(args) == 1 && args[0].kind == table.Number && s.Kind == table.Number && !args[0].float:
			if s.Word != "DECIMAL" && s.Word != "NUMERIC" {
				args[0].sql, args[0].wide = "round("+c.widened(args[0])+", 0)", true
			}
			return args[0], nil
		case args[0].kind == table.Instant && s.Kind == table.Date && args[0].near:
			return said{sql: "intDiv(" + args[0].sql + ", 86400000000)", kind: table.Date, near: true}, nil
		case len(args) == 1 && args[0].kind == table.Number && (s.Word == "DECIMAL" || s.Word == "NUMERIC"), args[0].kind == s.Kind && s.Kind != table.Number:
			return args[0], nil
		case args[0].kind == table.Date && s.Kind == table.Instant:
			return said{sql: "(" + args[0].sql + " * 86400000000)", kind: table.Instant}, nil
		}
	}
	return said{}, unsaid("%s", s.Does)
}

// asDate is the engine's own date, or point in time, of a value that lies within its reach.
func (clickhouse) asDate(v said) (string, error) {
	switch {
	case !v.near:
		return "", unsaid("a part of a date that may lie before 1970 or after 2105")
	case v.kind == table.Instant:
		return "toDateTime(intDiv(" + v.sql + ", 1000000), 'UTC')", nil
	}
	return "toDate(" + v.sql + ")", nil
}

// extract asks for a field of a date; a null has none.
func (c clickhouse) extract(field string, v said) (said, error) {
	date, err := c.asDate(v)
	if err != nil {
		return said{}, err
	}
	function, known := map[string]string{"YEAR": "toYear", "QUARTER": "toQuarter", "MONTH": "toMonth", "DAY": "toDayOfMonth", "DOY": "toDayOfYear", "WEEK": "toISOWeek", "ISODOW": "toDayOfWeek",
		"HOUR": "toHour", "MINUTE": "toMinute", "SECOND": "toSecond"}[field]
	if !known {
		return said{}, unsaid("EXTRACT of %s", field)
	}
	return said{sql: "toDecimal128(" + function + "(" + date + "), 0)", kind: table.Number, wide: true}, nil
}

// truncate goes back to where a period begins.
func (c clickhouse) truncate(unit string, v said) (said, error) {
	date, err := c.asDate(v)
	if err != nil {
		return said{}, err
	}
	if seconds := map[string]int64{"second": 1, "minute": 60, "hour": 3600, "day": 86400}[unit]; seconds > 0 && v.kind == table.Instant {
		return said{sql: fmt.Sprintf("(intDiv(%s, %d) * %[2]d)", v.sql, seconds*1_000_000), kind: v.kind, near: true}, nil
	}
	function := map[string]string{"year": "toStartOfYear", "quarter": "toStartOfQuarter", "month": "toStartOfMonth", "week": "toMonday", "day": "toDate"}[unit]
	if function == "" {
		return v, nil // a date has no hours
	}
	out := said{sql: "toInt64(toRelativeDayNum(" + function + "(" + date + ")))", kind: v.kind, near: unit != "week"}
	if v.kind == table.Instant {
		out.sql = "(" + out.sql + " * 86400000000)"
	}
	return out, nil
}

// number reads what is written with a point and without anything but digits and a sign, where a condition holds that is never null.
func (clickhouse) number(text, where string, scale int) (said, error) {
	if scale > 18 {
		return said{}, unsaid("numbers of %d digits after the point", scale)
	}
	return said{sql: fmt.Sprintf("if(%s, toDecimal128(if(%[1]s, ifNull(%s, '0'), '0'), %d), NULL)", where, text, scale), kind: table.Number, scale: scale, wide: true}, nil
}

func (clickhouse) replace(text, what, by string) string {
	q := clickhouse{}
	w, _ := q.quote(what)
	b, _ := q.quote(by)
	return "replaceAll(" + text + ", " + w + ", " + b + ")"
}

func (c clickhouse) mapped(text string, from []string, to []table.Value, kind table.Kind) (said, error) {
	if len(from) == 0 {
		return c.none(said{kind: kind}), nil
	}
	out, values := said{kind: kind}, make([]string, len(from))
	for i, v := range to {
		switch values[i] = v.Identity(); kind {
		case table.Number:
			_, fraction, _ := strings.Cut(values[i], ".")
			if out.scale = max(out.scale, len(fraction)); len(values[i]) > 30 || out.scale > 18 {
				return said{}, unsaid("a number of so many digits")
			}
		case table.Boolean:
			values[i] = map[bool]string{true: "1", false: "0"}[v.True]
		case table.Date, table.Instant:
			values[i] = strconv.FormatInt(v.When, 10)
		}
	}
	// What is not in the list becomes what none of it can be.
	instead := map[bool]string{true: "0", false: ""}[kind != table.Text]
	sql := fmt.Sprintf("transform(ifNull(%s, ''), %s, %s, '%s')", text, c.list(from), c.list(values), instead)
	switch kind {
	case table.Number:
		sql, out.wide = fmt.Sprintf("toDecimal128(%s, %d)", sql, out.scale), true
	case table.Boolean:
		sql = "toUInt8(" + sql + ")"
	case table.Date, table.Instant:
		sql = "toInt64(" + sql + ")"
	}
	out.sql = "if(" + c.among(text, from) + ", " + sql + ", NULL)"
	return out, nil
}

// list is an array of texts, written as a single one: servers of old do not know literals of many parts again that they told to others.
func (c clickhouse) list(texts []string) string {
	separator := byte(1)
	for ; separator < ' '; separator++ {
		if !slices.ContainsFunc(texts, func(t string) bool { return strings.IndexByte(t, separator) >= 0 }) {
			break
		}
	}
	if separator == ' ' { // there is none to tell them apart
		var quoted []string
		for _, t := range texts {
			q, _ := c.quote(t)
			quoted = append(quoted, q)
		}
		return "[" + strings.Join(quoted, ", ") + "]"
	}
	joined, _ := c.quote(strings.Join(texts, string(separator)))
	return fmt.Sprintf("splitByChar('\\x%02x', %s)", separator, joined)
}

// matches has a point match everything but the end of a line, as elsewhere.
func (c clickhouse) matches(text, pattern string) (string, error) {
	quoted, err := c.quote("(?-s)" + pattern)
	return "match(" + text + ", " + quoted + ")", err
}

func (clickhouse) certain(condition string) string { return "(ifNull(" + condition + ", 0) = 1)" }
func (clickhouse) isNull(sql string) string        { return "isNull(" + sql + ")" }

// amongFew is up to how many texts are listed one by one.
const amongFew = 90

func (c clickhouse) among(text string, list []string) string {
	if len(list) <= amongFew {
		var quoted []string
		for _, t := range list {
			q, _ := c.quote(t)
			quoted = append(quoted, q)
		}
		return "(ifNull(" + text + ", '') IN (" + strings.Join(quoted, ", ") + "))"
	}
	var filled []string
	for _, t := range list {
		if t != "" {
			filled = append(filled, t)
		}
	}
	texts := c.list(filled)
	is := fmt.Sprintf("(transform(ifNull(%s, ''), %s, %[2]s, '') != '')", text, texts)
	if len(filled) < len(list) {
		is = "(" + is + " OR ifNull(" + text + ", '') = '')"
	}
	return is
}

func (c clickhouse) amongRows(texts []string, rows [][]string) string {
	var list []string
	for _, row := range rows {
		var b strings.Builder
		for _, text := range row {
			fmt.Fprintf(&b, "%d:%s", len(text), text)
		}
		list = append(list, b.String())
	}
	return c.among(c.written(texts), list)
}

func (clickhouse) firstOf(text string) string { return "ifNull(" + text + ", '')" }

func (clickhouse) sorted(text string) string { return text }

func (clickhouse) digitsAlike(text string) string {
	return "replaceRegexpAll(" + text + ", '[0-8]', '9')"
}

func (clickhouse) length(text string) string { return "lengthUTF8(" + text + ")" }

// pads asks, since servers from 21 on leave zeros out.
func (clickhouse) pads() (try, right string) {
	return "SELECT toString(toDecimal64('1.50', 2))", "1.50"
}

func (clickhouse) asText(sql string) string { return "toString(" + sql + ")" }
func (clickhouse) countWhere(condition string) string {
	return "countIf(" + condition + ")"
}

func (c clickhouse) sum(v said) string {
	if v.scale == 0 && (v.digits == 0 || v.digits > 10) { // the sum of decimals has 38 digits by itself, and that of whole numbers 18
		v.sql = c.widened(v)
	}
	return "sum(" + v.sql + ")"
}

// explained is empty: 18.16 tells nothing of what it expects, and what later servers tell was not tried.
func (clickhouse) explained(string) (ask string, read func(line string) string) { return "", nil }

// sumText writes what is above 20 digits and what is below apart, since 18.16 garbles longer numbers. The first part need not be exact: the second one is
// what it leaves.
func (clickhouse) sumText(sum string, of said) string {
	if of.float {
		return "toString(" + sum + ")"
	}
	above := "toInt64(toFloat64(" + sum + ") / 1e20)"
	return fmt.Sprintf("concat(toString(%s), '%s', toString(toDecimal128(%s, %d) - toDecimal128(%[1]s, 0) * toDecimal128('1%[5]s', 0)))", above, sumPower, sum, max(of.scale, 0), strings.Repeat("0", 20))
}

func (clickhouse) lowest(v said, condition string) string {
	if condition == always {
		return "min(" + v.sql + ")"
	}
	return "minIf(" + v.sql + ", " + condition + ")"
}

func (clickhouse) highest(v said, condition string) string {
	if condition == always {
		return "max(" + v.sql + ")"
	}
	return "maxIf(" + v.sql + ", " + condition + ")"
}

func (clickhouse) bits(conditions []string) string {
	var parts []string
	for i, c := range conditions {
		parts = append(parts, fmt.Sprintf("toUInt64(%s) * %d", c, int64(1)<<i))
	}
	return strings.Join(parts, " + ")
}

func (c clickhouse) bucket(v said) string {
	// Zeros at the end are left out of the bytes, and come back as they are read.
	return "bitShiftRight(reinterpretAsUInt64(reinterpretAsString(" + c.double(v) + " + 0.)), 42)"
}

func (clickhouse) double(v said) string {
	if v.float {
		return v.sql
	}
	if !v.wide && v.digits <= doubleDigits { // the quotient of two numbers that double precision holds is the nearest one
		return "toFloat64(" + v.sql + ")"
	}
	return "toFloat64(toString(" + v.sql + "))"
}

// near is compared in a third of the time.
func (clickhouse) near(v said) string {
	if v.float || v.wide || v.scale == 0 {
		return ""
	}
	return "toFloat64(" + v.sql + ")"
}

func (clickhouse) trimmed(v said) string {
	text := "toString(" + v.sql + ")"
	if v.scale == 0 {
		return text
	}
	return "replaceRegexpOne(replaceRegexpOne(" + text + `, '(\\.[0-9]*?)0+$', '\\1'), '\\.$', '')`
}

func (clickhouse) spread(c *column) string {
	hashed := c.same()
	switch {
	case c.nature.kind == exact && c.value.digits > 0 && c.value.digits <= doubleDigits:
		hashed = "toFloat64(" + c.ref + ")"
	case c.nature.kind == exact:
		hashed = bytesOf(c.ref)
	}
	return "toUInt16(cityHash64(" + hashed + "))" // which are counted in a plain array
}

func (c clickhouse) rowHash(texts []string) string {
	return "hex(sipHash128(" + c.written(texts) + "))"
}

// written writes the texts of a row one after the other, each with its length.
func (clickhouse) written(texts []string) string {
	parts := []string{"''"}
	for _, t := range texts {
		parts = append(parts, "toString(length(ifNull("+t+", '')))", "':'", "ifNull("+t+", '')")
	}
	return "concat(" + strings.Join(parts, ", ") + ")"
}

// bytesOf are those of a number with digits after the point, which has no hash by itself.
func bytesOf(ref string) string { return "reinterpretAsString(" + ref + ")" }

func (c clickhouse) hash(columns []*column) string {
	var parts, nulls []string
	for _, one := range columns {
		what, instead := one.text, "''"
		switch one.nature.kind {
		case textual:
			what = one.ref
		case integer:
			what, instead = one.ref, "0"
		case dated:
			what, instead = "toInt32("+one.ref+")", "0"
		case exact:
			if what = bytesOf(one.ref); one.nature.digits < doubleDigits {
				what, instead = "toFloat64("+one.ref+")", "0"
			}
		}
		if !one.nature.sure {
			what, nulls = "ifNull("+what+", "+instead+")", append(nulls, c.isNull(one.ref))
		}
		parts = append(parts, what)
	}
	for some := range slices.Chunk(nulls, wordBits) {
		parts = append(parts, c.bits(some))
	}
	return "cityHash64(" + strings.Join(parts, ", ") + ")"
}

func (clickhouse) hashName() string {
	return "sum and exclusive or of CityHash64 of its rows as the server holds them"
}

// crowded gathers 32 of the bits of hashes that have 12 others in common.
func (clickhouse) crowded(hash string) (part, crowded string) {
	some := "groupArray(toUInt32(bitShiftRight(" + hash + ", 20)))"
	return "toUInt16(bitShiftRight(" + hash + ", 52))", "length(" + some + ") > arrayUniq(" + some + ")"
}

func (clickhouse) exclusiveOr(hash string) string { return "groupBitXor(" + hash + ")" }

func (clickhouse) groups(n nature) bool {
	return n.kind != other && n.kind != floating && n.kind != padded
}

func (clickhouse) day(v said) string {
	if v.kind == table.Instant {
		return "intDiv(" + v.sql + ", 86400000000)"
	}
	return v.sql
}

func (clickhouse) distinct(text string) (string, float64) {
	return "uniqCombined(" + text + ")", 0.005
}

func (clickhouse) fence() string { return "" }

func (clickhouse) matchesFast() bool { return true }

func (clickhouse) elsewhere() string { return "GLOBAL " }

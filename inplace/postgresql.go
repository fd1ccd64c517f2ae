package inplace

import (
	"cmp"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/condition"
	"proudsieve/core/table"
	"proudsieve/engine"
)

// postgresql is the SQL of PostgreSQL 13 and later. Its decimals are exact, whatever their size; binary fractions are turned into the decimals
// that they are written as.
type postgresql struct{}

func (postgresql) name(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` }

// quote relies on standard_conforming_strings, which the session sets.
func (postgresql) quote(text string) (string, error) {
	if strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
		return "", unsaid("a text with a zero byte, or that is no UTF-8,")
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'", nil
}

var (
	postgresNumeric = regexp.MustCompile(`^numeric\([0-9]+,([0-9]+)\)$`)
	postgresPadded  = regexp.MustCompile(`^character\(([0-9]+)\)$`)
)

func (postgresql) natureOf(c *engine.Column) nature {
	switch t := c.Type; {
	case t == "smallint", t == "integer", t == "bigint", t == "oid":
		return nature{kind: integer}
	case t == "numeric":
		return nature{kind: exact, scale: -1}
	case postgresNumeric.MatchString(t):
		scale, _ := strconv.Atoi(postgresNumeric.FindStringSubmatch(t)[1])
		return nature{kind: exact, scale: scale}
	case t == "real", t == "double precision":
		return nature{kind: floating}
	case t == "boolean":
		return nature{kind: boolean}
	case t == "date":
		return nature{kind: dated}
	case strings.HasPrefix(t, "timestamp"):
		return nature{kind: moment, zoned: strings.HasSuffix(t, " with time zone")}
	case t == "text", strings.HasPrefix(t, "character varying"):
		return nature{kind: textual}
	case postgresPadded.MatchString(t):
		width, _ := strconv.Atoi(postgresPadded.FindStringSubmatch(t)[1])
		return nature{kind: padded, digits: width}
	}
	return nature{kind: other}
}

func (p postgresql) text(ref string, n nature) string {
	switch n.kind {
	case textual:
		return ref
	case padded: // a cast takes the spaces away
		return fmt.Sprintf("rpad(%s::text, %d)", ref, n.digits)
	case boolean:
		return "(CASE WHEN " + ref + " THEN 'true' WHEN NOT " + ref + " THEN 'false' END)"
	case moment:
		at, z := ref, ""
		if n.zoned {
			at, z = "("+ref+" AT TIME ZONE 'UTC')", " || 'Z'"
		}
		return fmt.Sprintf(`(CASE WHEN isfinite(%[1]s) THEN CASE WHEN extract(year FROM %[1]s) BETWEEN 1 AND 9999 THEN to_char(%[1]s, CASE WHEN extract(microseconds FROM %[1]s)::bigint %% 1000000 = 0 THEN 'YYYY-MM-DD HH24:MI:SS' WHEN extract(microseconds FROM %[1]s)::bigint %% 1000 = 0 THEN 'YYYY-MM-DD HH24:MI:SS.MS' ELSE 'YYYY-MM-DD HH24:MI:SS.US' END)%[2]s ELSE %[3]s::text END ELSE %[3]s::text END)`, at, z, ref)
	}
	return ref + "::text"
}

func (postgresql) garbled(string, nature) (where, try, right string) { return "", "", "" }

func (p postgresql) direct(ref string, n nature, to table.Type) (v said, odd string, ok bool) {
	text := p.text(ref, n)
	switch {
	case n.kind == integer && to.IsNumber():
		return said{sql: ref + "::numeric", raw: ref, kind: table.Number}, "", true
	case (n.kind == exact || n.kind == floating) && to.IsNumber():
		v = said{sql: ref, kind: table.Number, scale: n.scale}
		if n.kind == floating {
			v = said{sql: "(" + text + ")::numeric", kind: table.Number, scale: -1}
		}
		if odd = text + " IN ('NaN', 'Infinity', '-Infinity')"; to == table.TypeInteger {
			odd += " OR trunc(" + v.sql + ") <> " + v.sql
		}
		return v, odd, true
	case n.kind == boolean && to == table.TypeBoolean:
		return said{sql: ref, kind: table.Boolean}, "", true
	case n.kind == dated && to == table.TypeDate:
		return said{sql: ref, kind: table.Date}, "NOT isfinite(" + ref + ") OR extract(year FROM " + ref + ") NOT BETWEEN 1 AND 9999", true
	case n.kind == moment && to == table.TypeDateTime:
		at := ref
		if n.zoned {
			at = "(" + ref + " AT TIME ZONE 'UTC')"
		}
		return said{sql: at, kind: table.Instant}, "NOT isfinite(" + ref + ") OR extract(year FROM " + at + ") NOT BETWEEN 1 AND 9999", true
	}
	return said{}, "", false
}

var postgresTypes = map[table.Kind]string{table.Number: "numeric", table.Text: "text", table.Boolean: "boolean", table.Date: "date", table.Instant: "timestamp"}

func (postgresql) none(like said) said {
	like.sql, like.sure = "NULL::"+postgresTypes[like.kind], false
	return like
}

func (p postgresql) literal(v table.Value) (said, error) {
	switch v.Kind {
	case table.Missing:
		return said{}, nil
	case table.Text:
		sql, err := p.quote(v.Text)
		return said{sql: sql + "::text", kind: table.Text, sure: true}, err
	case table.Boolean:
		return said{sql: strings.ToUpper(v.Standard()), kind: table.Boolean, sure: true}, nil
	}
	return said{sql: "'" + v.Standard() + "'::" + postgresTypes[v.Kind], kind: v.Kind, scale: -1, sure: true}, nil
}

// bytewise has texts compared by their bytes.
func (p postgresql) bytewise(v said) string {
	if v.kind == table.Text {
		return p.sorted(v.sql)
	}
	return v.sql
}

func (postgresql) sorted(text string) string { return "(" + text + ` COLLATE "C")` }

func (p postgresql) compare(sign string, a, b said) (string, error) {
	return "(" + p.bytewise(a) + " " + sign + " " + p.bytewise(b) + ")", nil
}

func (postgresql) not(condition string) string { return "(NOT " + condition + ")" }

func (postgresql) join(word, a, b string) string { return "(" + a + " " + word + " " + b + ")" }

func (postgresql) calculate(sign string, a, b said) (said, error) {
	right := b.sql
	if sign == "/" {
		right = "NULLIF(" + right + ", 0)"
	}
	return said{sql: "(" + a.sql + " " + sign + " " + right + ")", kind: table.Number, scale: -1}, nil
}

func (p postgresql) choose(when []string, then []said) (said, error) {
	var b strings.Builder
	b.WriteString("(CASE")
	for i, w := range when {
		b.WriteString(" WHEN " + w + " THEN " + p.bytewise(then[i]))
	}
	last := then[len(then)-1]
	b.WriteString(" ELSE " + p.bytewise(last) + " END)")
	return said{sql: b.String(), kind: last.kind, scale: -1}, nil
}

func (p postgresql) call(s *condition.Step, args []said) (said, error) {
	number := func(sql string) (said, error) { return said{sql: sql, kind: table.Number, scale: -1}, nil }
	text := func(sql string) (said, error) { return said{sql: sql, kind: table.Text}, nil }
	switch s.Does {
	case "ABS", "FLOOR", "CEIL", "CEILING":
		return number(s.Does + "(" + args[0].sql + ")")
	case "ROUND":
		places, ok := 0, true
		if len(args) == 2 {
			places, ok = wholeLiteral(s.Of[1])
		}
		if !ok || places > 100 || places < -100 {
			return said{}, unsaid("ROUND to a number of places that is worked out")
		}
		return number(fmt.Sprintf("ROUND(%s, %d)", args[0].sql, places))
	case "MOD":
		return number("MOD(" + args[0].sql + ", NULLIF(" + args[1].sql + ", 0))")
	case "LENGTH", "CHAR_LENGTH", "CHARACTER_LENGTH":
		return number("char_length(" + args[0].sql + ")::numeric")
	case "POSITION":
		return number("strpos(" + p.bytewise(args[1]) + ", " + p.bytewise(args[0]) + ")::numeric")
	case "LOWER", "UPPER":
		return text(s.Does + "(" + args[0].sql + ` COLLATE "C.utf8")`)
	case "||":
		return text("(" + p.bytewise(args[0]) + " || " + p.bytewise(args[1]) + ")")
	case "TRIM":
		does := map[string]string{"LEADING": "ltrim", "TRAILING": "rtrim", "BOTH": "btrim"}[s.Word]
		return text(does + "(" + p.bytewise(args[0]) + ", " + p.bytewise(args[1]) + ")")
	case "SUBSTRING":
		from, ok := wholeLiteral(s.Of[1])
		if !ok || from > 1<<20 || from < -1<<20 {
			return said{}, unsaid("SUBSTRING from a place that is worked out")
		}
		if len(args) == 2 {
			return text(fmt.Sprintf("substring(%s FROM %d)", args[0].sql, from))
		}
		length, ok := wholeLiteral(s.Of[2])
		if !ok || length < 0 || length > 1<<20 {
			return said{}, unsaid("SUBSTRING of a length that is worked out")
		}
		return text(fmt.Sprintf("substring(%s FROM %d FOR %d)", args[0].sql, from, length))
	case "EXTRACT":
		return number("extract(" + s.Word + " FROM " + args[0].sql + ")::numeric")
	case "DATE_TRUNC":
		sql := "date_trunc('" + strings.ToLower(s.Of[0].Is.Text) + "', " + args[1].sql + ")"
		if s.Kind == table.Date {
			sql += "::date"
		} else {
			sql += "::timestamp"
		}
		return said{sql: sql, kind: s.Kind}, nil
	case condition.DaysFrom:
		return number("(" + args[0].sql + " - " + args[1].sql + ")::numeric")
	case condition.PlusDays, condition.LessDays:
		days, ok := wholeLiteral(s.Of[1])
		if !ok || days > 1_000_000 || days < -1_000_000 {
			return said{}, unsaid("a date moved by days that are worked out")
		}
		sign := "+"
		if s.Does == condition.LessDays {
			sign = "-"
		}
		return said{sql: fmt.Sprintf("(%s %s (%d))", args[0].sql, sign, days), kind: table.Date}, nil
	case condition.Move:
		sql := fmt.Sprintf("(%s + make_interval(months => %d) + make_interval(days => %d) + INTERVAL '%d microseconds')", args[0].sql, s.By.Months, s.By.Days, s.By.Micros)
		if s.Kind == table.Date {
			sql += "::date"
		}
		return said{sql: sql, kind: s.Kind}, nil
	case "CAST":
		return p.cast(s, args)
	}
	return said{}, unsaid("%s", s.Does)
}

func (p postgresql) cast(s *condition.Step, args []said) (said, error) {
	from, to := args[0].kind, s.Kind
	as := func(sql string) (said, error) { return said{sql: sql, kind: to, scale: -1}, nil }
	switch {
	case from == table.Text && to == table.Text:
		return as(args[0].sql)
	case to == table.Text && from == table.Instant:
		return as(p.text(args[0].sql, nature{kind: moment}))
	case to == table.Text:
		return as("(" + args[0].sql + ")::text")
	case from == table.Number && to == table.Number && len(args) == 1 && (s.Word == "DECIMAL" || s.Word == "NUMERIC"):
		return as(args[0].sql)
	case from == table.Number && to == table.Number && len(args) == 1:
		return as("ROUND(" + args[0].sql + ")")
	case from == table.Number && to == table.Number:
		digits, _ := wholeLiteral(s.Of[1])
		places := 0
		if len(args) == 3 {
			places, _ = wholeLiteral(s.Of[2])
		}
		return as(fmt.Sprintf("(CASE WHEN ABS(ROUND(%[1]s, %[2]d)) < 1e%[3]d THEN ROUND(%[1]s, %[2]d) END)", args[0].sql, places, digits-places))
	case from == to:
		return as(args[0].sql)
	case from == table.Date && to == table.Instant:
		return as(args[0].sql + "::timestamp")
	case from == table.Instant && to == table.Date:
		return as(args[0].sql + "::date")
	}
	return said{}, unsaid("CAST of a %s to %s", from, s.Word)
}

// wholeLiteral returns a whole number that stands in a condition.
func wholeLiteral(s condition.Step) (int, bool) {
	sign := 1
	for s.Does == condition.Minus {
		s, sign = s.Of[0], -sign
	}
	if s.Does != condition.Literally || s.Is.Kind != table.Number || !s.Is.Number.IsWhole() {
		return 0, false
	}
	n, err := strconv.Atoi(s.Is.Number.Shortest())
	return sign * n, err == nil
}

func (postgresql) number(text, where string, scale int) (said, error) {
	return said{sql: "(CASE WHEN " + where + " THEN (" + text + ")::numeric END)", kind: table.Number, scale: scale}, nil
}

func (p postgresql) replace(text, what, by string) string {
	w, _ := p.quote(what)
	b, _ := p.quote(by)
	return "replace(" + text + ", " + w + ", " + b + ")"
}

func (p postgresql) mapped(text string, from []string, to []table.Value, kind table.Kind) (said, error) {
	keys, values := make([]string, len(from)), make([]string, len(from))
	for i := range from {
		var err error
		if keys[i], err = p.quote(from[i]); err != nil {
			return said{}, err
		}
		if values[i], err = p.quote(to[i].Standard()); err != nil {
			return said{}, err
		}
	}
	if len(from) == 0 {
		return p.none(said{kind: kind}), nil
	}
	// A JSON object finds a text among many in the time that it takes among few.
	return said{sql: fmt.Sprintf("(jsonb_object(ARRAY[%s], ARRAY[%s]) ->> %s)::%s", strings.Join(keys, ", "), strings.Join(values, ", "), text, postgresTypes[kind]),
		kind: kind, scale: -1}, nil
}

// matches writes a pattern anew for the regular expressions of PostgreSQL, of which those of RE2 that can be told apart by a word or by case, or that
// look for the ends of lines, are none.
func (p postgresql) matches(text, pattern string) (string, error) {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	if !postgresPattern(&b, parsed) {
		return "", unsaid("the pattern %s", pattern)
	}
	quoted, err := p.quote("(?:" + b.String() + ")")
	return "(" + text + ` COLLATE "C" ~ ` + quoted + ")", err
}

func postgresPattern(b *strings.Builder, r *syntax.Regexp) bool {
	character := func(c rune) { fmt.Fprintf(b, `\U%08X`, c) }
	whole := func(of []*syntax.Regexp, between string) bool {
		b.WriteString("(?:")
		for i, one := range of {
			if i > 0 {
				b.WriteString(between)
			}
			if !postgresPattern(b, one) {
				return false
			}
		}
		b.WriteString(")")
		return true
	}
	switch r.Op {
	case syntax.OpEmptyMatch:
		b.WriteString("(?:)")
	case syntax.OpLiteral:
		b.WriteString("(?:")
		for _, c := range r.Rune {
			if r.Flags&syntax.FoldCase != 0 && unicode.SimpleFold(c) != c {
				return false
			}
			character(c)
		}
		b.WriteString(")")
	case syntax.OpCharClass:
		if len(r.Rune) == 0 {
			return false
		}
		b.WriteString("[")
		for i := 0; i < len(r.Rune); i += 2 {
			low := max(r.Rune[i], 1) // there is no zero in a text
			character(low)
			if r.Rune[i+1] > low {
				b.WriteString("-")
				character(r.Rune[i+1])
			}
		}
		b.WriteString("]")
	case syntax.OpAnyCharNotNL:
		b.WriteString(`[^\n]`)
	case syntax.OpAnyChar:
		b.WriteString(`.`)
	case syntax.OpBeginText:
		b.WriteString(`\A`)
	case syntax.OpEndText:
		b.WriteString(`\Z`)
	case syntax.OpCapture:
		return whole(r.Sub, "")
	case syntax.OpConcat:
		return whole(r.Sub, "")
	case syntax.OpAlternate:
		return whole(r.Sub, "|")
	case syntax.OpStar, syntax.OpPlus, syntax.OpQuest:
		if !whole(r.Sub, "") {
			return false
		}
		b.WriteString(map[syntax.Op]string{syntax.OpStar: "*", syntax.OpPlus: "+", syntax.OpQuest: "?"}[r.Op])
	case syntax.OpRepeat:
		if r.Max > 255 || r.Min > 255 || !whole(r.Sub, "") {
			return false
		}
		switch {
		case r.Max < 0:
			fmt.Fprintf(b, "{%d,}", r.Min)
		case r.Max == r.Min:
			fmt.Fprintf(b, "{%d}", r.Min)
		default:
			fmt.Fprintf(b, "{%d,%d}", r.Min, r.Max)
		}
	default:
		return false
	}
	return true
}

func (postgresql) certain(condition string) string { return "(" + condition + " IS TRUE)" }
func (postgresql) isNull(sql string) string        { return "(" + sql + " IS NULL)" }

func (p postgresql) among(text string, list []string) string {
	quoted := p.literals(list)
	if len(quoted) == 0 {
		return never
	}
	return "(COALESCE(" + text + `, '') COLLATE "C" = ANY (ARRAY[` + strings.Join(quoted, ", ") + "]))"
}

// literals leaves out what no text there can be.
func (p postgresql) literals(texts []string) (quoted []string) {
	for _, text := range texts {
		if q, err := p.quote(text); err == nil {
			quoted = append(quoted, q)
		}
	}
	return quoted
}

func (p postgresql) amongRows(texts []string, rows [][]string) string {
	var left, list []string
	for _, text := range texts {
		left = append(left, "COALESCE("+text+", '')")
	}
	for _, row := range rows {
		list = append(list, "("+strings.Join(p.literals(row), ", ")+")")
	}
	return "((" + strings.Join(left, ", ") + ") IN (" + strings.Join(list, ", ") + "))"
}

func (postgresql) firstOf(text string) string { return "COALESCE(" + text + ", '')" }

func (postgresql) digitsAlike(text string) string {
	return "translate(" + text + ", '012345678', '999999999')"
}

func (postgresql) length(text string) string { return "char_length(" + text + ")" }
func (postgresql) pads() (try, right string) { return "", "" }
func (postgresql) asText(sql string) string  { return "(" + sql + ")::text" }

func (postgresql) countWhere(condition string) string {
	return "count(*) FILTER (WHERE " + condition + ")"
}

// explained reads what stands in the parentheses of the first line of a plan: cost, rows and their width.
func (postgresql) explained(sql string) (ask string, read func(line string) string) {
	return "EXPLAIN " + sql, func(line string) string {
		_, says, _ := strings.Cut(line, "(")
		return strings.TrimSuffix(says, ")")
	}
}

func (p postgresql) sumText(sum string, _ said) string { return p.asText(sum) }

func (postgresql) sum(v said) string {
	sum := v.sql
	if v.raw != "" {
		sum = v.raw + "::bigint" // whose sum is a numeric
	}
	return "COALESCE(sum(" + sum + "), 0)"
}

func (postgresql) lowest(v said, condition string) string {
	return "min(" + cmp.Or(v.raw, v.sql) + ") FILTER (WHERE " + condition + ")"
}

func (postgresql) highest(v said, condition string) string {
	return "max(" + cmp.Or(v.raw, v.sql) + ") FILTER (WHERE " + condition + ")"
}

func (postgresql) bits(conditions []string) string {
	var parts []string
	for i, c := range conditions {
		parts = append(parts, fmt.Sprintf("CASE WHEN %s THEN %d::bigint ELSE 0 END", c, int64(1)<<i))
	}
	return strings.Join(parts, " + ")
}

// bucket takes the first 22 bits from the bytes in which a number is sent.
func (p postgresql) bucket(v said) string {
	sent := "float8send(" + p.double(v) + ")"
	return fmt.Sprintf("((get_byte(%s, 0) << 14) | (get_byte(%[1]s, 1) << 6) | (get_byte(%[1]s, 2) >> 2))", sent)
}

func (postgresql) double(v said) string {
	if v.float {
		return v.sql
	}
	return "(" + cmp.Or(v.raw, v.sql) + ")::float8"
}

func (postgresql) near(said) string { return "" }

func (postgresql) trimmed(v said) string { return "trim_scale(" + v.sql + ")::text" }

func (postgresql) spread(c *column) string {
	return fmt.Sprintf("(hash_record_extended(ROW(%s), 0) & %d)", c.same(), hashBuckets-1)
}

func (p postgresql) rowHash(texts []string) string {
	return "md5(" + p.written(texts) + ")"
}

// written writes the texts of a row one after the other, each with its length.
func (postgresql) written(texts []string) string {
	var parts []string
	for _, t := range texts {
		parts = append(parts, "octet_length(COALESCE("+t+", ''))::text || ':' || COALESCE("+t+", '')")
	}
	return strings.Join(parts, " || ")
}

// hash relies on PostgreSQL 14, from which on a record has a hash.
func (postgresql) hash(columns []*column) string {
	var parts []string
	for _, c := range columns {
		if c.nature.kind == other {
			parts = append(parts, c.text)
		} else {
			parts = append(parts, c.ref)
		}
	}
	return "hash_record_extended(ROW(" + strings.Join(parts, ", ") + "), 0)"
}

func (postgresql) hashName() string {
	return "sum and exclusive or of the server's own hashes of its records"
}

func (postgresql) exclusiveOr(hash string) string { return "bit_xor(" + hash + ")" }

func (postgresql) crowded(string) (part, crowded string) { return "", "" }

func (postgresql) groups(n nature) bool { return n.kind != other && n.kind != floating }

func (postgresql) day(v said) string {
	if v.kind == table.Instant {
		return "(" + v.sql + "::date - DATE '1970-01-01')"
	}
	return "(" + v.sql + " - DATE '1970-01-01')"
}

func (postgresql) distinct(string) (string, float64) { return "", 0 }
func (postgresql) fence() string                     { return " OFFSET 0" }
func (postgresql) matchesFast() bool                 { return false }
func (postgresql) elsewhere() string                 { return "" }

// Package conditiontest makes conditions up, for tests that hold them against other engines.
package conditiontest

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"proudsieve/core/table"
)

// The columns of the random tables; a number is numeric in PostgreSQL too, so that
// its quotients keep their fractions.
var Types = map[string]table.Type{"i": table.TypeInteger, "n": table.TypeDecimal, "m": table.TypeDecimal,
	"t": table.TypeText, "s": table.TypeText, "d": table.TypeDate, "e": table.TypeDate, "ts": table.TypeDateTime,
	"ok": table.TypeBoolean}

// Both is an expression in our language and in PostgreSQL's, where they differ: PostgreSQL
// wants to know the type of NULL, the collation of a literal, and that a divisor is not 0.
type Both struct{ Ours, Theirs string }

func same(s string) Both { return Both{s, s} }

// made puts expressions into a form that is the same in Both languages.
func made(form string, parts ...Both) Both { return differently(form, form, parts...) }

func differently(ours, theirs string, parts ...Both) Both {
	var a, b []any
	for _, p := range parts {
		a, b = append(a, p.Ours), append(b, p.Theirs)
	}
	return Both{fmt.Sprintf(ours, a...), fmt.Sprintf(theirs, b...)}
}

// Generator makes conditions up.
type Generator struct{ *rand.Rand }

func (g Generator) pick(from ...string) string { return from[g.IntN(len(from))] }

func (g Generator) number(depth int) Both {
	if depth > 0 && g.IntN(4) > 0 {
		a, b := g.number(depth-1), g.number(depth-1)
		switch g.IntN(16) {
		case 0:
			// ours has no value where PostgreSQL would fail
			return differently("(%s / %s)", "(%s / NULLIF(%s, 0))", a, b)
		case 1:
			return made("(- %s)", a)
		case 2:
			return made("ABS(%s)", a)
		case 3:
			return made(g.pick("ROUND(%s)", "FLOOR(%s)", "CEIL(%s)", "CEILING(%s)"), a)
		case 4:
			return made("ROUND(%s, "+g.pick("0", "1", "2", "-1")+")", a)
		case 5:
			return differently("MOD(%s, %s)", "MOD(%s, NULLIF(%s, 0))", a, b)
		case 6:
			return made("COALESCE(%s, %s)", a, b)
		case 7:
			return made("NULLIF(%s, %s)", a, b)
		case 8:
			return made("CASE WHEN %s THEN %s ELSE %s END", g.Condition(depth-1), a, b)
		case 9:
			return differently("CASE %s WHEN 1 THEN %s END", "CASE %s WHEN 1 THEN %s END", a, b)
		case 10:
			length := g.pick("LENGTH(%s)", "CHAR_LENGTH(%s)")
			// the quotient of two integers is one in PostgreSQL
			return differently(length, length+"::numeric", g.text(depth-1))
		case 11:
			return differently("POSITION(%s IN %s)", "POSITION(%s IN %s)::numeric", g.text(0), g.text(depth-1))
		case 12:
			return made("EXTRACT("+g.pick("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "DOY", "ISODOW")+" FROM %s)",
				g.date(depth-1))
		case 13:
			return made("EXTRACT("+g.pick("YEAR", "DAY", "HOUR", "MINUTE", "SECOND")+" FROM %s)", g.instant(depth-1))
		case 14:
			// there days are integers, whose quotient is one
			return differently("(%s - %s)", "(%s - %s)::numeric", g.date(depth-1), g.date(depth-1))
		}
		return made("(%s "+g.pick("+", "-", "*")+" %s)", a, b)
	}
	// With points: PostgreSQL divides whole literals without fraction.
	return []Both{same("i"), same("n"), same("m"), same("0.0"), same("1.0"), same("2.5"), same("-3.0"), same("0.1"),
		same("100.0"), {"NULL", "NULL::numeric"}, differently("CAST(%s AS INTEGER)", "ROUND(%s)", same("n")),
		made("CAST(CAST(%s AS TEXT) AS DECIMAL)", same("m")), differently("CAST(%s AS DECIMAL(30, 1))",
			"CAST(%s AS DECIMAL(30, 1))", same("n"))}[g.IntN(13)]
}

func (g Generator) text(depth int) Both {
	literal := func(s string) Both { return Both{s, "(" + s + ` COLLATE "C.utf8")`} }
	if depth > 0 && g.IntN(3) > 0 {
		a := g.text(depth - 1)
		switch g.IntN(9) {
		case 0:
			return made("(%s || %s)", a, g.text(depth-1))
		case 1:
			return made(g.pick("LOWER(%s)", "UPPER(%s)"), a)
		case 2:
			return made("TRIM("+g.pick("", "LEADING FROM ", "TRAILING FROM ", "BOTH 'a' FROM ", "LEADING 'ab' FROM ")+
				"%s)", a)
		case 3:
			return made("SUBSTRING(%s FROM "+g.pick("1", "2", "0", "-1", "9")+")", a)
		case 4:
			return made("SUBSTRING(%s FROM "+g.pick("1", "2", "0", "-1", "9")+" FOR "+g.pick("0", "1", "2", "3", "100")+
				")", a)
		case 5:
			return made("COALESCE(%s, %s)", a, g.text(depth-1))
		case 6:
			return made("NULLIF(%s, %s)", a, g.text(depth-1))
		case 7:
			return made("CASE WHEN %s THEN %s ELSE %s END", g.Condition(depth-1), a, g.text(depth-1))
		}
		return differently("CAST(%s AS TEXT)", `(CAST(%s AS TEXT) COLLATE "C.utf8")`,
			[]Both{same("n"), same("d"), same("ok"), same("ts"), same("i")}[g.IntN(5)])
	}
	return []Both{same("t"), same("s"), literal("'a'"), literal("'b'"), literal("''"), literal("'Ä'"),
		literal("'it''s'"), {"NULL", "NULL::text"}}[g.IntN(8)]
}

func (g Generator) date(depth int) Both {
	if depth > 0 && g.IntN(3) > 0 {
		a := g.date(depth - 1)
		switch g.IntN(6) {
		case 0:
			return differently("(%s "+g.pick("+", "-")+" INTERVAL '"+g.pick("1", "3", "-13")+"' "+
				g.pick("DAY", "MONTH", "YEAR")+")", "", a).dated(a)
		case 1:
			return made("(%s + "+g.pick("1", "30", "-400")+")", a)
		case 2:
			unit := g.pick("year", "quarter", "month", "week", "day")
			return differently("DATE_TRUNC('"+unit+"', %s)", "DATE_TRUNC('"+unit+"', %s)::date", a)
		case 3:
			return made("COALESCE(%s, %s)", a, g.date(depth-1))
		case 4:
			return made("CASE WHEN %s THEN %s ELSE %s END", g.Condition(depth-1), a, g.date(depth-1))
		}
		return made("CAST(%s AS DATE)", g.instant(depth-1))
	}
	return []Both{same("d"), same("e"), same("DATE '2024-02-29'"), same("DATE '2023-01-31'"),
		{"CAST(NULL AS DATE)", "NULL::date"}}[g.IntN(5)]
}

// dated makes a date in PostgreSQL of what ours calls one: there a date and an interval are a timestamp.
func (b Both) dated(of Both) Both {
	return Both{b.Ours, "(" + of.Theirs + strings.TrimPrefix(b.Ours, "("+of.Ours) + "::date"}
}

func (g Generator) instant(depth int) Both {
	if depth > 0 && g.IntN(3) > 0 {
		a := g.instant(depth - 1)
		switch g.IntN(4) {
		case 0:
			return made("(%s "+g.pick("+", "-")+" INTERVAL '"+g.pick("1", "36", "-5")+"' "+
				g.pick("DAY", "MONTH", "YEAR", "HOUR", "MINUTE", "SECOND")+")", a)
		case 1:
			return made("DATE_TRUNC('"+g.pick("year", "quarter", "month", "week", "day", "hour", "minute", "second")+
				"', %s)", a)
		case 2:
			return made("COALESCE(%s, %s)", a, g.instant(depth-1))
		}
		return made("CAST(%s AS TIMESTAMP)", g.date(depth-1))
	}
	return []Both{same("ts"), same("TIMESTAMP '2024-02-29 23:59:59'"),
		{"CAST(NULL AS TIMESTAMP)", "NULL::timestamp"}}[g.IntN(3)]
}

// Condition makes a condition up, of so many levels.
func (g Generator) Condition(depth int) Both {
	if depth > 0 && g.IntN(3) > 0 {
		switch g.IntN(6) {
		case 0:
			return made("NOT (%s)", g.Condition(depth-1))
		case 1:
			return made("((%s) IS "+g.pick("", "NOT ")+g.pick("TRUE", "FALSE", "UNKNOWN")+")", g.Condition(depth-1))
		}
		return made("(%s) "+g.pick("AND", "OR")+" (%s)", g.Condition(depth-1), g.Condition(depth-1))
	}
	sign := " " + g.pick("=", "<>", "<", "<=", ">", ">=") + " "
	not := g.pick("", "NOT ")
	below := max(depth-1, 0)
	switch g.IntN(14) {
	case 0:
		return made("%s"+sign+"%s", g.number(2), g.number(below))
	case 1:
		return made("%s"+sign+"%s", g.text(below), g.text(below))
	case 2:
		return made("%s"+sign+"%s", g.date(below), g.date(below))
	case 3:
		return made("%s"+sign+"%s", g.instant(below), g.instant(below))
	case 4:
		return made("%s"+sign+"%s", g.date(below), g.instant(below))
	case 5:
		return made("%s "+not+"BETWEEN %s AND %s", g.number(below), g.number(0), g.number(0))
	case 6:
		return made("%s "+not+"IN (%s, %s, %s)", g.text(below), g.text(0), g.text(0), g.text(0))
	case 7:
		return made("%s IS "+not+"NULL", []Both{g.number(below), g.text(below), g.date(below), same("ok")}[g.IntN(4)])
	case 8:
		return same(g.pick("ok", "ok = FALSE", "NOT ok"))
	case 9:
		return made("%s IS "+not+"DISTINCT FROM %s", g.number(below), g.number(below))
	case 10:
		return made("%s IS "+not+"DISTINCT FROM %s", g.text(below), g.text(below))
	case 11:
		return differently("%s "+not+"LIKE %s", "%s "+not+`LIKE %s ESCAPE ''`, g.text(below),
			same(g.pick("'a%'", "'%b'", "'_'", "''", "'%'", "'a_'", "'%''%'", "'Ä%'")))
	case 12:
		if not != "" {
			return differently("%s NOT LIKE_REGEX %s", "%s !~ %s", g.text(below),
				same(g.pick("'^a'", "'b$'", "'[ab]+ ?'", "'^$'")))
		}
		return differently("%s LIKE_REGEX %s", "%s ~ %s", g.text(below),
			same(g.pick("'^a'", "'b$'", "'[ab]+ ?'", "'^$'")))
	}
	return made("%s "+not+"IN (%s, %s)", g.number(below), g.number(0), g.number(0))
}

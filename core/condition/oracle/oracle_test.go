// Package oracle_test holds conditions against PostgreSQL.
package oracle_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/condition"
	"proudsieve/core/table"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// The columns of the random tables; a number is numeric in PostgreSQL too, so that
// its quotients keep their fractions.
var oracleTypes = map[string]table.Type{"i": table.TypeInteger, "n": table.TypeDecimal, "m": table.TypeDecimal,
	"t": table.TypeText, "s": table.TypeText, "d": table.TypeDate, "e": table.TypeDate, "ts": table.TypeDateTime,
	"ok": table.TypeBoolean}

// both is an expression in our language and in PostgreSQL's, where they differ: PostgreSQL
// wants to know the type of NULL, the collation of a literal, and that a divisor is not 0.
type both struct{ ours, theirs string }

func same(s string) both { return both{s, s} }

// made puts expressions into a form that is the same in both languages.
func made(form string, parts ...both) both { return differently(form, form, parts...) }

func differently(ours, theirs string, parts ...both) both {
	var a, b []any
	for _, p := range parts {
		a, b = append(a, p.ours), append(b, p.theirs)
	}
	return both{fmt.Sprintf(ours, a...), fmt.Sprintf(theirs, b...)}
}

type generator struct{ *rand.Rand }

func (g generator) pick(from ...string) string { return from[g.IntN(len(from))] }

func (g generator) number(depth int) both {
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
			return made("CASE WHEN %s THEN %s ELSE %s END", g.condition(depth-1), a, b)
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
	return []both{same("i"), same("n"), same("m"), same("0.0"), same("1.0"), same("2.5"), same("-3.0"), same("0.1"),
		same("100.0"), {"NULL", "NULL::numeric"}, differently("CAST(%s AS INTEGER)", "ROUND(%s)", same("n")),
		made("CAST(CAST(%s AS TEXT) AS DECIMAL)", same("m")), differently("CAST(%s AS DECIMAL(30, 1))",
			"CAST(%s AS DECIMAL(30, 1))", same("n"))}[g.IntN(13)]
}

func (g generator) text(depth int) both {
	literal := func(s string) both { return both{s, "(" + s + ` COLLATE "C.utf8")`} }
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
			return made("CASE WHEN %s THEN %s ELSE %s END", g.condition(depth-1), a, g.text(depth-1))
		}
		return differently("CAST(%s AS TEXT)", `(CAST(%s AS TEXT) COLLATE "C.utf8")`,
			[]both{same("n"), same("d"), same("ok"), same("ts"), same("i")}[g.IntN(5)])
	}
	return []both{same("t"), same("s"), literal("'a'"), literal("'b'"), literal("''"), literal("'Ä'"),
		literal("'it''s'"), {"NULL", "NULL::text"}}[g.IntN(8)]
}

func (g generator) date(depth int) both {
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
			return made("CASE WHEN %s THEN %s ELSE %s END", g.condition(depth-1), a, g.date(depth-1))
		}
		return made("CAST(%s AS DATE)", g.instant(depth-1))
	}
	return []both{same("d"), same("e"), same("DATE '2024-02-29'"), same("DATE '2023-01-31'"),
		{"CAST(NULL AS DATE)", "NULL::date"}}[g.IntN(5)]
}

// dated makes a date in PostgreSQL of what ours calls one: there a date and an interval are a timestamp.
func (b both) dated(of both) both {
	return both{b.ours, "(" + of.theirs + strings.TrimPrefix(b.ours, "("+of.ours) + "::date"}
}

func (g generator) instant(depth int) both {
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
	return []both{same("ts"), same("TIMESTAMP '2024-02-29 23:59:59'"),
		{"CAST(NULL AS TIMESTAMP)", "NULL::timestamp"}}[g.IntN(3)]
}

func (g generator) condition(depth int) both {
	if depth > 0 && g.IntN(3) > 0 {
		switch g.IntN(6) {
		case 0:
			return made("NOT (%s)", g.condition(depth-1))
		case 1:
			return made("((%s) IS "+g.pick("", "NOT ")+g.pick("TRUE", "FALSE", "UNKNOWN")+")", g.condition(depth-1))
		}
		return made("(%s) "+g.pick("AND", "OR")+" (%s)", g.condition(depth-1), g.condition(depth-1))
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
		return made("%s IS "+not+"NULL", []both{g.number(below), g.text(below), g.date(below), same("ok")}[g.IntN(4)])
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

type oracleRow struct {
	i, n, m *string
	t, s, d *string
	e, ts   *string
	ok      *bool
}

func (g generator) row() oracleRow {
	some := func(values ...string) *string {
		if g.IntN(5) == 0 {
			return nil
		}
		v := values[g.IntN(len(values))]
		return &v
	}
	r := oracleRow{i: some("0", "1", "-3", "7", "100"), n: some("0", "0.1", "2.5", "2.50", "-3.14",
		"99999999999999999999.5"), m: some("0.3", "1", "0.2", "-7.77"),
		t: some("", "a", "b", "A", "ä", "it's", "a "), s: some("a", "b", "aa"),
		d: some("2024-02-29", "2023-01-01", "2023-12-31"), e: some("2024-03-31", "2023-01-01", "1999-12-31"),
		ts: some("2024-02-29 00:00:00", "2023-12-31 23:59:59", "2023-01-01 06:30:00")}
	if g.IntN(4) > 0 {
		v := g.IntN(2) == 0
		r.ok = &v
	}
	return r
}

// typedRows gives the rows to our evaluation, each with its own dictionary entry.
type typedRows []oracleRow

func (r typedRows) Len() int { return len(r) }

func (r typedRows) Values(column string) ([]table.Value, []uint32) {
	values, codes := make([]table.Value, len(r)), make([]uint32, len(r))
	for k, row := range r {
		codes[k] = uint32(k)
		text := map[string]*string{"i": row.i, "n": row.n, "m": row.m, "t": row.t, "s": row.s, "d": row.d, "e": row.e,
			"ts": row.ts}[column]
		if column == "ok" {
			if row.ok != nil {
				values[k] = table.BooleanValue(*row.ok)
			}
		} else if text != nil {
			values[k], _ = table.StandardFormat.Parse(oracleTypes[column], *text)
		}
	}
	return values, codes
}

// batchOf is a part of the rows, whose dictionaries go on from those of the parts before.
type batchOf struct {
	typedRows
	first int
}

func (b batchOf) Len() int { return len(b.typedRows) - b.first }

func (b batchOf) Values(column string) ([]table.Value, []uint32) {
	values, codes := b.typedRows.Values(column)
	return values, codes[b.first:]
}

func (b batchOf) Begun(string) uint64 { return 1 }

// inBatches evaluates a condition in several batches, as an audit does.
func inBatches(c *condition.Condition, rows []oracleRow) (truths []condition.Truth) {
	e := c.Evaluator(condition.NewMemory(1))
	for first := 0; first < len(rows); first += 30 {
		last := min(first+30, len(rows))
		truths = append(truths, e.Evaluate(batchOf{typedRows(rows[:last]), first})...)
	}
	return truths
}

func fill(t *testing.T, conn *pgx.Conn, rows []oracleRow) {
	t.Helper()
	ctx := context.Background()
	if _, err := conn.Exec(ctx,
		`CREATE TABLE r (k int, i numeric, n numeric, m numeric, t text COLLATE "C.utf8", s text COLLATE "C.utf8", d date, e date, ts timestamp, ok boolean)`); err != nil {
		t.Fatal(err)
	}
	for k, r := range rows {
		if _, err := conn.Exec(ctx,
			"INSERT INTO r VALUES ($1, $2::text::numeric, $3::text::numeric, $4::text::numeric, $5, $6, $7::text::date, $8::text::date, $9::text::timestamp, $10)", k, r.i, r.n, r.m, r.t, r.s, r.d, r.e, r.ts, r.ok); err != nil {
			t.Fatal(err)
		}
	}
}

// longer is how long conditions are made up beyond the first thousand.
var longer = flag.Duration("longer", 0, "how long to go on comparing conditions with PostgreSQL's answers")

func TestConditionsAgreeWithPostgreSQL(t *testing.T) {
	seed := uint64(13)
	started := time.Now()
	if *longer > 0 {
		seed = uint64(started.UnixNano())
		t.Logf("seed %d", seed)
	}
	g := generator{rand.New(rand.NewPCG(11, seed))}
	rows := make([]oracleRow, 100)
	for k := range rows {
		rows[k] = g.row()
	}
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	fill(t, conn, rows)
	round, failed := 0, 0
	for ; round < 1000 || time.Since(started) < *longer; round++ { // with 100 rows each: 100,000 pairs
		made := g.condition(3)
		compiled, errs := condition.Compile(made.ours, oracleTypes)
		if len(errs) > 0 {
			t.Fatalf("round %d: %s: %v", round, made.ours, errs)
		}
		want, err := answers(conn, made.theirs, len(rows))
		if err != nil {
			t.Fatalf("round %d: %s: %v", round, made.theirs, err)
		}
		whole, batches := compiled.Evaluate(typedRows(rows)), inBatches(compiled, rows)
		for k := range rows {
			if whole[k] != want[k] || batches[k] != want[k] {
				t.Errorf("round %d: %s is %d for row %s, in batches %d, and PostgreSQL says %d", round, made.ours,
					whole[k], describe(rows[k]), batches[k], want[k])
				failed++
				break
			}
		}
		if failed == 5 {
			t.FailNow()
		}
	}
	t.Logf("%d conditions on %d rows", round, len(rows))
}

func answers(conn *pgx.Conn, condition_ string, rows int) ([]condition.Truth, error) {
	answer, err := conn.Query(context.Background(), "SELECT ("+condition_+")::boolean FROM r ORDER BY k")
	if err != nil {
		return nil, err
	}
	truths, err := pgx.CollectRows(answer, pgx.RowTo[*bool])
	if err == nil && len(truths) != rows {
		err = fmt.Errorf("%d rows, want %d", len(truths), rows)
	}
	out := make([]condition.Truth, len(truths))
	for k, truth := range truths {
		if truth != nil && *truth {
			out[k] = condition.True
		} else if truth != nil {
			out[k] = condition.False
		}
	}
	return out, err
}

func describe(r oracleRow) string {
	text := func(s *string) string {
		if s == nil {
			return "NULL"
		}
		return *s
	}
	ok := "NULL"
	if r.ok != nil {
		ok = fmt.Sprint(*r.ok)
	}
	return fmt.Sprintf("i=%s n=%s m=%s t=%q s=%q d=%s e=%s ts=%s ok=%s", text(r.i), text(r.n), text(r.m), text(r.t),
		text(r.s), text(r.d), text(r.e), text(r.ts), ok)
}

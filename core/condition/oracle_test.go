package condition_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/condition"
	"proudsieve/core/table"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// The columns of the random tables; a number is numeric in PostgreSQL too, so that
// its quotients keep their fractions.
var oracleTypes = map[string]table.Type{"i": table.TypeInteger, "n": table.TypeDecimal, "m": table.TypeDecimal, "t": table.TypeText, "s": table.TypeText, "d": table.TypeDate, "ok": table.TypeBoolean}

// untyped stands for NULL, which PostgreSQL wants to know the type of.
const untyped = "@"

type generator struct{ *rand.Rand }

func (g generator) pick(from ...string) string { return from[g.IntN(len(from))] }

func (g generator) number(depth int) string {
	if depth > 0 && g.IntN(3) > 0 {
		left, right := g.number(depth-1), g.number(depth-1)
		switch g.IntN(5) {
		case 0:
			return "(" + left + " / NULLIF(" + right + ", 0))" // ours has no value there; PostgreSQL would fail
		case 1:
			return "(- " + left + ")"
		}
		return "(" + left + " " + g.pick("+", "-", "*") + " " + right + ")"
	}
	return g.pick("i", "n", "m", "0.0", "1.0", "2.5", "-3.0", "0.1", "100.0", untyped) // with points: PostgreSQL divides whole literals without fraction
}

func (g generator) condition(depth int) string {
	if depth > 0 && g.IntN(3) > 0 {
		switch g.IntN(4) {
		case 0:
			return "NOT (" + g.condition(depth-1) + ")"
		default:
			return "(" + g.condition(depth-1) + ") " + g.pick("AND", "OR") + " (" + g.condition(depth-1) + ")"
		}
	}
	sign := g.pick("=", "<>", "<", "<=", ">", ">=")
	not := g.pick("", "NOT ")
	switch g.IntN(8) {
	case 0:
		return g.number(2) + " " + sign + " " + g.number(2)
	case 1:
		return g.text() + " " + sign + " " + g.text()
	case 2:
		return "d " + sign + " " + g.pick("DATE '2024-02-29'", "DATE '2023-01-01'", "d")
	case 3:
		return g.number(1) + " " + not + "BETWEEN " + g.number(1) + " AND " + g.number(1)
	case 4:
		return g.text() + " " + not + "IN (" + g.text() + ", " + g.text() + ", 'b')"
	case 5:
		return g.pick("i", "n", "t", "d", "ok") + " IS " + not + "NULL"
	case 6:
		return g.pick("ok", "ok = FALSE", "NOT ok")
	}
	return g.number(1) + " " + not + "IN (" + g.number(0) + ", " + g.number(0) + ")"
}

func (g generator) text() string { return g.pick("t", "s", "'a'", "'b'", "''", "'ä'", "'it''s'") }

type oracleRow struct {
	i, n, m *string
	t, s, d *string
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
	r := oracleRow{i: some("0", "1", "-3", "7", "100"), n: some("0", "0.1", "2.5", "2.50", "-3.14", "99999999999999999999.5"), m: some("0.3", "1", "0.2", "-7.77"),
		t: some("", "a", "b", "A", "ä", "it's", "a "), s: some("a", "b", "aa"), d: some("2024-02-29", "2023-01-01", "2023-12-31")}
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
		text := map[string]*string{"i": row.i, "n": row.n, "m": row.m, "t": row.t, "s": row.s, "d": row.d}[column]
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

func fill(t *testing.T, conn *pgx.Conn, rows []oracleRow) {
	t.Helper()
	ctx := context.Background()
	if _, err := conn.Exec(ctx, `CREATE TABLE r (k int, i numeric, n numeric, m numeric, t text COLLATE "C", s text COLLATE "C", d date, ok boolean)`); err != nil {
		t.Fatal(err)
	}
	for k, r := range rows {
		if _, err := conn.Exec(ctx, "INSERT INTO r VALUES ($1, $2::text::numeric, $3::text::numeric, $4::text::numeric, $5, $6, $7::text::date, $8)", k, r.i, r.n, r.m, r.t, r.s, r.d, r.ok); err != nil {
			t.Fatal(err)
		}
	}
}

func TestConditionsAgreeWithPostgreSQL(t *testing.T) {
	g := generator{rand.New(rand.NewPCG(11, 13))}
	rows := make([]oracleRow, 100)
	for k := range rows {
		rows[k] = g.row()
	}
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	fill(t, conn, rows)
	for round := range 1000 { // with 100 rows each: 100,000 pairs
		made := g.condition(3)
		theirs := strings.ReplaceAll(made, untyped, "NULL::numeric")
		// Our language has no NULLIF: a quotient by zero has no value anyway.
		ours := strings.ReplaceAll(withoutNullif(made), untyped, "NULL")
		compiled, errs := condition.Compile(ours, oracleTypes)
		if len(errs) > 0 {
			t.Fatalf("round %d: %s: %v", round, ours, errs)
		}
		got := compiled.Evaluate(typedRows(rows))
		answer, err := conn.Query(context.Background(), "SELECT k, ("+theirs+")::boolean FROM r ORDER BY k")
		if err != nil {
			t.Fatal(err)
		}
		for answer.Next() {
			var k int
			var truth *bool
			if err := answer.Scan(&k, &truth); err != nil {
				t.Fatal(err)
			}
			want := condition.Unknown
			if truth != nil && *truth {
				want = condition.True
			} else if truth != nil {
				want = condition.False
			}
			if got[k] != want {
				t.Fatalf("round %d: %s is %d for row %s, and PostgreSQL says %d", round, ours, got[k], describe(rows[k]), want)
			}
		}
		if err := answer.Err(); err != nil {
			t.Fatalf("round %d: %s: %v", round, theirs, err)
		}
	}
}

func withoutNullif(s string) string {
	for {
		at := strings.Index(s, "NULLIF(")
		if at < 0 {
			return s
		}
		depth, end := 0, at+len("NULLIF(")
		for ; ; end++ {
			if s[end] == '(' {
				depth++
			} else if s[end] == ')' {
				if depth == 0 {
					break
				}
				depth--
			}
		}
		inner := strings.TrimSuffix(s[at+len("NULLIF("):end], ", 0")
		s = s[:at] + "(" + inner + ")" + s[end+1:]
	}
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
	return fmt.Sprintf("i=%s n=%s m=%s t=%q s=%q d=%s ok=%s", text(r.i), text(r.n), text(r.m), text(r.t), text(r.s), text(r.d), ok)
}

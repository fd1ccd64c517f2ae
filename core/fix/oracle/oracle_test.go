// Package oracle_test holds steps that SQL can say against PostgreSQL.
package oracle_test

import (
	"context"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/fix/fixtest"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

const book = `dataset: s
columns:
  - {name: id, type: integer}
  - {name: site}
  - {name: a, type: decimal}
  - {name: b, type: decimal}
  - {name: at, type: datetime}
  - {name: ok, type: boolean}
measures: [a]
pass_mark: 0
`

const head = "id,site,a,b,at,ok\n"

// table is one of rows that PostgreSQL can hold as they are typed.
func table(r *rand.Rand, rows int) string {
	var b strings.Builder
	b.WriteString(head)
	for i := range rows {
		number := func() string {
			if r.IntN(6) == 0 {
				return ""
			}
			return fmt.Sprintf("%d.%0*d", r.IntN(300)-100, 1+r.IntN(3), r.IntN(10))
		}
		at := ""
		if r.IntN(8) > 0 {
			at = fmt.Sprintf("2024-%02d-%02d %02d:%02d:00", 1+r.IntN(12), 1+r.IntN(28), r.IntN(24), r.IntN(60))
		}
		fmt.Fprintf(&b, "%d,%s,%s,%s,%s,%s\n", i/2*(1+r.IntN(2)), []string{"A", "B", "b", "", "C D"}[r.IntN(5)], number(), number(), at, []string{"true", "false", ""}[r.IntN(3)])
	}
	return b.String()
}

func load(t *testing.T, conn *pgx.Conn, content string) {
	t.Helper()
	ctx := context.Background()
	records, err := csv.NewReader(strings.NewReader(content)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var rows [][]any
	for i, record := range records[1:] {
		row := []any{i + 1}
		for _, cell := range record {
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	run := func(query string) {
		if _, err := conn.Exec(ctx, query); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
	}
	run("DROP TABLE IF EXISTS s, raw")
	run("CREATE TABLE raw (row int, id text, site text, a text, b text, at text, ok text)")
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"raw"}, []string{"row", "id", "site", "a", "b", "at", "ok"}, pgx.CopyFromRows(rows)); err != nil {
		t.Fatal(err)
	}
	run(`CREATE TABLE s AS SELECT row, nullif(id, '')::numeric AS id, nullif(site, '') AS site, nullif(a, '')::numeric AS a, nullif(b, '')::numeric AS b,
		nullif(at, '')::timestamp AS at, nullif(ok, '')::boolean AS ok FROM raw`)
}

// Each step comes to what a query does. Numbers are compared without zeros at their end.
func TestStepsDoWhatQueriesDo(t *testing.T) {
	shown := func(c string) string { return "coalesce(trim_scale(" + c + ")::text, '')" }
	moment := func(c string) string { return "coalesce(to_char(" + c + ", 'YYYY-MM-DD HH24:MI:SS'), '')" }
	whole := "id::text, coalesce(site, ''), " + shown("a") + ", " + shown("b") + ", " + moment("at") + ", coalesce(ok::text, '')"
	for _, c := range []struct{ name, step, query string }{
		{"set aside", `do: set_aside, where: "a > b OR ok IS NULL"`, "SELECT " + whole + " FROM s WHERE (a > b OR ok IS NULL) IS NOT TRUE ORDER BY row"},
		{"derive", `do: derive, into: d, expression: "a * 2 - b / 4"`, "SELECT " + whole + ", " + shown("a * 2 - b / 4") + " FROM s ORDER BY row"},
		{"derive a date", `do: derive, into: d, expression: "DATE_TRUNC('month', at)"`, "SELECT " + whole + ", " + moment("date_trunc('month', at)") + " FROM s ORDER BY row"},
		{"set values", `do: set_values, columns: [a], expression: b + 1, where: site = 'A'`,
			"SELECT id::text, coalesce(site, ''), " + shown("CASE WHEN site = 'A' THEN b + 1 ELSE a END") + ", " + shown("b") + ", " + moment("at") + ", coalesce(ok::text, '') FROM s ORDER BY row"},
		{"fill with an expression", `do: fill, columns: [a], expression: "COALESCE(b, 0)"`,
			"SELECT id::text, coalesce(site, ''), " + shown("coalesce(a, b, 0)") + ", " + shown("b") + ", " + moment("at") + ", coalesce(ok::text, '') FROM s ORDER BY row"},
		{"fill from the row before", `do: fill, columns: [a], from: row_before, group: [site], order: [at]`,
			`WITH marked AS (SELECT *, count(a) OVER (PARTITION BY site, at IS NULL ORDER BY at, row) AS part FROM s)
			SELECT id::text, coalesce(site, ''), ` + shown("CASE WHEN at IS NULL THEN a ELSE first_value(a) OVER (PARTITION BY site, at IS NULL, part ORDER BY at, row) END") +
				", " + shown("b") + ", " + moment("at") + ", coalesce(ok::text, '') FROM marked ORDER BY row"},
		{"round", `do: round, columns: [a, b], decimals: 1`,
			"SELECT id::text, coalesce(site, ''), " + shown("round(a, 1)") + ", " + shown("round(b, 1)") + ", " + moment("at") + ", coalesce(ok::text, '') FROM s ORDER BY row"},
		{"keep one", `do: keep_one, columns: [id], survivor: largest_value, by: b, ties: earliest_row`,
			"SELECT " + whole + " FROM (SELECT *, row_number() OVER (PARTITION BY id ORDER BY b DESC NULLS LAST, row) AS place FROM s) x WHERE place = 1 ORDER BY row"},
		{"sort", `do: sort_rows, order: [site, a], descending: [a]`, "SELECT " + whole + ` FROM s ORDER BY site COLLATE "C" NULLS LAST, a DESC NULLS LAST, row`},
		{"columns to rows", `do: columns_to_rows, columns: [a, b], names_to: which, values_to: amount, gaps: leave_out`,
			`SELECT id::text, coalesce(site, ''), ` + moment("at") + `, coalesce(ok::text, ''), which, ` + shown("amount") +
				` FROM s, LATERAL (VALUES (1, 'a', a), (2, 'b', b)) v(k, which, amount) WHERE amount IS NOT NULL ORDER BY row, k`},
		{"change of grain", `do: change_grain, group: [site], time: at, period: quarter, gather: {a: sum, b: mean, ok: share_true, id: count}, decimals: 6, rows_into: n`,
			`SELECT coalesce(site, ''), ` + moment("date_trunc('quarter', at)") + `, ` + shown("sum(a)") + `, ` + shown("round(avg(b), 6)") + `, ` +
				shown("round(avg(ok::int), 6)") + `, count(id)::text, count(*)::text FROM s GROUP BY site, date_trunc('quarter', at)
				ORDER BY site COLLATE "C" NULLS LAST, date_trunc('quarter', at) NULLS LAST`},
		{"rows to columns", `do: rows_to_columns, key: [id], names_from: site, values_from: a, names: [A, B]`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			conn := postgrestest.Connect(t, postgrestest.Database(t))
			for seed := range 4 {
				content := table(rand.New(rand.NewPCG(uint64(seed), 9)), 600)
				load(t, conn, content)
				b := testkit.Book(t, book)
				steps, query := "  - {"+c.step+", reason: r}\n", c.query
				if query == "" { // what it would refuse leaves before
					steps = "  - {do: drop_columns, columns: [b, at, ok], reason: r}\n  - {do: set_aside, where: \"site IS NULL OR site NOT IN ('A', 'B')\", reason: r}\n" +
						"  - {do: keep_one, columns: [id, site], survivor: earliest_row, reason: r}\n" + steps
					query = `WITH one AS (SELECT DISTINCT ON (id, site) * FROM s WHERE site IN ('A', 'B') ORDER BY id, site, row)
						SELECT id::text, ` + shown("max(a) FILTER (WHERE site = 'A')") + ", " + shown("max(a) FILTER (WHERE site = 'B')") + " FROM one GROUP BY id ORDER BY min(row)"
				}
				got, err := fixtest.Play(t, content, b, fixtest.Plan(t, b, steps), 2)
				if err != nil || got.Refused != nil {
					t.Fatalf("%v, %v", err, got)
				}
				compare(t, conn, got.Table, query)
			}
		})
	}
}

func compare(t *testing.T, conn *pgx.Conn, made, query string) {
	t.Helper()
	records, err := csv.NewReader(strings.NewReader(made)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	records = records[1:]
	rows, err := conn.Query(context.Background(), query)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	defer rows.Close()
	n := 0
	for ; rows.Next(); n++ {
		values, err := rows.Values()
		if err != nil {
			t.Fatal(err)
		}
		if n >= len(records) {
			continue
		}
		for i, v := range values {
			if want := fmt.Sprint(v); bare(records[n][i]) != want {
				t.Fatalf("row %d, cell %d: %q, and PostgreSQL has %q\n%q", n+1, i+1, records[n][i], want, records[n])
			}
		}
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	if n != len(records) {
		t.Errorf("%d rows, and PostgreSQL has %d", len(records), n)
	}
}

// bare is a number without zeros at its end; other texts stay.
func bare(text string) string {
	if !strings.Contains(text, ".") || strings.ContainsAny(text, ":-") && strings.Contains(text, ":") {
		return text
	}
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

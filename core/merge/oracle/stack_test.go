package oracle_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

// stackQuery gives the rows of a stack in their order: all rows of the tables s1, s2, …, what each is compared by, and then
// those that stay. A key is a site and a size, and meets nothing where a part is missing.
const stackQuery = `WITH s AS (%s),
	v AS (SELECT *, nullif(site, '') AS k1, trim_scale(nullif(size, '')::numeric) AS k2, nullif(day, '')::date AS d, trim_scale(nullif(amount, '')::numeric) AS n,
		nullif(site, '') IS NOT NULL AND nullif(size, '') IS NOT NULL AS keyed FROM s),
	g AS (SELECT *, ROW(id, k1, k2, d, n) AS cells, min(t) OVER k AS first_t, max(t) OVER k AS last_t,
		keyed AND (SELECT count(DISTINCT ROW(o.id, o.k1, o.k2, o.d, o.n)) FROM v o WHERE o.keyed AND o.k1 = v.k1 AND o.k2 = v.k2) > 1 AS differs
		FROM v WINDOW k AS (PARTITION BY keyed, k1, k2, CASE WHEN keyed THEN '' ELSE ROW(id, k1, k2, d, n)::text END)),
	j AS (SELECT *, first_t <> last_t AS shared FROM g)
`

// Random stacks of two to four tables with blanks, repeats and contradictions agree row for row with PostgreSQL, in every way of
// settling them, and so do their counts and sums.
func TestStacksDoWhatSQLDoes(t *testing.T) {
	ctx := context.Background()
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	stacks := 150
	if testing.Short() {
		stacks = 40
	}
	var contradicted, equal int64
	for seed := range stacks {
		r := rand.New(rand.NewPCG(uint64(seed), 15))
		way := []string{"keep", "newest_wins", "by_cell"}[seed%3]
		once := r.IntN(2) == 0
		var inputs merge.Inputs
		var unions []string
		for i := range 2 + r.IntN(3) {
			rows := made(r, "X", 5+r.IntN(40))
			for k := range rows {
				rows[k][0] = fmt.Sprint("X", r.IntN(3)) // so that whole rows are equal
				rows[k][3], rows[k][4] = []string{"", "2024-01-01", "2024-01-02"}[r.IntN(3)], []string{"", "1.5", "1.50", "2"}[r.IntN(4)]
			}
			if way == "by_cell" { // a key is in each table once
				seen := map[string]bool{}
				rows = slices.DeleteFunc(rows, func(cells []string) bool {
					key := cells[1] + "|" + strings.TrimRight(strings.TrimSuffix(cells[2], "."), "0.")
					was := seen[key]
					seen[key] = true
					return was && cells[1] != "" && cells[2] != ""
				})
			}
			name := fmt.Sprint("s", i+1)
			load(t, conn, name, rows)
			unions = append(unions, fmt.Sprintf("SELECT %d AS t, * FROM %s", i+1, name))
			inputs = append(inputs, merge.Input{Dataset: "rows", Table: int64(i + 1), Source: testkit.File(t, text(rows), intake.Standard()), Book: testkit.Book(t, bookOf("rows"))})
		}
		declared := "merge: m\nstack: [rows]\ntables: {rows: all}\nkey: [site, size]\ncontradicting: " + way + "\n"
		if once {
			declared += "equal_rows: once\n"
		}
		plan, err := merge.Parse([]byte(declared))
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		a, err := merge.Run(ctx, plan, inputs, 1+seed%3, merge.Outputs{Table: &out})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		with := fmt.Sprintf(stackQuery, strings.Join(unions, " UNION ALL "))
		stays := []string{"true"}
		if once {
			stays = append(stays, "NOT (shared AND NOT differs AND t > first_t)")
		}
		cell := func(column, filled string) string { return column }
		if way != "keep" {
			stays = append(stays, "NOT (shared AND differs AND t < last_t)")
		}
		if way == "by_cell" {
			cell = func(column, filled string) string {
				return fmt.Sprintf("CASE WHEN shared AND differs THEN coalesce((SELECT o.%s FROM j o WHERE o.keyed AND o.k1 = j.k1 AND o.k2 = j.k2 AND o.%s <> '' ORDER BY o.t DESC LIMIT 1), '') ELSE %s END", column, column, column)
			}
		}
		query := with + fmt.Sprintf("SELECT id, site, size, %s, %s FROM j WHERE %s ORDER BY t, row", cell("day", "d"), cell("amount", "n"), strings.Join(stays, " AND "))
		want := answered(t, conn, query)
		got, err := csv.NewReader(&out).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		if !slices.EqualFunc(got[1:], want, slices.Equal) {
			t.Fatalf("seed %d:\n%s%s", seed, declared, differs(got[1:], want))
		}
		var equalRows, contradicting, all int64
		var sum string
		err = conn.QueryRow(ctx, with+`SELECT count(*) FILTER (WHERE shared AND NOT differs), count(*) FILTER (WHERE shared AND differs), count(*) FROM j`).Scan(&equalRows, &contradicting, &all)
		if err == nil {
			err = conn.QueryRow(ctx, "SELECT coalesce(trim_scale(sum(nullif(x.amount, '')::numeric)), 0)::text FROM ("+query+") x(id, site, size, day, amount)").Scan(&sum)
		}
		if err != nil {
			t.Fatal(err)
		}
		shared := a.Stack.Shared
		if shared.Equal.Rows != equalRows || shared.Contradicting.Rows != contradicting || a.Stack.SetAside != all-int64(len(want)) || a.Sums["amount"] != sum {
			t.Fatalf("seed %d:\n%s%+v, %d set aside, sum %s; want %d equal, %d contradicting, %d set aside, sum %s", seed, declared, shared, a.Stack.SetAside, a.Sums["amount"],
				equalRows, contradicting, all-int64(len(want)), sum)
		}
		contradicted, equal = contradicted+contradicting, equal+equalRows
	}
	if contradicted < int64(stacks) || equal < int64(stacks) {
		t.Errorf("only %d rows contradicted others, and %d were equal", contradicted, equal)
	}
}

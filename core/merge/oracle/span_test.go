package oracle_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

// Random joins on ranges, on the nearest earlier day, and on days of a grain that is changed first agree row for row with
// PostgreSQL. size and amount are the ranges' ends, or the days are those of the tables.
func TestSpansAndGrainsDoWhatSQLDoes(t *testing.T) {
	ctx := context.Background()
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	merges := 150
	if testing.Short() {
		merges = 45
	}
	for seed := range merges {
		r := rand.New(rand.NewPCG(uint64(seed), 16))
		left, right := made(r, "L", 20+r.IntN(100)), made(r, "R", 5+r.IntN(60))
		load(t, conn, "l0", left)
		load(t, conn, "r0", right)
		keyed := r.IntN(2) == 0
		match, on := "", "true"
		if keyed {
			match, on = "    match: [site]\n", "nullif(l.site, '') = nullif(r.site, '')"
		}
		amount := func(side string) string { return "nullif(" + side + ".amount, '')::numeric" }
		size := func(side string) string { return "nullif(" + side + ".size, '')::numeric" }
		day := func(side string) string { return "nullif(" + side + ".day, '')::date" }
		head, join := "merge: m\nstack: [rows]\n", "join:\n  - with: other\n"+match+"    take: [id]\n    met_at_least: 0\n    unmatched: keep\n"
		var query string
		switch seed % 3 {
		case 0: // an amount between a size and an amount of the other table, of which the last is taken
			op, before := "<=", ""
			if r.IntN(2) == 0 {
				op, before = "<", "before "
			}
			way, order := "multiply", "r.row"
			limit := ""
			if r.IntN(2) == 0 {
				way, order, limit = "latest_row", "r.row DESC", " LIMIT 1"
			}
			join += "    between: {amount: size to " + before + "amount}\n    repeated: " + way + "\n"
			// A row without an amount meets nothing, and a range is open where it has no end.
			query = fmt.Sprintf(`SELECT l.id, l.site, l.size, l.day, l.amount, coalesce(r.id, '') FROM l0 l LEFT JOIN LATERAL
				(SELECT * FROM r0 r WHERE %s AND %s IS NOT NULL AND (%s IS NULL OR %s <= %s) AND (%s IS NULL OR %s %s %s) ORDER BY %s%s) r ON true ORDER BY l.row, r.row`,
				on, amount("l"), size("r"), size("r"), amount("l"), amount("r"), amount("l"), op, amount("r"), order, limit)
		case 1: // the nearest earlier day within some, and all rows of it
			within := 1 + r.IntN(40)
			join += fmt.Sprintf("    nearest: {day: day}\n    within: %d days\n    repeated: multiply\n", within)
			query = fmt.Sprintf(`SELECT l.id, l.site, l.size, l.day, l.amount, coalesce(r.id, '') FROM l0 l LEFT JOIN r0 r ON %s AND %s =
				(SELECT max(%s) FROM r0 r WHERE %s AND %s <= %s AND %s - %s <= %d) ORDER BY l.row, r.row`,
				on, day("r"), day("r"), on, day("r"), day("l"), day("l"), day("r"), within)
		case 2: // a grain of the joined table
			head += "grain: {other: \"site, month of day: sum of amount, count of id\"}\n"
			join = "join:\n  - with: other\n    match: {site: site, \"DATE_TRUNC('month', day)\": day}\n    take: [amount, id]\n    met_at_least: 0\n    unmatched: keep\n"
			query = `SELECT l.id, l.site, l.size, l.day, l.amount, coalesce(r.n::text, '') || '/' || coalesce(trim_scale(r.sum)::text, '') FROM l0 l LEFT JOIN
				(SELECT nullif(site, '') AS site, date_trunc('month', nullif(day, '')::date) AS day, count(*) AS n, sum(nullif(amount, '')::numeric) AS sum FROM r0 GROUP BY 1, 2) r
				ON nullif(l.site, '') = r.site AND date_trunc('month', nullif(l.day, '')::date) = r.day ORDER BY l.row`
		}
		plan, err := merge.Parse([]byte(head + join))
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, head+join, err)
		}
		input := func(dataset string, rows [][]string) merge.Input {
			return merge.Input{Dataset: dataset, Source: testkit.File(t, text(rows), intake.Standard()), Book: testkit.Book(t, bookOf(dataset))}
		}
		var out bytes.Buffer
		a, err := merge.Run(ctx, plan, merge.Inputs{input("rows", left), input("other", right)}, 1+seed%3, merge.Outputs{Table: &out})
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, head+join, err)
		}
		got, err := csv.NewReader(&out).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		got = got[1:]
		if seed%3 == 2 { // the sums as PostgreSQL writes them
			for i, cells := range got {
				sum, n := cells[5], cells[6]
				if sum != "" {
					if err := conn.QueryRow(ctx, "SELECT trim_scale($1::text::numeric)::text", sum).Scan(&sum); err != nil {
						t.Fatal(err)
					}
				}
				got[i] = append(cells[:5:5], n+"/"+sum)
			}
		}
		want := answered(t, conn, query)
		if !slices.EqualFunc(got, want, slices.Equal) {
			t.Fatalf("seed %d:\n%s%s", seed, head+join, differs(got, want))
		}
		matched := map[string]bool{}
		for _, cells := range want {
			if cells[5] != "" && cells[5] != "/" {
				matched[cells[0]] = true
			}
		}
		if a.Joins[0].Matched != int64(len(matched)) || a.Rows != int64(len(want)) {
			t.Errorf("seed %d: %d matched and %d rows, want %d and %d", seed, a.Joins[0].Matched, a.Rows, len(matched), len(want))
		}
	}
}

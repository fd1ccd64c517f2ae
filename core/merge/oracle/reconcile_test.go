package oracle_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

// Random totals, by columns and expressions, agree with a full join of groups in PostgreSQL.
func TestTotalsDoWhatSQLDoes(t *testing.T) {
	ctx := context.Background()
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	type part struct{ says, sql string }
	parts := []part{{"site", "coalesce(%s.site, '')"}, {"size", "nullif(%s.size, '')::numeric"}, {"DATE_TRUNC('month', day)", "date_trunc('month', nullif(%s.day, '')::date)"}, {"LOWER(TRIM(site))", "coalesce(lower(btrim(nullif(%s.site, ''))), '')"}}
	for seed := range 80 {
		r := rand.New(rand.NewPCG(uint64(seed), 17))
		left, right := made(r, "L", 20+r.IntN(100)), made(r, "R", 20+r.IntN(100))
		load(t, conn, "l0", left)
		load(t, conn, "r0", right)
		input := func(dataset string, rows [][]string) *merge.Input {
			return &merge.Input{Dataset: dataset, Source: testkit.File(t, text(rows), intake.Standard()), Book: testkit.Book(t, bookOf(dataset))}
		}
		var by, sqlLeft, sqlRight, equal []string
		for _, k := range r.Perm(len(parts))[:r.IntN(3)] {
			by = append(by, parts[k].says)
			sqlLeft, sqlRight = append(sqlLeft, fmt.Sprintf(parts[k].sql, "l")+fmt.Sprint(" AS k", len(by))), append(sqlRight, fmt.Sprintf(parts[k].sql, "r")+fmt.Sprint(" AS k", len(by)))
			equal = append(equal, fmt.Sprintf("a.k%d IS NOT DISTINCT FROM b.k%d", len(by), len(by)))
		}
		q := merge.Totals{Here: merge.TotalsOf{By: by, Of: "amount", Where: "size > 1"}, There: merge.TotalsOf{By: by, Of: "amount"}, Shown: 1000}
		if err := q.ParseNumbers([]string{"", "1.5", "0.1"}[r.IntN(3)], []string{"", "20"}[r.IntN(2)], []string{"", "30"}[r.IntN(2)]); err != nil {
			t.Fatal(err)
		}
		got, err := merge.Reconcile(ctx, q, input("rows", left), input("other", right), 1+seed%3)
		if err != nil {
			t.Fatal(err)
		}
		grouped := func(keys []string, from, where string) string {
			group := ""
			if len(keys) > 0 {
				group = " GROUP BY " + strings.Join([]string{"1", "2", "3"}[:len(keys)], ", ")
			} else {
				group = " HAVING count(*) > 0"
			}
			return "SELECT " + strings.Join(append(slices.Clone(keys), "coalesce(sum(nullif(amount, '')::numeric), 0) AS total"), ", ") + " FROM " + from + where + group
		}
		on := "true"
		if len(equal) > 0 {
			on = strings.Join(equal, " AND ")
		}
		matched := fmt.Sprintf(`WITH a AS (%s), b AS (%s), p AS (SELECT a.total AS here, b.total * %s AS there FROM a LEFT JOIN b ON %s
				UNION ALL SELECT NULL, b.total * %s FROM b WHERE NOT EXISTS (SELECT FROM a WHERE %s)),
			j AS (SELECT *, abs(here - there) <= %s OR abs(here - there) * 100 <= abs(there) * %s AS agrees FROM p)
			SELECT count(*) FILTER (WHERE agrees), count(*) FILTER (WHERE NOT agrees), count(*) FILTER (WHERE there IS NULL), count(*) FILTER (WHERE here IS NULL),
				coalesce(trim_scale(sum(here)), 0)::text, coalesce(trim_scale(sum(there)), 0)::text,
				coalesce(string_agg(trim_scale(coalesce(here, 0) - coalesce(there, 0))::text, ' ' ORDER BY coalesce(here, 0) - coalesce(there, 0)) FILTER (WHERE agrees IS NOT TRUE), '') FROM j`,
			grouped(sqlLeft, "l0 l", " WHERE nullif(size, '')::numeric > 1"), grouped(sqlRight, "r0 r", ""), q.Factor.Shortest(), on, q.Factor.Shortest(), on, q.Tolerance.Shortest(), q.Percent.Shortest())
		var agree, differ, onlyHere, onlyThere int64
		var here, there, apart string
		if err := conn.QueryRow(ctx, matched).Scan(&agree, &differ, &onlyHere, &onlyThere, &here, &there, &apart); err != nil {
			t.Fatalf("%v\n%s", err, matched)
		}
		var each []table.Decimal
		for _, g := range got.Groups {
			d, _ := table.ParseDecimal(g.Apart)
			each = append(each, d)
		}
		slices.SortFunc(each, table.Decimal.Cmp)
		texts := make([]string, len(each))
		for i, d := range each {
			texts[i] = d.Shortest()
		}
		if got.Agree != agree || got.Differ != differ || got.OnlyHere != onlyHere || got.OnlyThere != onlyThere || got.Here != here || got.There != there || strings.Join(texts, " ") != apart {
			t.Fatalf("seed %d, by %v: %+v\n%s\nwant %d %d %d %d %s %s\n%s", seed, by, got, strings.Join(texts, " "), agree, differ, onlyHere, onlyThere, here, there, apart)
		}
	}
}

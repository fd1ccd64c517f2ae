// Package oracle_test holds tallies against PostgreSQL.
package oracle_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/tally"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

const book = `dataset: visits
columns:
  - {name: station}
  - {name: crew}
  - {name: flow, type: decimal}
  - {name: depth, type: integer}
  - {name: day, type: date}
`

// visits makes rows, some of whose cells are missing or not of their type, and loads them.
func visits(t *testing.T, conn *pgx.Conn, rows int) string {
	t.Helper()
	r := rand.New(rand.NewPCG(uint64(rows), 7))
	var b strings.Builder
	b.WriteString("station,crew,flow,depth,day\n")
	var loaded [][]any
	for range rows {
		line := []any{fmt.Sprintf("AV-%02d", r.IntN(23)), []string{"red", "blue", ""}[r.IntN(3)], fmt.Sprintf("%d.%02d", r.IntN(400)-20, r.IntN(100)),
			fmt.Sprint(r.IntN(900)), fmt.Sprintf("202%d-%02d-%02d", r.IntN(3), 1+r.IntN(12), 1+r.IntN(28))}
		switch r.IntN(12) {
		case 0:
			line[2] = ""
		case 1:
			line[2] = "dry"
		case 2:
			line[4] = ""
		case 3:
			line[2] = line[2].(string) + "0" // the same number in another text
		}
		for i, cell := range line {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(cell.(string))
		}
		b.WriteByte('\n')
		loaded = append(loaded, line)
	}
	for _, query := range []string{"CREATE TABLE raw (station text, crew text, flow text, depth text, day text)"} {
		if _, err := conn.Exec(context.Background(), query); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := conn.CopyFrom(context.Background(), pgx.Identifier{"raw"}, []string{"station", "crew", "flow", "depth", "day"}, pgx.CopyFromRows(loaded)); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(context.Background(), `CREATE TABLE v AS SELECT station, nullif(crew, '') AS crew,
		CASE WHEN flow ~ '^-?[0-9.]+$' THEN flow::numeric END AS flow, depth::int AS depth, nullif(day, '')::date AS day FROM raw`); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

var measures = []tally.Measure{{Kind: "rows"}, {Kind: "filled", Of: "flow"}, {Kind: "sum", Of: "flow"}, {Kind: "mean", Of: "flow"},
	{Kind: "median", Of: "flow"}, {Kind: "first_quartile", Of: "flow"}, {Kind: "third_quartile", Of: "flow"}, {Kind: "lowest", Of: "flow"},
	{Kind: "highest", Of: "flow"}, {Kind: "distinct", Of: "flow"}, {Kind: "sum", Of: "flow * depth"}, {Kind: "highest", Of: "day"}, {Kind: "distinct", Of: "crew"}}

// asked is what PostgreSQL is asked of each group, in the order of measures; its numbers are rounded as ours are read.
const asked = `count(*)::numeric, count(flow)::numeric, sum(flow), avg(flow), (percentile_cont(0.5) WITHIN GROUP (ORDER BY flow))::numeric,
	(percentile_cont(0.25) WITHIN GROUP (ORDER BY flow))::numeric, (percentile_cont(0.75) WITHIN GROUP (ORDER BY flow))::numeric, min(flow), max(flow),
	count(DISTINCT flow)::numeric, sum(flow * depth), max(day)::text, count(DISTINCT crew)::numeric`

func TestTalliesAgreeWithPostgreSQL(t *testing.T) {
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	content := visits(t, conn, 20_000)
	for _, c := range []struct{ ours, theirs []string }{
		{[]string{"station"}, []string{"station"}},
		{[]string{"crew", "station"}, []string{"crew", "station"}},
		{[]string{"DATE_TRUNC('month', day)"}, []string{"date_trunc('month', day)::date"}},
		{[]string{"EXTRACT(ISODOW FROM day)", "crew"}, []string{"extract(isodow FROM day)", "crew"}},
		{[]string{"FLOOR(depth / 100) * 100"}, []string{"floor(depth / 100.0) * 100"}},
		{[]string{"CASE WHEN flow > 100 THEN 'high' ELSE 'low' END"}, []string{"CASE WHEN flow > 100 THEN 'high' ELSE 'low' END"}},
		{[]string{"flow > 100"}, []string{"flow > 100"}},
		{nil, nil},
	} {
		t.Run(strings.Join(c.ours, ", "), func(t *testing.T) {
			whole, err := tally.Of(context.Background(), &relation.Table{Source: testkit.File(t, content, intake.Reading{}), Book: testkit.Book(t, book), Workers: 3},
				tally.Question{By: c.ours, Measures: measures, Top: 100})
			if err != nil {
				t.Fatal(err)
			}
			keys, inner, sets := "'ALL', 'ALL'", "*", "GROUPING SETS (())"
			if len(c.theirs) > 0 {
				keys, sets = "CASE WHEN grouping(k0) = 1 THEN 'ALL' ELSE coalesce(k0, '') END, 'ALL'", "CUBE (k0)"
				inner = "(" + c.theirs[0] + ")::text AS k0, *"
			}
			if len(c.theirs) > 1 {
				keys, sets = keys[:len(keys)-5]+"CASE WHEN grouping(k1) = 1 THEN 'ALL' ELSE coalesce(k1, '') END", "CUBE (k0, k1)"
				inner = "(" + c.theirs[1] + ")::text AS k1, " + inner
			}
			rows, err := conn.Query(context.Background(), "SELECT "+keys+", "+asked+" FROM (SELECT "+inner+" FROM v) v GROUP BY "+sets)
			if err != nil {
				t.Fatal(err)
			}
			defer rows.Close()
			seen := 0
			for rows.Next() {
				cells, err := rows.Values()
				if err != nil {
					t.Fatal(err)
				}
				compare(t, whole, cells)
				seen++
			}
			want := 1 + len(whole.Downs) + len(whole.Across)
			if len(c.ours) == 2 {
				for _, line := range whole.Cells {
					for _, one := range line {
						want += min(int(one.Rows), 1)
					}
				}
			} else {
				want = 1 + len(whole.Downs)*len(c.ours)
			}
			if rows.Err() != nil || seen != want {
				t.Fatalf("%d groups there, %d here: %v", seen, want, rows.Err())
			}
		})
	}
}

// compare holds a group of PostgreSQL, with its keys first, against ours.
func compare(t *testing.T, whole *tally.Tally, cells []any) {
	t.Helper()
	place := func(i int) int {
		if cells[i] == "ALL" || i >= len(whole.By) {
			return -1
		}
		return slices.IndexFunc(whole.By[i].Groups, func(g tally.TalliedGroup) bool { return g.Text == cells[i] && g.Missing == (cells[i] == "") })
	}
	down, across := place(0), place(1)
	if down < 0 && cells[0] != "ALL" || across < 0 && cells[1] != "ALL" {
		t.Fatalf("there is no group %v", cells[:2])
	}
	of := &whole.All
	switch {
	case down >= 0 && across >= 0:
		of = &whole.Cells[down][across]
	case down >= 0:
		of = &whole.Downs[down]
	case across >= 0:
		of = &whole.Across[across]
	}
	for i, want := range cells[2:] {
		got := of.Values[i]
		text := ""
		switch v := want.(type) {
		case string:
			text = v
		case pgtype.Numeric:
			raw, err := v.Value()
			if err != nil {
				t.Fatal(err)
			}
			text = fmt.Sprint(raw)
		}
		if of.Estimated != nil || !alike(got, text) {
			t.Errorf("%v: %s is %s, in PostgreSQL %s", cells[:2], measures[i].Name(), got, text)
		}
	}
}

// alike compares exact decimals to the last digit, but for means and quantiles, which PostgreSQL rounds.
func alike(got, want string) bool {
	a, ok := table.ParseDecimal(got)
	b, also := table.ParseDecimal(want)
	if !ok || !also {
		return got == want
	}
	return a.Cmp(b) == 0 || strings.Contains(want, ".") && math.Abs(a.Float()-b.Float()) <= 1e-12*math.Abs(b.Float())
}

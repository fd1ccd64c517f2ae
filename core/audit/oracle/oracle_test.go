// Package oracle_test holds audits against PostgreSQL.
package oracle_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/intake"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// load copies a generated table into PostgreSQL, every cell as text, with its row number.
func load(t *testing.T, conn *pgx.Conn, content string) {
	t.Helper()
	ctx := context.Background()
	if _, err := conn.Exec(ctx,
		"CREATE TABLE s (k int, sample text, parameter text, value text, taken text, received text)"); err != nil {
		t.Fatal(err)
	}
	cells := testkit.All(t, testkit.File(t, content, intake.Reading{}), 2).Cells
	_, err := conn.CopyFrom(ctx, pgx.Identifier{"s"}, []string{"k", "sample", "parameter", "value", "taken",
		"received"},
		pgx.CopyFromSlice(len(cells), func(i int) ([]any, error) {
			row := []any{i + 1}
			for _, c := range cells[i] {
				row = append(row, c)
			}
			return row, nil
		}))
	if err != nil {
		t.Fatal(err)
	}
}

// number is the text of a cell as a number, where it is one.
const number = `(CASE WHEN value ~ '^-?[0-9]+(\.[0-9]+)?$' THEN value::numeric END)`

func TestAnAuditAgreesWithPostgreSQL(t *testing.T) {
	content := audittest.Random(20_000)
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	load(t, conn, content)
	r := audittest.Run(t, content, audittest.SamplesBook)
	ask := func(query string) string {
		t.Helper()
		var answer *string
		if err := conn.QueryRow(context.Background(), query).Scan(&answer); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		if answer == nil {
			return "0"
		}
		return *answer
	}
	surplus := `FROM (SELECT *, row_number() OVER (PARTITION BY sample ORDER BY k) AS nth FROM s) q WHERE nth > 1`
	value := audittest.Column(t, r, "value")
	for _, c := range []struct{ what, got, query string }{
		{"rows", fmt.Sprint(r.Rows), "SELECT count(*)::text FROM s"},
		{"missing values", fmt.Sprint(value.Missing), "SELECT count(*)::text FROM s WHERE value = ''"},
		{"distinct values", fmt.Sprint(value.Distinct), "SELECT count(DISTINCT value)::text FROM s WHERE value <> ''"},
		{"the sum", value.Sum, "SELECT trim_scale(sum(" + number + "))::text FROM s"},
		{"numbers", fmt.Sprint(value.Numbers.Count), "SELECT count(" + number + ")::text FROM s"},
		{"the mean", value.Mean, "SELECT trim_scale(avg(" + number + "))::text FROM s"},
		{"the lowest", value.Lowest, "SELECT min(" + number + ")::text FROM s"},
		{"the highest", value.Highest, "SELECT max(" + number + ")::text FROM s"},
		{"texts among numbers", fmt.Sprint(audittest.Finding(t, r, "value.type").Rows),
			"SELECT count(*)::text FROM s WHERE value <> '' AND " + number + " IS NULL"},
		{"values out of range", fmt.Sprint(audittest.Finding(t, r, "value.range").Rows),
			"SELECT count(*)::text FROM s WHERE " + number + " NOT BETWEEN 0 AND 14"},
		{"surplus rows of the key", fmt.Sprint(audittest.Finding(t, r, "one_sample").Rows), "SELECT count(*)::text " +
			surplus},
		{"repeated keys", fmt.Sprint(audittest.Finding(t, r, "one_sample").Groups),
			"SELECT count(*)::text FROM (SELECT sample FROM s GROUP BY sample HAVING count(*) > 1) q"},
		{"what the key costs", audittest.Finding(t, r, "one_sample").Impact["value"], "SELECT trim_scale(sum(" +
			number + "))::text " + surplus},
		{"rows that break the order", fmt.Sprint(audittest.Finding(t, r, "in_order").Rows),
			"SELECT count(*)::text FROM s WHERE NOT received::date >= taken::date"},
		{"what these cost", audittest.Finding(t, r, "in_order").Impact["value"], "SELECT trim_scale(sum(" + number +
			"))::text FROM s WHERE NOT received::date >= taken::date"},
		{"unknown codes", fmt.Sprint(audittest.Finding(t, r, "parameter.codes").Rows),
			"SELECT count(*)::text FROM s WHERE lower(parameter) NOT IN ('ph', 'no3')"},
		{"other spellings", fmt.Sprint(audittest.Finding(t, r, "parameter.spelling").Rows),
			"SELECT count(*)::text FROM s WHERE parameter = 'ph'"},
		{"the score of parameter", fmt.Sprintf("%.6f", audittest.Column(t, r, "parameter").Score), `SELECT round(100.0 * count(*) FILTER (WHERE parameter IN ('PH', 'NO3')
			AND NOT (parameter = 'PH' AND COALESCE(` + number + ` >= 50, false))) / count(*), 6)::text FROM s`},
	} {
		want := ask(c.query)
		if c.got != want && !(c.what == "the mean" && strings.HasPrefix(want, c.got[:12])) {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
}

func connect(t *testing.T) *pgx.Conn { return postgrestest.Connect(t, postgrestest.Database(t)) }

// copyIn copies cells into a table, after their row number where numbered; the column at
// nullable becomes NULL where it is empty.
func copyIn(t *testing.T, conn *pgx.Conn, name string, columns []string, cells [][]string, numbered bool,
	nullable int) {
	t.Helper()
	_, err := conn.CopyFrom(context.Background(), pgx.Identifier{name}, columns, pgx.CopyFromSlice(len(cells),
		func(i int) ([]any, error) {
			row := []any{}
			if numbered {
				row = append(row, i+1)
			}
			for c, text := range cells[i] {
				if c != nullable {
					row = append(row, text)
					continue
				}
				var n pgtype.Numeric
				if text != "" {
					if err := n.Scan(text); err != nil {
						return nil, err
					}
				}
				row = append(row, n)
			}
			return row, nil
		}))
	if err != nil {
		t.Fatal(err)
	}
}

// rowsOf returns the row numbers that a query finds, ascending.
func rowsOf(t *testing.T, conn *pgx.Conn, query string) []uint32 {
	t.Helper()
	answer, err := conn.Query(context.Background(), query)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	rows, err := pgx.CollectRows(answer, pgx.RowTo[int32])
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	out := make([]uint32, len(rows))
	for i, row := range rows {
		out[i] = uint32(row)
	}
	slices.Sort(out)
	return out
}

func textOf(t *testing.T, conn *pgx.Conn, query string) string {
	t.Helper()
	var text string
	if err := conn.QueryRow(context.Background(), query).Scan(&text); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return text
}

// surveyed makes a table of values by station, region and day, and another dataset with the
// stations known and the sums of most of them.
func surveyed(rows int) (mine, others string) {
	r := rand.New(rand.NewPCG(3, 5))
	var m, o strings.Builder
	m.WriteString("station,region,day,value\n")
	sums := map[string]int{}
	totals := map[int]int{}
	for i := range rows {
		station, region := r.IntN(700), []string{"north", "south", "east", "all", ""}[r.IntN(5)]
		value, day := fmt.Sprint(r.IntN(100)), ""
		if r.IntN(20) > 0 {
			day = time.Date(2024, 1, 1+(i/300)+r.IntN(12)/11*r.IntN(9), 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
		}
		if r.IntN(30) == 0 {
			value = ""
		} else if n, _ := strconv.Atoi(value); region != "all" {
			totals[station] += n
		}
		if station%2 == 0 && region == "all" { // whose totals come at the end
			region = "north"
			n, _ := strconv.Atoi(value)
			totals[station] += n
		}
		n, _ := strconv.Atoi(value)
		sums[fmt.Sprintf("S%03d,%s", station, region)] += n
		fmt.Fprintf(&m, "S%03d,%s,%s,%s\n", station, region, day, value)
		if r.IntN(500) == 0 {
			fmt.Fprintf(&m, "S%03d,%s,%s,%s\n", station, region, day, value)
			sums[fmt.Sprintf("S%03d,%s", station, region)] += n
			if region != "all" {
				totals[station] += n
			}
		}
	}
	for station := 0; station < 700; station += 4 {
		fmt.Fprintf(&m, "S%03d,all,2024-12-31,%d\n", station, totals[station])
		sums[fmt.Sprintf("S%03d,all", station)] += totals[station]
	}
	o.WriteString("station,region,total\n")
	for i, key := range slices.Sorted(maps.Keys(sums)) {
		switch i % 9 {
		case 0:
		case 1:
			fmt.Fprintf(&o, "%s,%d\n", key, sums[key]+2)
		default:
			fmt.Fprintf(&o, "%s,%d\n", key, sums[key]+i%2)
		}
	}
	for i := range 5 {
		fmt.Fprintf(&o, "T%03d,north,%d\n", i, i)
	}
	return m.String(), o.String()
}

// The same questions are put to PostgreSQL on generated tables of 100,000 rows.
func TestTableRulesAgreeWithPostgreSQL(t *testing.T) {
	const rows = 100_000
	mine, others := surveyed(rows)
	conn := connect(t)
	ctx := context.Background()
	if _, err := conn.Exec(ctx,
		"CREATE TABLE m (k int, station text, region text, day text, value numeric); CREATE TABLE o (station text, region text, total numeric)"); err != nil {
		t.Fatal(err)
	}
	copyIn(t, conn, "m", []string{"k", "station", "region", "day", "value"},
		testkit.All(t, testkit.File(t, mine, intake.Reading{}), 2).Cells, true, 3)
	copyIn(t, conn, "o", []string{"station", "region", "total"},
		testkit.All(t, testkit.File(t, others, intake.Reading{}), 2).Cells, false, 2)
	book := testkit.Book(t, `dataset: d
columns:
  - {name: station}
  - {name: region}
  - {name: day, type: date}
  - {name: value, type: decimal}
keys:
  - {id: one_a_day, columns: [station, day], may_lack_parts: true}
equal_rows: {}
table_rules:
  - {id: summed, check: parts_sum, of: value, total: region = 'all', per: [station]}
  - {id: as_there, check: totals_match, of: value, per: [station, region], with: {dataset: o, columns: [station, region, total]}, tolerance: 1}
  - {id: covered, check: covers, in: station, with: {dataset: o, columns: [station]}}
  - {id: daily, check: no_gaps, in: day, step: day, per: [station]}
  - {id: sorted, check: in_order, in: day, per: [station]}
references:
  - {id: known, columns: [station, region], to: {dataset: o, columns: [station, region]}}
measures: [value]
`)
	book.Beside = audittest.Beside(t, map[string]string{"o": others},
		map[string]string{"o": "dataset: o\ncolumns:\n  - {name: station}\n  - {name: region}\n  - {name: total, type: decimal}\n"})
	var first []byte
	for _, workers := range []int{1, 8} {
		r, err := audit.Run(ctx, testkit.File(t, mine, book.Reading), book, workers)
		if err != nil {
			t.Fatal(err)
		}
		raw, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		if first == nil {
			first = raw
		} else if !bytes.Equal(first, raw) {
			t.Errorf("%d workers give another result than one", workers)
		}
		for rule, query := range map[string]string{
			"one_a_day":  "SELECT k FROM (SELECT k, row_number() OVER (PARTITION BY station, day ORDER BY k) n FROM m WHERE station <> '' AND day <> '') q WHERE n > 1",
			"equal_rows": "SELECT k FROM (SELECT k, row_number() OVER (PARTITION BY station, region, day, value ORDER BY k) n FROM m) q WHERE n > 1",
			"summed": `SELECT m.k FROM m JOIN (SELECT station FROM m GROUP BY station HAVING sum(value) FILTER (WHERE region = 'all') IS DISTINCT FROM coalesce(sum(value) FILTER (WHERE region NOT IN ('all', '')), 0)
				AND sum(value) FILTER (WHERE region = 'all') IS NOT NULL) q USING (station) WHERE region <> ''`,
			"as_there": `SELECT m.k FROM m JOIN (SELECT station, region, coalesce(sum(value), 0) AS mine FROM m GROUP BY 1, 2) q USING (station, region)
				LEFT JOIN (SELECT station, region, sum(total) AS theirs FROM o GROUP BY 1, 2) p USING (station, region) WHERE abs(mine - coalesce(theirs, 0)) > 1`,
			"covered": "SELECT 1 WHERE false",
			"daily":   "SELECT min(k) FROM (SELECT k, station, day, lag(day) OVER (PARTITION BY station ORDER BY day, k) AS before FROM m WHERE day <> '') q WHERE day::date - before::date > 1 GROUP BY station, day",
			"sorted":  "SELECT k FROM (SELECT k, day, lag(day) OVER (PARTITION BY station ORDER BY k) AS before FROM m WHERE day <> '') q WHERE day < before",
			"known":   "SELECT k FROM m WHERE station <> '' AND region <> '' AND NOT EXISTS (SELECT FROM o WHERE o.station = m.station AND o.region = m.region)",
		} {
			f := audittest.Finding(t, r, rule)
			want := rowsOf(t, conn, query)
			if got := f.RowSet.ToArray(); !slices.Equal(got, want) {
				t.Errorf("%s with %d workers: %d rows, and PostgreSQL says %d", rule, workers, len(got), len(want))
			}
			if len(want) == 0 && rule != "covered" {
				t.Errorf("%s is broken nowhere; the test says nothing", rule)
			}
			if sum := textOf(t, conn, "SELECT trim_scale(coalesce(sum(value), 0))::text FROM m WHERE k IN ("+query+
				")"); len(want) > 0 && f.Impact["value"] != sum {
				t.Errorf("%s costs %s, and PostgreSQL says %s", rule, f.Impact["value"], sum)
			}
		}
		absent := textOf(t, conn,
			"SELECT count(DISTINCT station)::text FROM o WHERE station NOT IN (SELECT station FROM m)")
		if found := audittest.Finding(t, r, "covered").Found; !strings.HasPrefix(found, absent+" of ") {
			t.Errorf("covered: %q, and PostgreSQL counts %s", found, absent)
		}
	}
}

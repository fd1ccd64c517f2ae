package audit_test

import (
	"context"
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

	"proudsieve/core/intake"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// load copies a generated table into PostgreSQL, every cell as text, with its row number.
func load(t *testing.T, conn *pgx.Conn, content string) {
	t.Helper()
	ctx := context.Background()
	if _, err := conn.Exec(ctx, "CREATE TABLE s (k int, sample text, parameter text, value text, taken text, received text)"); err != nil {
		t.Fatal(err)
	}
	cells := testkit.All(t, testkit.File(t, content, intake.Reading{}), 2).Cells
	_, err := conn.CopyFrom(ctx, pgx.Identifier{"s"}, []string{"k", "sample", "parameter", "value", "taken", "received"},
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
	content := random(20_000)
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	load(t, conn, content)
	r := run(t, content, samplesBook)
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
	value := column(t, r, "value")
	for _, c := range []struct{ what, got, query string }{
		{"rows", fmt.Sprint(r.Rows), "SELECT count(*)::text FROM s"},
		{"missing values", fmt.Sprint(value.Missing), "SELECT count(*)::text FROM s WHERE value = ''"},
		{"distinct values", fmt.Sprint(value.Distinct), "SELECT count(DISTINCT value)::text FROM s WHERE value <> ''"},
		{"the sum", value.Sum, "SELECT trim_scale(sum(" + number + "))::text FROM s"},
		{"numbers", fmt.Sprint(value.Numbers.Count), "SELECT count(" + number + ")::text FROM s"},
		{"the mean", value.Mean, "SELECT trim_scale(avg(" + number + "))::text FROM s"},
		{"the lowest", value.Lowest, "SELECT min(" + number + ")::text FROM s"},
		{"the highest", value.Highest, "SELECT max(" + number + ")::text FROM s"},
		{"texts among numbers", fmt.Sprint(finding(t, r, "value.type").Rows), "SELECT count(*)::text FROM s WHERE value <> '' AND " + number + " IS NULL"},
		{"values out of range", fmt.Sprint(finding(t, r, "value.range").Rows), "SELECT count(*)::text FROM s WHERE " + number + " NOT BETWEEN 0 AND 14"},
		{"surplus rows of the key", fmt.Sprint(finding(t, r, "one_sample").Rows), "SELECT count(*)::text " + surplus},
		{"repeated keys", fmt.Sprint(finding(t, r, "one_sample").Groups), "SELECT count(*)::text FROM (SELECT sample FROM s GROUP BY sample HAVING count(*) > 1) q"},
		{"what the key costs", finding(t, r, "one_sample").Impact["value"], "SELECT trim_scale(sum(" + number + "))::text " + surplus},
		{"rows that break the order", fmt.Sprint(finding(t, r, "in_order").Rows), "SELECT count(*)::text FROM s WHERE NOT received::date >= taken::date"},
		{"what these cost", finding(t, r, "in_order").Impact["value"], "SELECT trim_scale(sum(" + number + "))::text FROM s WHERE NOT received::date >= taken::date"},
		{"unknown codes", fmt.Sprint(finding(t, r, "parameter.codes").Rows), "SELECT count(*)::text FROM s WHERE lower(parameter) NOT IN ('ph', 'no3')"},
		{"other spellings", fmt.Sprint(finding(t, r, "parameter.spelling").Rows), "SELECT count(*)::text FROM s WHERE parameter = 'ph'"},
		{"the score of parameter", fmt.Sprintf("%.6f", column(t, r, "parameter").Score), `SELECT round(100.0 * count(*) FILTER (WHERE parameter IN ('PH', 'NO3')
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
func copyIn(t *testing.T, conn *pgx.Conn, name string, columns []string, cells [][]string, numbered bool, nullable int) {
	t.Helper()
	_, err := conn.CopyFrom(context.Background(), pgx.Identifier{name}, columns, pgx.CopyFromSlice(len(cells), func(i int) ([]any, error) {
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

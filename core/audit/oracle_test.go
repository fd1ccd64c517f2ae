package audit_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

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

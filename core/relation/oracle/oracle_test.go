// Package oracle_test holds questions about tables against PostgreSQL.
package oracle_test

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/relation/relationtest"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// load puts the table into PostgreSQL as texts, with the numbers of a, b and c beside
// them where the texts are numbers.
func load(t *testing.T, conn *pgx.Conn, content string) {
	t.Helper()
	ctx := context.Background()
	lines := strings.Split(strings.TrimSpace(content), "\n")[1:]
	rows := make([][]any, len(lines))
	for i, line := range lines {
		rows[i] = []any{i + 1}
		for _, cell := range strings.Split(line, ",") {
			rows[i] = append(rows[i], cell)
		}
	}
	run := func(query string) {
		if _, err := conn.Exec(ctx, query); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
	}
	run("CREATE TABLE raw (k int, id text, station text, meter text, a text, b text, c text, day text)")
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"raw"}, []string{"k", "id", "station", "meter", "a", "b", "c",
		"day"}, pgx.CopyFromRows(rows)); err != nil {
		t.Fatal(err)
	}
	number := func(c string) string {
		return "CASE WHEN " + c + ` ~ '^-?[0-9]+(\.[0-9]+)?$' THEN ` + c + "::numeric END"
	}
	run(fmt.Sprintf(`CREATE TABLE s AS SELECT k, id, station, meter, a AS ta, b AS tb, c AS tc, day AS tday, nullif(nullif(a, ''), 'n/a') AS fa, nullif(b, '') AS fb, nullif(c, '') AS fc,
		%s AS a, %s AS b, %s AS c, CASE WHEN day <> '2023-02-30' THEN day::date END AS day FROM raw`, number("a"), number("b"), number("c")))
}

func TestStatisticsAgreeWithPostgreSQL(t *testing.T) {
	for _, c := range []struct {
		name  string
		rows  int
		dirty bool
	}{{"a clean table", 20_000, false}, {"a dirty table", 20_000, true}, {"a small dirty table", 150, true}} {
		t.Run(c.name, func(t *testing.T) {
			content := relationtest.Generated(c.rows, c.dirty, uint64(c.rows))
			conn := postgrestest.Connect(t, postgrestest.Database(t))
			load(t, conn, content)
			compare(t, conn, &relation.Table{Source: testkit.File(t, content, intake.Reading{}),
				Book: testkit.Book(t, relationtest.Book), Workers: 3})
		})
	}
}

func compare(t *testing.T, conn *pgx.Conn, s *relation.Table) {
	ctx := context.Background()
	result, err := audit.Run(ctx, s.Source, s.Book, s.Workers)
	must(t, err)
	correlations, err := relation.Correlate(ctx, s, []string{"a", "b", "c"})
	must(t, err)
	gaps, err := relation.Gaps(ctx, s, "b")
	must(t, err)
	together, err := relation.MissTogether(ctx, s, []string{"a", "b", "c"})
	must(t, err)
	points, err := relation.PointsOf(ctx, s, "a", "b", 500, nil)
	must(t, err)
	if correlations.Along != "day" || len(points.Points) != min(500, int(points.Rows)) {
		t.Errorf("along %q, %d points of %d", correlations.Along, len(points.Points), points.Rows)
	}
	columns := map[string]*audit.Column{}
	for i := range result.Columns {
		columns[result.Columns[i].Name] = &result.Columns[i]
	}
	a, day := columns["a"], columns["day"]
	quantile := func(share float64) float64 {
		for _, q := range a.Numbers.Quantiles {
			if q.Share == share {
				return q.Number
			}
		}
		return math.NaN()
	}
	pattern := func(missing ...string) (rows int64) {
		for _, p := range result.MissingTogether {
			if slices.Equal(p.Missing, missing) {
				rows = p.Rows
			}
		}
		return rows
	}
	var gapV float64
	for _, g := range gaps {
		if g.Column == "meter" {
			gapV = g.Strength
		}
	}
	histogram := a.Numbers.Histogram
	bin := len(histogram.Rows) / 2
	from := histogram.From + float64(bin)*histogram.Width
	frequent := columns["station"].Frequent[0]
	period := day.Dates.Periods[2]
	surplus := int64(0)
	for _, f := range result.Findings {
		if f.Rule == "one" {
			surplus = f.Rows
		}
	}
	quartiles := "(SELECT percentile_cont(0.25) WITHIN GROUP (ORDER BY a::float8) AS q1, percentile_cont(0.75) WITHIN GROUP (ORDER BY a::float8) AS q3 FROM s) q"
	ranksOf := func(x string) string {
		return "(SELECT k, rank() OVER (ORDER BY " + x + ") + (count(*) OVER (PARTITION BY " + x +
			") - 1) / 2.0 AS r FROM s WHERE " + x + " IS NOT NULL)"
	}
	exact := []struct{ what, got, query string }{
		{"rows", fmt.Sprint(result.Rows), "SELECT count(*) FROM s"},
		{"filled cells", fmt.Sprint(a.Filled), "SELECT count(fa) FROM s"},
		{"missing cells", fmt.Sprint(a.Missing), "SELECT count(*) - count(fa) FROM s"},
		{"cells marked as missing", fmt.Sprint(a.MissingMarks["n/a"]), "SELECT count(*) FROM s WHERE ta = 'n/a'"},
		{"distinct texts", fmt.Sprint(a.Distinct), "SELECT count(DISTINCT fa) FROM s"},
		{"numbers", fmt.Sprint(a.Numbers.Count), "SELECT count(a) FROM s"},
		{"texts that are no numbers", fmt.Sprint(a.Mistyped), "SELECT count(fa) - count(a) FROM s"},
		{"sum", a.Sum, "SELECT trim_scale(sum(a)) FROM s"},
		{"lowest", number(a.Lowest), "SELECT trim_scale(min(a)) FROM s"},
		{"highest", number(a.Highest), "SELECT trim_scale(max(a)) FROM s"},
		{"shortest", fmt.Sprint(a.Shortest), "SELECT min(length(fa)) FROM s"},
		{"longest", fmt.Sprint(a.Longest), "SELECT max(length(fa)) FROM s"},
		{"cells with stray spaces", fmt.Sprint(a.Spaces.Any), "SELECT count(*) FROM s WHERE fa LIKE ' %'"},
		{"numbers in a bin of the histogram", fmt.Sprint(histogram.Rows[bin]),
			fmt.Sprintf("SELECT count(*) FROM s WHERE a >= %v AND a < %v", from, from+histogram.Width)},
		{"numbers above the bins", fmt.Sprint(histogram.Above), fmt.Sprintf("SELECT count(*) FROM s WHERE a >= %v",
			histogram.From+float64(len(histogram.Rows))*histogram.Width)},
		{"numbers beyond the fences", fmt.Sprint(a.Numbers.Outliers.Below + a.Numbers.Outliers.Above),
			"SELECT count(*) FROM s, " + quartiles +
				" WHERE a::float8 < q1 - 1.5 * (q3 - q1) OR a::float8 > q3 + 1.5 * (q3 - q1)"},
		{"the most frequent value", frequent.Text + " " + fmt.Sprint(frequent.Rows),
			"SELECT station || ' ' || count(*) FROM s GROUP BY station ORDER BY count(*) DESC, station COLLATE \"C\" LIMIT 1"},
		{"first day", day.Lowest, "SELECT min(day) FROM s"},
		{"last day", day.Highest, "SELECT max(day) FROM s"},
		{"days of a month", fmt.Sprint(period.Rows), "SELECT count(*) FROM s WHERE to_char(day, 'YYYY-MM') = '" +
			period.Start + "'"},
		{"days in no calendar", fmt.Sprint(day.Mistyped), "SELECT count(*) FROM s WHERE tday = '2023-02-30'"},
		{"complete rows", fmt.Sprint(pattern()),
			"SELECT count(*) FROM s WHERE fa IS NOT NULL AND fb IS NOT NULL AND fc IS NOT NULL"},
		{"rows that lack b alone", fmt.Sprint(pattern("b")),
			"SELECT count(*) FROM s WHERE fa IS NOT NULL AND fb IS NULL AND fc IS NOT NULL"},
		{"surplus rows of the key", fmt.Sprint(surplus), "SELECT count(*) - count(DISTINCT id) FROM s"},
		{"rows that lack b", fmt.Sprint(together.Rows[1][1]), "SELECT count(*) FROM s WHERE fb IS NULL"},
		{"rows that lack b and c", fmt.Sprint(together.Rows[1][2], together.Rows[2][1]),
			"SELECT count(*) || ' ' || count(*) FROM s WHERE fb IS NULL AND fc IS NULL"},
		{"points", fmt.Sprint(points.Rows), "SELECT count(*) FROM s WHERE a IS NOT NULL AND b IS NOT NULL"},
		{"pairs of numbers", fmt.Sprint(correlations.Pairs[0][1]),
			"SELECT count(*) FROM s WHERE a IS NOT NULL AND b IS NOT NULL"},
	}
	for _, c := range exact {
		var want string
		must(t, conn.QueryRow(ctx, "SELECT ("+c.query+")::text").Scan(&want))
		if c.got != want {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
	near := []struct {
		what  string
		got   float64
		query string
	}{
		{"mean", float(a.Mean), "SELECT avg(a) FROM s"},
		{"deviation", *a.Numbers.Deviation, "SELECT stddev_samp(a) FROM s"},
		{"deviation of large numbers", *columns["b"].Numbers.Deviation, "SELECT stddev_samp(b) FROM s"},
		{"skewness", *a.Numbers.Skewness,
			"SELECT (avg(d ^ 3) / avg(d ^ 2) ^ 1.5) FROM (SELECT a - avg(a) OVER () AS d FROM s) q"},
		{"5th percentile", quantile(0.05), "SELECT percentile_cont(0.05) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"first quartile", quantile(0.25), "SELECT percentile_cont(0.25) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"median", quantile(0.5), "SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"third quartile", quantile(0.75), "SELECT percentile_cont(0.75) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"99th percentile", quantile(0.99), "SELECT percentile_cont(0.99) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"correlation", *correlations.Pearson[0][1], "SELECT corr(a, b) FROM s"},
		{"correlation with whole numbers", *correlations.Pearson[2][0], "SELECT corr(a, c) FROM s"},
		{"correlation with the day", *correlations.Trend[0], "SELECT corr(a, day - DATE '1970-01-01') FROM s"},
		{"correlation apart from the day", *correlations.Apart[0][2], `SELECT (r - t * u) / sqrt((1 - t * t) * (1 - u * u)) FROM
			(SELECT corr(a, c) AS r, corr(a, day - DATE '1970-01-01') AS t, corr(c, day - DATE '1970-01-01') AS u FROM s) q`},
		{"slope", *points.Slope, "SELECT regr_slope(b, a) FROM s"},
		{"intercept", *points.Intercept, "SELECT regr_intercept(b, a) FROM s"},
		{"correlation of points", *points.Correlation, "SELECT corr(a, b) FROM s"},
		{"correlation of ranks", *correlations.Spearman[0][2], "SELECT corr(x.r, y.r) FROM " + ranksOf("a") +
			" x JOIN " + ranksOf("c") + " y USING (k)"},
		{"association of gaps", gapV, `SELECT sqrt(sum(n * (share - overall) ^ 2) / sum(n) / max(overall * (1 - overall))) FROM
			(SELECT count(*) AS n, avg((fb IS NULL)::int) AS share, (SELECT avg((fb IS NULL)::int) FROM s) AS overall FROM s GROUP BY meter) q`},
	}
	for _, c := range near {
		var want float64
		must(t, conn.QueryRow(ctx, "SELECT ("+c.query+")::float8").Scan(&want))
		if math.Abs(c.got-want) > 1e-9*max(1, math.Abs(want)) {
			t.Errorf("%s: %v, and PostgreSQL says %v", c.what, c.got, want)
		}
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func float(text string) float64 {
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return math.NaN()
	}
	return x
}

// number writes a number as trim_scale does.
func number(text string) string {
	d, _ := table.ParseDecimal(text)
	return d.Shortest()
}

func TestGroupsAndSpellingsAgreeWithPostgreSQL(t *testing.T) {
	const rows = 100_000
	ctx, content := context.Background(), relationtest.Repeated(rows)
	book := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: station}\n  - {name: day, type: date}\n  - {name: value, type: decimal}\nmeasures: [value]\n")
	view := &relation.Table{Source: testkit.File(t, content, book.Reading), Book: book, Workers: 3}
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	if _, err := conn.Exec(ctx, "CREATE TABLE g (k int, station text, day text, value text)"); err != nil {
		t.Fatal(err)
	}
	cells := testkit.All(t, view.Source, 2).Cells
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"g"}, []string{"k", "station", "day", "value"},
		pgx.CopyFromSlice(len(cells), func(i int) ([]any, error) {
			return []any{i + 1, cells[i][0], cells[i][1], cells[i][2]}, nil
		})); err != nil {
		t.Fatal(err)
	}
	ask := func(query string) string {
		t.Helper()
		var answer string
		if err := conn.QueryRow(ctx, `WITH r AS (SELECT *, lower(regexp_replace(station, '[^A-Za-z0-9]', '', 'g')) AS folded FROM g WHERE station <> '' AND day <> ''),
			same AS (SELECT station, day, count(*) AS n, count(DISTINCT value) AS differ FROM r GROUP BY station, day HAVING count(*) > 1),
			near AS (SELECT folded, day, count(*) AS n, count(DISTINCT station) AS keys FROM r GROUP BY folded, day HAVING count(DISTINCT station) > 1),
			surplus AS (SELECT value, row_number() OVER (PARTITION BY station, day ORDER BY k) AS nth, min(value) OVER (PARTITION BY station, day) <> max(value) OVER (PARTITION BY station, day) AS differ FROM r)
			`+query).Scan(&answer); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		return answer
	}
	g, err := relation.FindGroups(ctx, view, []string{"station", "day"})
	if err != nil {
		t.Fatal(err)
	}
	equal, conflicting, near := g.Of[relation.Equal], g.Of[relation.Conflicting], g.Of[relation.Near]
	for _, c := range []struct{ what, got, query string }{
		{"rows", fmt.Sprint(g.Rows), "SELECT count(*)::text FROM g"},
		{"equal groups", fmt.Sprint(equal.Groups, equal.Rows, equal.Surplus),
			"SELECT count(*) || ' ' || sum(n) || ' ' || sum(n - 1) FROM same WHERE differ = 1"},
		{"conflicting groups", fmt.Sprint(conflicting.Groups, conflicting.Rows, conflicting.Surplus),
			"SELECT count(*) || ' ' || sum(n) || ' ' || sum(n - 1) FROM same WHERE differ > 1"},
		{"near groups", fmt.Sprint(near.Groups, near.Rows, near.Surplus),
			"SELECT count(*) || ' ' || sum(n) || ' ' || sum(keys - 1) FROM near"},
		{"surplus once levelled", fmt.Sprint(g.SurplusLevelled),
			"SELECT (count(*) - count(DISTINCT (folded, day)))::text FROM r"},
		{"what conflicting rows cost", conflicting.Impact["value"],
			"SELECT sum(nullif(value, '')::numeric)::text FROM surplus WHERE nth > 1 AND differ"},
		{"what equal rows cost", equal.Impact["value"],
			"SELECT sum(nullif(value, '')::numeric)::text FROM surplus WHERE nth > 1 AND NOT differ"},
	} {
		if want := ask(c.query); c.got != want {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
	codes, err := relation.Recognise(ctx, view, "station")
	if err != nil {
		t.Fatal(err)
	}
	rowsOf := map[string]int64{}
	for _, text := range codes.Texts {
		rowsOf[text.Meaning.How] += text.Rows
	}
	for _, c := range []struct{ what, got, query string }{
		{"filled", fmt.Sprint(codes.Filled), "SELECT count(*)::text FROM r"},
		{"texts that are first of their kind", fmt.Sprint(len(codes.Used)),
			"SELECT count(DISTINCT folded)::text FROM r"},
		{"texts that are not", fmt.Sprint(len(codes.Texts)),
			"SELECT (count(DISTINCT station) - count(DISTINCT folded))::text FROM r"},
		{"their rows", fmt.Sprint(rowsOf["spaces"] + rowsOf["upper and lower case"] + rowsOf["accents or punctuation"]),
			`SELECT (count(*) - (SELECT sum(most) FROM (SELECT max(n) AS most FROM (SELECT folded, count(*) AS n FROM r GROUP BY folded, station) a GROUP BY folded) b))::text FROM r`},
	} {
		if want := ask(c.query); c.got != want {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
}

package relation_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

const book = `dataset: samples
reading: {missing: [n/a]}
columns:
  - {name: id, type: integer}
  - {name: station}
  - {name: meter}
  - {name: a, type: decimal}
  - {name: b, type: decimal}
  - {name: c, type: integer}
  - {name: day, type: date}
keys:
  - {id: one, columns: [id]}
`

// generated is a table whose columns have to do with one another: b follows a, c falls
// with a, and the gaps of b are those of the old meters. A dirty one has marks and words
// where numbers should be, other spellings, days that are in no calendar, and rows twice.
func generated(rows int, dirty bool, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 77))
	var b strings.Builder
	b.WriteString("id,station,meter,a,b,c,day\n")
	for i := range rows {
		id, meter := i, []string{"old", "new", "new"}[r.IntN(3)]
		a := r.NormFloat64()*12 + 40
		second, c := fmt.Sprintf("%.3f", 1000000+a*0.5+r.NormFloat64()), strconv.Itoa(int(300-a*2+r.NormFloat64()*20))
		first, day := fmt.Sprintf("%.2f", a), fmt.Sprintf("20%02d-%02d-%02d", 20+r.IntN(4), 1+r.IntN(12), 1+r.IntN(28))
		if meter == "old" && r.IntN(3) == 0 {
			second = ""
		}
		if dirty {
			switch r.IntN(40) {
			case 0:
				first = "n/a"
			case 1:
				first = "<0.05"
			case 2:
				first = " " + first
			case 3:
				c = ""
			case 4:
				day = "2023-02-30"
			case 5:
				first = strconv.Itoa(r.IntN(90_000) + 5000) // a lost point
			case 6:
				id = max(i-1, 0)
			}
		}
		fmt.Fprintf(&b, "%d,AV-%d,%s,%s,%s,%s,%s\n", id, r.IntN(30), meter, first, second, c, day)
	}
	return b.String()
}

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
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"raw"}, []string{"k", "id", "station", "meter", "a", "b", "c", "day"}, pgx.CopyFromRows(rows)); err != nil {
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
			content := generated(c.rows, c.dirty, uint64(c.rows))
			conn := postgrestest.Connect(t, postgrestest.Database(t))
			load(t, conn, content)
			compare(t, conn, &relation.Table{Source: testkit.File(t, content, intake.Reading{}), Book: testkit.Book(t, book), Workers: 3})
		})
	}
}

func compare(t *testing.T, conn *pgx.Conn, s *relation.Table) {
	ctx := context.Background()
	result, err := audit.Run(ctx, s.Source, s.Book, s.Workers)
	must(t, err)
	correlations, err := relation.Correlate(ctx, s, []string{"a", "b", "c"})
	must(t, err)
	crossing, err := relation.Cross(ctx, s, "station", "meter", "c", nil)
	must(t, err)
	gaps, err := relation.Gaps(ctx, s, "b")
	must(t, err)
	columns := map[string]*audit.Column{}
	for i := range result.Columns {
		columns[result.Columns[i].Name] = &result.Columns[i]
	}
	a, day := columns["a"], columns["day"]
	at := func(station, meter string) relation.Crossed {
		return crossing.Cells[slices.Index(crossing.Downs, station)][slices.Index(crossing.Acrosses, meter)]
	}
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
		return "(SELECT k, rank() OVER (ORDER BY " + x + ") + (count(*) OVER (PARTITION BY " + x + ") - 1) / 2.0 AS r FROM s WHERE " + x + " IS NOT NULL)"
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
		{"numbers in a bin of the histogram", fmt.Sprint(histogram.Rows[bin]), fmt.Sprintf("SELECT count(*) FROM s WHERE a >= %v AND a < %v", from, from+histogram.Width)},
		{"numbers above the bins", fmt.Sprint(histogram.Above), fmt.Sprintf("SELECT count(*) FROM s WHERE a >= %v", histogram.From+float64(len(histogram.Rows))*histogram.Width)},
		{"numbers beyond the fences", fmt.Sprint(a.Numbers.Outliers.Below + a.Numbers.Outliers.Above), "SELECT count(*) FROM s, " + quartiles + " WHERE a::float8 < q1 - 1.5 * (q3 - q1) OR a::float8 > q3 + 1.5 * (q3 - q1)"},
		{"the most frequent value", frequent.Text + " " + fmt.Sprint(frequent.Rows), "SELECT station || ' ' || count(*) FROM s GROUP BY station ORDER BY count(*) DESC, station COLLATE \"C\" LIMIT 1"},
		{"first day", day.Lowest, "SELECT min(day) FROM s"},
		{"last day", day.Highest, "SELECT max(day) FROM s"},
		{"days of a month", fmt.Sprint(period.Rows), "SELECT count(*) FROM s WHERE to_char(day, 'YYYY-MM') = '" + period.Start + "'"},
		{"days in no calendar", fmt.Sprint(day.Mistyped), "SELECT count(*) FROM s WHERE tday = '2023-02-30'"},
		{"complete rows", fmt.Sprint(pattern()), "SELECT count(*) FROM s WHERE fa IS NOT NULL AND fb IS NOT NULL AND fc IS NOT NULL"},
		{"rows that lack b alone", fmt.Sprint(pattern("b")), "SELECT count(*) FROM s WHERE fa IS NOT NULL AND fb IS NULL AND fc IS NOT NULL"},
		{"surplus rows of the key", fmt.Sprint(surplus), "SELECT count(*) - count(DISTINCT id) FROM s"},
		{"rows of a cell of the cross-tabulation", fmt.Sprint(at("AV-7", "old").Rows), "SELECT count(*) FROM s WHERE station = 'AV-7' AND meter = 'old'"},
		{"its sum", at("AV-7", "new").Sum, "SELECT trim_scale(sum(c)) FROM s WHERE station = 'AV-7' AND meter = 'new'"},
		{"pairs of numbers", fmt.Sprint(correlations.Pairs[0][1]), "SELECT count(*) FROM s WHERE a IS NOT NULL AND b IS NOT NULL"},
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
		{"skewness", *a.Numbers.Skewness, "SELECT (avg(d ^ 3) / avg(d ^ 2) ^ 1.5) FROM (SELECT a - avg(a) OVER () AS d FROM s) q"},
		{"5th percentile", quantile(0.05), "SELECT percentile_cont(0.05) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"first quartile", quantile(0.25), "SELECT percentile_cont(0.25) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"median", quantile(0.5), "SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"third quartile", quantile(0.75), "SELECT percentile_cont(0.75) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"99th percentile", quantile(0.99), "SELECT percentile_cont(0.99) WITHIN GROUP (ORDER BY a::float8) FROM s"},
		{"correlation", *correlations.Pearson[0][1], "SELECT corr(a, b) FROM s"},
		{"correlation with whole numbers", *correlations.Pearson[2][0], "SELECT corr(a, c) FROM s"},
		{"correlation of ranks", *correlations.Spearman[0][2], "SELECT corr(x.r, y.r) FROM " + ranksOf("a") + " x JOIN " + ranksOf("c") + " y USING (k)"},
		{"mean of a cell of the cross-tabulation", float(at("AV-7", "new").Mean), "SELECT avg(c) FROM s WHERE station = 'AV-7' AND meter = 'new'"},
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

func TestKeysAreFoundAndTested(t *testing.T) {
	var b strings.Builder
	b.WriteString("region,site,name,n\n")
	for i := range 400 {
		fmt.Fprintf(&b, "%d,%d,name %d,%d\n", i/20, i%20, min(i, 397), i%7)
	}
	s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}), Book: testkit.Book(t, "dataset: d\ncolumns: [{name: region, type: integer}, {name: site, type: integer}, {name: name}, {name: n, type: integer}]\n"), Workers: 2}
	result, err := audit.Run(context.Background(), s.Source, s.Book, 2)
	must(t, err)
	keys, err := relation.Keys(context.Background(), s, result)
	must(t, err)
	if got, want := fmt.Sprint(keys), "[{[name] 2 0} {[region site] 0 0}"; !strings.HasPrefix(got, want) {
		t.Errorf("keys %s, want %s first", got, want)
	}
	for _, k := range keys {
		if len(k.Columns) > 2 && slices.Contains(k.Columns, "region") && slices.Contains(k.Columns, "site") {
			t.Errorf("%v holds a smaller key", k.Columns)
		}
	}
}

func TestOneWorkerAndEightSeeTheSame(t *testing.T) {
	content := generated(60_000, true, 3)
	answers := map[string]bool{}
	for _, workers := range []int{1, 8} {
		s := &relation.Table{Source: testkit.File(t, content, intake.Reading{}), Book: testkit.Book(t, book), Workers: workers}
		correlations, err := relation.Correlate(context.Background(), s, s.NumberColumns())
		must(t, err)
		crossing, err := relation.Cross(context.Background(), s, "station", "", "a", nil)
		must(t, err)
		gaps, err := relation.Gaps(context.Background(), s, "b")
		must(t, err)
		text := ""
		for i := range correlations.Columns {
			text += fmt.Sprint(correlations.Pairs[i], *correlations.Pearson[i][0], *correlations.Spearman[i][0])
		}
		answers[text+fmt.Sprint(*crossing, gaps)] = true
	}
	if len(answers) != 1 {
		t.Error("the number of workers can be seen in the answers")
	}
}

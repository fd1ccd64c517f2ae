package inplace_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/inplace"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) {
	postgrestest.Main(m, func() {
		if endShards != nil {
			endShards()
		}
	})
}

// Three servers of ClickHouse are shared by the tests, since each takes a second to start.
var (
	endShards   func()
	startShards = sync.OnceValues(func() (*enginetest.ClickHouse, error) {
		directory, err := os.MkdirTemp("", "proudsieve-shards-")
		if err != nil {
			return nil, err
		}
		c, stop, err := enginetest.Launch(context.Background(), directory, 3)
		endShards = func() {
			if stop != nil {
				stop()
			}
			_ = os.RemoveAll(directory)
		}
		return c, err
	})
	tables atomic.Int64
)

// longer is how long tables and rulebooks are made up beyond the usual number.
var longer = flag.Duration("longer", 0, "how long to go on comparing what engines say with what is judged here")

// rulebooks is how many rulebooks are made up at least.
var rulebooks = flag.Int("rulebooks", 10, "by how many rulebooks tables are judged in each place")

// visits is a table of the survey as both engines hold it.
var visits = []struct{ name, postgres, clickhouse string }{
	{"id", "integer", "Nullable(Int32)"},
	{"sample", "text", "Nullable(String)"},
	{"parameter", "text", "Nullable(String)"},
	{"level", "numeric(9,2)", "Nullable(Decimal(9,2))"},
	{"low", "numeric(9,3)", "Nullable(Decimal(9,3))"},
	{"ratio", "double precision", "Nullable(Float64)"},
	{"said", "text", "Nullable(String)"},
	{"day", "date", "Nullable(Date)"},
	{"said_day", "text", "Nullable(String)"},
	{"noted", "timestamp with time zone", "Nullable(DateTime)"},
	{"wet", "text", "Nullable(String)"},
	{"remark", "text", "Nullable(String)"},
	{"gauge", "text", "Nullable(String)"},
}

// madeUp are rows of visits; an empty pointer is a null.
func madeUp(r *rand.Rand, rows int) [][]*string {
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	var all [][]*string
	for i := range rows {
		if i > 0 && r.IntN(25) == 0 {
			all = append(all, all[r.IntN(len(all))])
			continue
		}
		day := time.Date(2024, 1, 1+r.IntN(400), 0, 0, 0, 0, time.UTC)
		row := []string{strconv.Itoa(i + 1 - r.IntN(2)*r.IntN(2)*r.IntN(rows/2+1)), fmt.Sprintf("AV-%0*d", 4+r.IntN(20)/19, r.IntN(rows*3)),
			pick("PH", "PH", "NO3", "NO3", "ph", " PH", "no3", "XX", "NH4"), fmt.Sprintf("%.2f", r.Float64()*30-2), fmt.Sprintf("%.3f", r.Float64()*28), strconv.FormatFloat(float64(r.IntN(4000))/1000, 'f', -1, 64),
			pick("3,5", "3,50", "4,25", "0,125", "12", "n/a", "trace", "-1,5", "1.234,5", ""), day.Format(time.DateOnly), pick(day.Format("02.01.2006"), "31.02.2024", day.Format("02.01.2006")),
			day.Add(time.Duration(r.IntN(86400)) * time.Second).Format(time.DateTime), pick("yes", "no", "Yes", "true", "perhaps", "n/a"), pick("clear", "clear ", "rain  later", "Ufer überschwemmt", "it's \"high\", \\ low", "n/a", " ", "-", "a\nb"),
			pick(strings.ReplaceAll(fmt.Sprintf("%.3f", r.Float64()*40-3), ".", ","), strconv.Itoa(r.IntN(900)), "1."+fmt.Sprintf("%03d", r.IntN(1000))+",5", fmt.Sprintf("0%d,25", r.IntN(90)), pick("n/a", "12,5x", "about 3", "+4,5", "7,000"))}
		out := make([]*string, len(row))
		for c := range row {
			if r.IntN(12) > 0 {
				out[c] = &row[c]
			}
		}
		all = append(all, out)
	}
	return all
}

// place is where a table lies.
type place struct {
	name     string
	database engine.Database
	relation engine.Relation
}

func opened(t testing.TB, d engine.Database) engine.Session {
	t.Helper()
	s, err := engine.Open(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// places are a PostgreSQL, and three servers of ClickHouse that each have a table of their own and one that lies on all three.
type places struct {
	postgres string
	parts    []string // other databases of PostgreSQL, on which the partitions of a table lie
	shards   *enginetest.ClickHouse
}

func startPlaces(t *testing.T) *places {
	t.Helper()
	shards, err := startShards()
	if err != nil {
		t.Fatal(err)
	}
	p := &places{postgres: postgrestest.Database(t), shards: shards}
	conn := postgrestest.Connect(t, p.postgres)
	if _, err := conn.Exec(t.Context(), "CREATE EXTENSION postgres_fdw"); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		p.parts = append(p.parts, postgrestest.Database(t))
		d := enginetest.PostgreSQL(t, p.parts[i])
		for _, sql := range []string{fmt.Sprintf("CREATE SERVER part%d FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '%s', port '%d', dbname '%s')", i, d.Host, d.Port, d.Name),
			fmt.Sprintf("CREATE USER MAPPING FOR CURRENT_USER SERVER part%d OPTIONS (user '%s', password '%s')", i, d.User, d.Password)} {
			if _, err := conn.Exec(t.Context(), sql); err != nil {
				t.Fatal(err)
			}
		}
	}
	return p
}

func literal(engineName string, text *string) string {
	if text == nil {
		return "NULL"
	}
	if engineName == "clickhouse" {
		return "'" + strings.NewReplacer("\\", "\\\\", "'", "\\'").Replace(*text) + "'"
	}
	return "'" + strings.ReplaceAll(*text, "'", "''") + "'"
}

// lay lays rows into a table in each place.
func (p *places) lay(t *testing.T, rows [][]*string) []place {
	t.Helper()
	name := fmt.Sprintf("visits%d", tables.Add(1))
	columns := func(of func(i int) string) string {
		var all []string
		for i := range visits {
			all = append(all, visits[i].name+" "+of(i))
		}
		return strings.Join(all, ", ")
	}
	values := func(engineName string, some [][]*string) string {
		var all []string
		for _, row := range some {
			var one []string
			for _, text := range row {
				one = append(one, literal(engineName, text))
			}
			all = append(all, "("+strings.Join(one, ", ")+")")
		}
		return strings.Join(all, ", ")
	}
	conn := postgrestest.Connect(t, p.postgres)
	defer conn.Close(context.Background())
	statements := []string{"SET TIME ZONE 'UTC'", "CREATE TABLE " + name + " (" + columns(func(i int) string { return visits[i].postgres }) + ")"}
	for some := range slices.Chunk(rows, 5000) {
		statements = append(statements, "INSERT INTO "+name+" VALUES "+values("postgresql", some))
	}
	for _, s := range statements {
		if _, err := conn.Exec(context.Background(), s); err != nil {
			t.Fatal(err)
		}
	}
	ofPostgres := columns(func(i int) string { return visits[i].postgres })
	if _, err := conn.Exec(context.Background(), "CREATE TABLE "+name+"_spread ("+ofPostgres+") PARTITION BY HASH (id)"); err != nil {
		t.Fatal(err)
	}
	for i, address := range p.parts {
		part := postgrestest.Connect(t, address)
		_, err := part.Exec(context.Background(), "CREATE TABLE "+name+"_part ("+ofPostgres+")")
		_ = part.Close(context.Background())
		if err == nil {
			_, err = conn.Exec(context.Background(), fmt.Sprintf("CREATE FOREIGN TABLE %s_spread%d PARTITION OF %[1]s_spread FOR VALUES WITH (MODULUS 3, REMAINDER %[2]d) SERVER part%[2]d OPTIONS (table_name '%[1]s_part')", name, i))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := conn.Exec(context.Background(), "INSERT INTO "+name+"_spread SELECT * FROM "+name); err != nil {
		t.Fatal(err)
	}
	ofClickHouse := columns(func(i int) string { return visits[i].clickhouse })
	parts := make([][][]*string, 3)
	for i, row := range rows {
		at := i * 7 % 3
		parts[at] = append(parts[at], row)
	}
	insert := func(node int, into string, rows [][]*string) {
		for some := range slices.Chunk(rows, 1000) {
			var selects []string
			for _, row := range some {
				var one []string
				for c, text := range row {
					one = append(one, "CAST("+literal("clickhouse", text)+" AS "+visits[c].clickhouse+")")
				}
				selects = append(selects, "SELECT "+strings.Join(one, ", "))
			}
			p.shards.Do(t, node, "INSERT INTO "+into+" "+strings.Join(selects, " UNION ALL "))
		}
	}
	for node := range 3 {
		p.shards.Do(t, node, "CREATE TABLE "+name+"_part ("+ofClickHouse+") ENGINE = MergeTree() ORDER BY tuple()")
		insert(node, name+"_part", parts[node])
	}
	p.shards.Do(t, 0, "CREATE TABLE "+name+" ("+ofClickHouse+") ENGINE = Distributed(vale, default, "+name+"_part)", "CREATE TABLE "+name+"_whole ("+ofClickHouse+") ENGINE = MergeTree() ORDER BY tuple()",
		"INSERT INTO "+name+"_whole SELECT * FROM "+name)
	return []place{
		{"PostgreSQL", enginetest.PostgreSQL(t, p.postgres), engine.Relation{Schema: "public", Table: name}},
		{"PostgreSQL on three servers", enginetest.PostgreSQL(t, p.postgres), engine.Relation{Schema: "public", Table: name + "_spread"}},
		{"one shard", p.shards.Nodes[0], engine.Relation{Schema: "default", Table: name + "_whole"}},
		{"three shards", p.shards.Nodes[0], engine.Relation{Schema: "default", Table: name}},
	}
}

// here judges the rows as they are taken from a place, in the order of their texts.
func here(t *testing.T, at place, book *rulebook.Rulebook) *audit.Result {
	t.Helper()
	var out bytes.Buffer
	s := opened(t, at.database)
	defer s.Close()
	taken, err := engine.Take(t.Context(), s, at.relation, engine.Limits{}, &out)
	if err != nil {
		t.Fatal(err)
	}
	return judgedHere(t, out.String(), taken, book)
}

func judgedHere(t *testing.T, content string, taken *engine.Taken, book *rulebook.Rulebook) *audit.Result {
	t.Helper()
	var text []string
	for _, c := range taken.Columns {
		if c.Text {
			text = append(text, c.Name)
		}
	}
	typed := book.ForTyped(text)
	// A table in a database has no order, so that the first of several rows is the one whose texts come first.
	read := testkit.All(t, testkit.File(t, content, typed.Reading), 1)
	slices.SortFunc(read.Cells, slices.Compare[[]string])
	var b strings.Builder
	write := func(cells []string) {
		for c, cell := range cells {
			if c > 0 {
				b.WriteString(",")
			}
			b.WriteString(`"` + strings.ReplaceAll(cell, `"`, `""`) + `"`)
		}
		b.WriteString("\n")
	}
	var names []string
	for _, c := range taken.Columns {
		names = append(names, c.Name)
	}
	write(names)
	for _, row := range read.Cells {
		write(row)
	}
	result, err := audit.Run(t.Context(), testkit.File(t, b.String(), typed.Reading), typed, 2)
	if err != nil {
		t.Fatal(err)
	}
	return result
}

func there(t *testing.T, at place, book *rulebook.Rulebook) *audit.Result {
	t.Helper()
	last, s := "", opened(t, at.database)
	defer s.Close()
	judged, err := inplace.Judge(t.Context(), s, at.database.Engine, at.relation, book, inplace.Options{Tell: func(_, sql string) { last = sql }})
	if err != nil {
		t.Fatalf("%s: %v\nby %s", at.name, err, last)
	}
	return judged
}

// plain is a result as it can be compared: without places in the table, which an engine does not tell, and without leads.
func plain(t *testing.T, r *audit.Result) map[string]any {
	t.Helper()
	raw, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	var out map[string]any
	if err := json.Unmarshal(raw, &out); err != nil {
		t.Fatal(err)
	}
	return without(out).(map[string]any)
}

func without(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for _, name := range []string{"mesh", "gaps", "first_rows", "leads", "unsure", "there"} {
			delete(v, name)
		}
		for name := range v {
			v[name] = without(v[name])
		}
	case []any:
		for i := range v {
			v[i] = without(v[i])
		}
	}
	return v
}

// differences tells where two values differ, numbers by more than rounding.
func differences(path string, a, b any) (out []string) {
	if x, ok := a.(float64); ok {
		if y, ok := b.(float64); ok && (x == y || math.Abs(x-y) <= 1e-9*max(math.Abs(x), math.Abs(y), 1e-3)) {
			return nil
		}
	}
	if x, ok := a.(string); ok && (strings.HasSuffix(path, ".ratio") || path == ".columns[5].sum") { // sums of binary fractions
		if y, ok := b.(string); ok {
			x, err1 := strconv.ParseFloat(x, 64)
			y, err2 := strconv.ParseFloat(y, 64)
			if err1 == nil && err2 == nil {
				return differences(path, x, y)
			}
		}
	}
	switch x := a.(type) {
	case map[string]any:
		if y, ok := b.(map[string]any); ok {
			for name := range x {
				out = append(out, differences(path+"."+name, x[name], y[name])...)
			}
			for name := range y {
				if _, known := x[name]; !known {
					out = append(out, differences(path+"."+name, nil, y[name])...)
				}
			}
			return out
		}
	case []any:
		if y, ok := b.([]any); ok && len(x) == len(y) {
			for i := range x {
				out = append(out, differences(fmt.Sprintf("%s[%d]", path, i), x[i], y[i])...)
			}
			return out
		}
	}
	if !reflect.DeepEqual(a, b) {
		out = append(out, fmt.Sprintf("%s: here %v, there %v", path, a, b))
	}
	return out
}

// randomBook makes a rulebook up.
func randomBook(r *rand.Rand) string {
	some := func(of int, text string) string {
		if r.IntN(of) == 0 {
			return text
		}
		return ""
	}
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	var b strings.Builder
	b.WriteString("dataset: visits\nreading: {decimal_mark: \",\", grouping_mark: \".\", dates: [dd.MM.yyyy], missing: [n/a" + some(2, `, "-"`) + "]}\ncolumns:\n")
	fmt.Fprintf(&b, "  - {name: id, type: integer%s%s}\n", some(2, ", required: true"), some(3, ", from: 3, to: 40"))
	fmt.Fprintf(&b, "  - {name: sample%s%s%s}\n", some(2, ", required: true"), some(2, `, pattern: "AV-[0-9]{4}"`), some(3, ", shortest: 8"))
	fmt.Fprintf(&b, "  - {name: parameter, type: %s%s}\n", pick("code, codes: parameters", "code, codes: parameters", "text"), some(3, ", required: true"))
	fmt.Fprintf(&b, "  - {name: level, type: decimal%s%s}\n", some(2, pick(", from: 0", ", to: 25.5", ", from: 0.5, to: 14.25")), some(3, ", decimals: 1"))
	fmt.Fprintf(&b, "  - {name: low, type: %s%s}\n", pick("decimal", "decimal", "integer"), some(3, ", filled: 95"))
	fmt.Fprintf(&b, "  - {name: ratio, type: decimal%s}\n", some(2, ", from: 0.25, to: 3.5"))
	fmt.Fprintf(&b, "  - {name: said, type: %s%s}\n", pick("decimal", "decimal", "text"), some(3, ", required: true"))
	fmt.Fprintf(&b, "  - {name: day, type: date%s%s}\n", some(2, ", from: 2024-02-01"), some(2, ", required: true"))
	fmt.Fprintf(&b, "  - {name: said_day, type: date%s}\n", some(2, ", to: 2024-12-31"))
	fmt.Fprintf(&b, "  - {name: noted, type: %s}\n", pick("datetime", "datetime", "text"))
	fmt.Fprintf(&b, "  - {name: wet, type: %s}\n", pick("boolean", "text"))
	fmt.Fprintf(&b, "  - {name: remark%s}\n", some(2, ", longest: 10"))
	fmt.Fprintf(&b, "  - {name: gauge, type: %s%s%s}\n", pick("decimal", "decimal", "integer"), some(2, ", to: 800"), some(3, ", decimals: 2"))
	b.WriteString("code_lists:\n  parameters: [PH, NO3, NH4]\n")
	switch r.IntN(4) {
	case 0:
		b.WriteString("keys:\n  - {id: one, columns: [id]}\n")
	case 1:
		b.WriteString("keys:\n  - {id: one, columns: [sample, parameter], may_lack_parts: true}\n  - {id: other, columns: [level], severity: note}\n")
	case 2:
		b.WriteString("keys:\n  - {id: one, columns: [day, said], may_lack_parts: true}\n")
	}
	b.WriteString(some(2, "equal_rows: {severity: minor}\n"))
	b.WriteString("rules:\n  - {id: always, condition: level > low}\n")
	for i, c := range conditions {
		if r.IntN(4) == 0 {
			fmt.Fprintf(&b, "  - {id: c%d, condition: %q%s, severity: %s}\n", i, c, some(4, ", may_break: 20"), pick("major", "minor", "note"))
		}
	}
	if r.IntN(2) == 0 {
		b.WriteString("  - {id: when, when: level > 5, condition: low > 2, severity: minor}\n")
	}
	switch r.IntN(5) {
	case 0:
		b.WriteString("table_rules:\n  - {id: whole, check: parts_sum, of: level, total: \"wet = 'no'\", per: [day]}\n")
	case 1:
		b.WriteString("table_rules:\n  - {id: many, check: row_count, from: 200}\n")
	}
	b.WriteString(pick("", "measures: [level]\n", "measures: [level, low]\n", "measures: [ratio]\n"))
	return b.String()
}

var conditions = []string{
	"level + low < 30", "level - low > -20.5", "level * 2 >= low", "level / low < 5", "ABS(level - low) <= 12.25", "ratio > 0.5", "ratio < 2.125 OR level IS NULL", "ratio * 2 > level",
	"day >= DATE '2024-03-01'", "noted >= day", "noted < day + INTERVAL '1' DAY", "noted < day + INTERVAL '12' HOUR", "day + INTERVAL '1' MONTH > DATE '2024-06-15'", "day - said_day < 3", "said_day IS NOT MISTYPED", "said IS MISSING OR said IS MISTYPED",
	"parameter IN ('PH', 'NO3')", "parameter <> 'PH' OR level <= 14", "sample LIKE 'AV-0%'", "sample NOT LIKE_REGEX '9$'", "LENGTH(remark) < 8", "LOWER(remark) = 'clear'", "TRIM(remark) <> 'clear'", "SUBSTRING(sample FROM 4 FOR 1) <> '0'",
	"POSITION('e' IN remark) = 3", "remark || sample <> 'clearAV-0001'", "COALESCE(level, low, 0) > 1", "NULLIF(level, low) > 3", "CASE WHEN wet IS NULL THEN TRUE WHEN level > 10 THEN low > 5 ELSE FALSE END", "EXTRACT(MONTH FROM day) BETWEEN 2 AND 8",
	"ROUND(level) <> 7", "MOD(id, 3) <> 1", "id NOT IN (3, 4, 5, NULL)", "level IS DISTINCT FROM low", "(level > 3 AND low > 3) IS NOT UNKNOWN", "CAST(level AS INTEGER) <> 4", "DATE_TRUNC('month', day) <> DATE '2024-05-01'", "said > 3.4", "said + level > 2", "-level < 1", "gauge > level", "gauge + low >= 1.5 OR gauge IS MISTYPED", "ROUND(gauge, 1) <> 4.5", "LENGTH(sample) + gauge < 600", "SUBSTRING(remark FROM 2) <> 'lear'",
}

func TestEnginesJudgeAsFilesAreJudged(t *testing.T) {
	p, seed := startPlaces(t), uint64(1)
	defer inplace.HashAtMost(100)() // of some tables in several parts
	began := time.Now()
	if *longer > 0 || *rulebooks > 10 {
		seed = uint64(began.UnixNano())
		t.Logf("seed %d", seed)
	}
	r := rand.New(rand.NewPCG(5, seed))
	books, failed := 0, 0
	for books < *rulebooks || time.Since(began) < *longer {
		all := p.lay(t, madeUp(r, 20+r.IntN(300)))
		for range 5 {
			text := randomBook(r)
			book, err := rulebook.Parse([]byte(text))
			for ; err != nil; book, err = rulebook.Parse([]byte(text)) { // a condition does not fit a type
				text = randomBook(r)
			}
			books++
			for _, at := range all {
				judged := there(t, at, book)
				want, got := plain(t, here(t, at, book)), plain(t, judged)
				got["rules"] = withoutUnjudged(t, at.name, want["rules"].([]any), got["rules"].([]any))
				if d := differences("", want, got); len(d) > 0 {
					t.Errorf("%s differs:\n%s\n%s", at.name, strings.Join(d[:min(len(d), 12)], "\n"), text)
					if failed++; failed == 3 {
						t.FailNow()
					}
				}
			}
		}
	}
	t.Logf("%d rulebooks", books)
}

// withoutUnjudged wants each rule to be judged.
func withoutUnjudged(t *testing.T, name string, _, got []any) []any {
	t.Helper()
	for _, rule := range got {
		if why, unjudged := rule.(map[string]any)["unjudged"]; unjudged {
			t.Errorf("%s: %v is not judged: %v", name, rule.(map[string]any)["rule"], why)
		}
	}
	return got
}

// fewTexts are what is said of a column, and is the same however many of its texts are listed.
var fewTexts = []string{"name", "type", "declared", "score", "completeness", "validity", "uniqueness", "consistency", "filled", "missing", "missing_marks", "mistyped", "exceptions", "lowest", "highest", "sum", "mean",
	"spaces", "shortest", "longest", "shapes", "dates"}

// few keeps of a result what is the same however many texts are listed.
func few(result map[string]any) map[string]any {
	for _, c := range result["columns"].([]any) {
		for name := range c.(map[string]any) {
			if !slices.Contains(fewTexts, name) {
				delete(c.(map[string]any), name)
			}
		}
		if numeric := c.(map[string]any)["sum"]; numeric != nil {
			for _, name := range []string{"mean", "shapes"} {
				delete(c.(map[string]any), name)
			}
		}
	}
	return result
}

func TestColumnsOfManyTextsAreJudgedAsOthersAre(t *testing.T) {
	defer inplace.ListAtMost(170)()
	p, seed := startPlaces(t), uint64(2)
	began := time.Now()
	if *longer > 0 {
		seed = uint64(began.UnixNano())
		t.Logf("seed %d", seed)
	}
	r := rand.New(rand.NewPCG(6, seed))
	failed := 0
	for tables := 0; tables < 1 || time.Since(began) < *longer; tables++ {
		all := p.lay(t, madeUp(r, 320))
		for range 5 {
			text := randomBook(r)
			book, err := rulebook.Parse([]byte(text))
			for ; err != nil; book, err = rulebook.Parse([]byte(text)) {
				text = randomBook(r)
			}
			for _, at := range all {
				judged := there(t, at, book)
				want, got := few(plain(t, here(t, at, book))), few(plain(t, judged))
				unjudged := map[string]bool{}
				for _, rule := range judged.Rules {
					unjudged[rule.Rule] = rule.Unjudged != ""
				}
				if len(unjudgedOf(unjudged)) > 0 {
					t.Logf("%s: not judged: %v", at.name, unjudgedOf(unjudged))
					continue
				}
				if d := differences("", want, got); len(d) > 0 {
					t.Errorf("%s differs:\n%s\n%s", at.name, strings.Join(d[:min(len(d), 12)], "\n"), text)
					if failed++; failed == 3 {
						t.FailNow()
					}
				}
			}
		}
	}
}

func unjudgedOf(rules map[string]bool) (names []string) {
	for rule, not := range rules {
		if not {
			names = append(names, rule)
		}
	}
	slices.Sort(names)
	return names
}

package inplace_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"proudsieve/core/audit/audittest"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/inplace"
	"proudsieve/postgres/postgrestest"
)

// said puts a question whose answer is one text.
func said(t *testing.T, s engine.Session, sql string) string {
	t.Helper()
	rows, err := s.Ask(t.Context(), sql)
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	defer rows.Close()
	cells, err := rows.Next()
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	answer := string(cells[0])
	if _, err := rows.Next(); !errors.Is(err, io.EOF) {
		t.Fatalf("%s: more than one row", sql)
	}
	return answer
}

func TestTextsAndNamesOfPeopleStayWhatTheyAre(t *testing.T) {
	p := startPlaces(t)
	r := rand.New(rand.NewPCG(8, 9))
	hostile := []string{"'", "''", `"`, "`", `\`, `\'`, "\n", "\r", "\t", ";", "--", "/*", "*/", "$$", "$1", "?", "{a:String}", "@p", "%", "\x00", "\x01", "\x1f", "\x7f", "ä", "\u2028", "😀", "a", "0", " ", "(", ")", "DROP", "E'", "U&'", "\xff", "\xc3"}
	for _, d := range []engine.Database{enginetest.PostgreSQL(t, p.postgres), p.shards.Nodes[0]} {
		s := opened(t, d)
		for range 300 {
			text := ""
			for range r.IntN(12) {
				text += hostile[r.IntN(len(hostile))]
			}
			literal, name, err := inplace.Quoted(d.Engine, text)
			if err != nil {
				if d.Engine != "postgresql" || utf8.ValidString(text) && !strings.Contains(text, "\x00") {
					t.Errorf("%s: %q: %v", d.Engine, text, err)
				}
				continue
			}
			sql := "SELECT " + literal
			if d.Engine == "postgresql" {
				sql += "::text"
			}
			if got := said(t, s, sql); got != text {
				t.Fatalf("%s: %q became %q", d.Engine, text, got)
			}
			if text == "" || !utf8.ValidString(text) || strings.ContainsAny(text, "\x00") || len(text) > 60 {
				continue
			}
			if got := said(t, s, "SELECT "+name+" FROM (SELECT '1' AS "+name+") AS q"); got != "1" {
				t.Fatalf("%s: the name %q gives %q", d.Engine, text, got)
			}
		}
		_ = s.Close()
	}
}

func TestATableOfHostileNames(t *testing.T) {
	address := postgrestest.Database(t)
	conn := postgrestest.Connect(t, address)
	for _, sql := range []string{`CREATE TABLE "it's; --" ("a""b" text, "c'd\" numeric, "select" date)`, `INSERT INTO "it's; --" VALUES ('x''y', 1, '2026-01-01'), ('\', null, null), ('"', -3, '2025-01-01')`} {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	book := testkit.Book(t, `dataset: d
columns:
  - {name: 'a"b', required: true}
  - {name: 'c''d\', type: decimal}
  - {name: select, type: date}
rules:
  - {id: one, condition: "\"a\"\"b\" <> 'x''y'"}
  - {id: two, condition: "\"c'd\\\" > 0 OR \"a\"\"b\" = '\\'"}
`)
	s := opened(t, enginetest.PostgreSQL(t, address))
	defer s.Close()
	result, err := inplace.Judge(t.Context(), s, "postgresql", engine.Relation{Schema: "public", Table: "it's; --"}, book, inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if one, two := result.Finding("one"), result.Finding("two"); one == nil || one.Rows != 1 || two == nil || two.Rows != 1 {
		t.Errorf("%+v, %+v", one, two)
	}
}

// flows is a table in PostgreSQL of so many rows.
func flows(t *testing.T, rows int) (place, string) {
	t.Helper()
	address := postgrestest.Database(t)
	conn := postgrestest.Connect(t, address)
	if _, err := conn.Exec(t.Context(), fmt.Sprintf("CREATE TABLE flows AS SELECT 'AV-' || lpad((n %% 50)::text, 2, '0') AS station, n AS id, (n %% 700)::numeric / 10 AS flow FROM generate_series(1, %d) AS x(n)", rows)); err != nil {
		t.Fatal(err)
	}
	return place{"PostgreSQL", enginetest.PostgreSQL(t, address), engine.Relation{Schema: "public", Table: "flows"}}, address
}

const flowsBook = `dataset: flows
columns:
  - {name: station, required: true}
  - {name: id, type: integer, required: true}
  - {name: flow, type: decimal, to: 60}
keys:
  - {id: one, columns: [id]}
`

func TestReferencesAreJudgedWhereTheTableLies(t *testing.T) {
	at, _ := flows(t, 500)
	book := testkit.Book(t, flowsBook+"references:\n  - {id: known, columns: [station], to: {dataset: stations, columns: [name]}}\n  - {id: unknown, columns: [station], to: {dataset: none, columns: [name]}}\n")
	stations := "name\n"
	for i := range 49 {
		stations += fmt.Sprintf("AV-%02d\n", i)
	}
	book.Beside = audittest.Beside(t, map[string]string{"stations": stations}, map[string]string{"stations": "dataset: stations\ncolumns:\n  - {name: name}\n"})
	want, got := plain(t, here(t, at, book)), plain(t, there(t, at, book))
	for _, r := range []map[string]any{want, got} {
		for _, rule := range r["rules"].([]any) {
			delete(rule.(map[string]any), "unjudged") // whose words differ
		}
		delete(r, "beside")
	}
	if d := differences("", want, got); len(d) > 0 {
		t.Error(strings.Join(d, "\n"))
	}
}

func TestWhatCannotBeJudgedWhereItLies(t *testing.T) {
	at, address := flows(t, 500)
	s := opened(t, at.database)
	book := testkit.Book(t, flowsBook+"table_rules:\n  - {id: groups, check: in_order, in: flow, per: [station]}\n")
	result, err := inplace.Judge(t.Context(), s, "postgresql", at.relation, book, inplace.Options{})
	if err := errors.Join(err, s.Close()); err != nil { // a session keeps the table as it is
		t.Fatal(err)
	}
	for _, r := range result.Rules {
		if r.Rule == "groups" && !strings.Contains(r.Unjudged, "not judged where the table lies") {
			t.Errorf("%+v", r)
		}
	}
	if result.HasPassed() {
		t.Error("it passes though a rule was not judged")
	}
	conn := postgrestest.Connect(t, address)
	for _, one := range []struct {
		name, statement string
		book            string
		err             error
		says            string
	}{
		{"a column that is gone", "ALTER TABLE flows DROP COLUMN station", flowsBook, nil, ""},
		{"a table that is gone", "DROP TABLE flows", flowsBook, engine.ErrRelation, "no such table"},
	} {
		if _, err := conn.Exec(t.Context(), one.statement); err != nil {
			t.Fatal(err)
		}
		s := opened(t, at.database)
		result, err := inplace.Judge(t.Context(), s, "postgresql", at.relation, testkit.Book(t, one.book), inplace.Options{})
		_ = s.Close()
		if one.err != nil {
			if !errors.Is(err, one.err) || !strings.Contains(err.Error(), one.says) {
				t.Errorf("%s: %v", one.name, err)
			}
			continue
		}
		if err != nil || result.HasPassed() {
			t.Errorf("%s: passed, %v", one.name, err)
		}
	}
}

func TestGivingUpReachesTheServer(t *testing.T) {
	at, address := flows(t, 200_000)
	slow := engine.Relation{Query: "SELECT id, pg_sleep(0.0005)::text AS waited FROM flows"}
	book := testkit.Book(t, "dataset: flows\ncolumns:\n  - {name: id, type: integer}\n")
	s := opened(t, at.database)
	defer s.Close()
	ctx, cancel := context.WithCancel(t.Context())
	began := time.Now()
	time.AfterFunc(500*time.Millisecond, cancel)
	if _, err := inplace.Judge(ctx, s, "postgresql", slow, book, inplace.Options{}); !errors.Is(err, context.Canceled) {
		t.Errorf("it ended with %v", err)
	}
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it took %s", took)
	}
	conn := postgrestest.Connect(t, address)
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		var running int
		if err := conn.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE state = 'active' AND query LIKE '%pg_sleep%' AND pid <> pg_backend_pid()").Scan(&running); err != nil {
			t.Fatal(err)
		}
		if running == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("the server is still at work")
		}
	}
	at.database.Timeout = 1500 * time.Millisecond
	short := opened(t, at.database)
	defer short.Close()
	if _, err := inplace.Judge(t.Context(), short, "postgresql", slow, book, inplace.Options{}); !errors.Is(err, engine.ErrTimeout) {
		t.Errorf("a slow server: %v", err)
	}
	at.database.Timeout = 0
	limited := opened(t, at.database)
	defer limited.Close()
	began = time.Now()
	_, err := inplace.Judge(t.Context(), limited, "postgresql", slow, book, inplace.Options{Budget: 700 * time.Millisecond})
	if !errors.Is(err, inplace.ErrBudget) || !strings.Contains(err.Error(), "were put in 700ms, the last one about") || time.Since(began) > 5*time.Second {
		t.Errorf("over its budget after %s: %v", time.Since(began), err)
	}
	if _, err := inplace.Judge(t.Context(), opened(t, at.database), "postgresql", at.relation, testkit.Book(t, flowsBook), inplace.Options{Budget: time.Minute}); err != nil {
		t.Errorf("within its budget: %v", err)
	}
}

func TestAServerThatGoes(t *testing.T) {
	p := startPlaces(t)
	p.shards = enginetest.StartClickHouse(t, 3)
	at := p.lay(t, madeUp(rand.New(rand.NewPCG(1, 1)), 60))[3]
	book, err := rulebook.Parse([]byte("dataset: visits\ncolumns:\n  - {name: id, type: integer}\n"))
	if err != nil {
		t.Fatal(err)
	}
	s := opened(t, at.database)
	defer s.Close()
	asked := 0
	_, err = inplace.Judge(t.Context(), s, "clickhouse", at.relation, book, inplace.Options{Tell: func(string, string) {
		if asked++; asked == 4 {
			p.shards.Kill(0)
			time.Sleep(300 * time.Millisecond)
		}
	}})
	if err == nil {
		t.Error("it was judged by a server that is gone")
	}
	other := at
	other.database = p.shards.Nodes[1]
	if _, err := engine.Open(t.Context(), at.database); !errors.Is(err, engine.ErrReached) && !errors.Is(err, engine.ErrGone) {
		t.Errorf("a server that is gone: %v", err)
	}
}

func TestATableThatChangesWhileItIsJudged(t *testing.T) {
	p := startPlaces(t)
	at := p.lay(t, madeUp(rand.New(rand.NewPCG(2, 1)), 60))[2]
	s := opened(t, at.database)
	defer s.Close()
	asked := 0
	_, err := inplace.Judge(t.Context(), s, "clickhouse", at.relation, testkit.Book(t, "dataset: visits\ncolumns:\n  - {name: id, type: integer}\n"), inplace.Options{Tell: func(string, string) {
		if asked++; asked == 5 {
			p.shards.Do(t, 0, "INSERT INTO "+at.relation.Table+" SELECT * FROM "+at.relation.Table+" LIMIT 3")
		}
	}})
	if !errors.Is(err, inplace.ErrChanged) {
		t.Errorf("%v", err)
	}
}

func TestTablesAtTheirLimits(t *testing.T) {
	p := startPlaces(t)
	conn := postgrestest.Connect(t, p.postgres)
	for _, sql := range []string{"CREATE TABLE none (id integer, flow numeric(6,2), noted timestamptz, said text)", "CREATE TABLE odd (fixed character(5), several integer[], spelt json, flow numeric, far timestamp)",
		"INSERT INTO odd VALUES ('AB', '{1,2}', '{\"a\": 1}', 'NaN', 'infinity'), ('AB', null, null, 1.50, '2026-01-01 10:00:00.25'), (null, '{}', '[]', 1.5, '0044-03-15 BC')",
		"CREATE TABLE wrong AS SELECT n AS id, 'about ' || n AS said, CASE WHEN n % 2 = 0 THEN n::text ELSE 'x' || n END AS mixed FROM generate_series(1, 60000) AS x(n)"} {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	p.shards.Do(t, 0, "CREATE TABLE none (id Nullable(Int32), flow Decimal(6, 2), noted DateTime, said String) ENGINE = MergeTree() ORDER BY tuple()",
		"CREATE TABLE wrong ENGINE = MergeTree() ORDER BY tuple() AS SELECT toInt32(number + 1) AS id, concat('about ', toString(number + 1)) AS said, if(number % 2 = 1, toString(number + 1), concat('x', toString(number + 1))) AS mixed FROM system.numbers LIMIT 60000")
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: id, type: integer}\n  - {name: said, type: decimal}\n  - {name: mixed, type: integer, to: 30000}\nrules:\n  - {id: half, condition: mixed > 100}\n  - {id: never, condition: said > 3}\n")
	empty := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: id, type: integer, required: true}\n  - {name: flow, type: decimal, from: 1}\n  - {name: noted, type: datetime}\n  - {name: said, pattern: \"a+\"}\nkeys:\n  - {id: k, columns: [id]}\nequal_rows: {severity: minor}\nmeasures: [flow]\n")
	odd := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: fixed, shortest: 3}\n  - {name: several}\n  - {name: spelt}\n  - {name: flow, type: decimal}\n  - {name: far, type: datetime}\nkeys:\n  - {id: k, columns: [flow], may_lack_parts: true}\n")
	postgres, shard := enginetest.PostgreSQL(t, p.postgres), p.shards.Nodes[0]
	for _, one := range []struct {
		at   place
		book *rulebook.Rulebook
	}{
		{place{"nothing in PostgreSQL", postgres, engine.Relation{Schema: "public", Table: "none"}}, empty}, {place{"nothing in ClickHouse", shard, engine.Relation{Schema: "default", Table: "none"}}, empty},
		{place{"odd types of PostgreSQL", postgres, engine.Relation{Schema: "public", Table: "odd"}}, odd},
		{place{"60,000 wrong texts in PostgreSQL", postgres, engine.Relation{Schema: "public", Table: "wrong"}}, book}, {place{"60,000 wrong texts in ClickHouse", shard, engine.Relation{Schema: "default", Table: "wrong"}}, book},
	} {
		want, got := plain(t, here(t, one.at, one.book)), plain(t, there(t, one.at, one.book))
		if d := differences("", want, got); len(d) > 0 {
			t.Errorf("%s:\n%s", one.at.name, strings.Join(d[:min(len(d), 10)], "\n"))
		}
	}
}

// Of several rows that are alike the first one after a gap breaks the rule, which nothing tells there: it is unjudged, and has found nothing.
func TestAnUnjudgedRuleHasFoundNothing(t *testing.T) {
	at, _ := flows(t, 20)
	s := opened(t, at.database)
	defer s.Close()
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: k, type: integer}\ntable_rules:\n  - {id: gaps, check: no_gaps, in: k, step: \"1\"}\n")
	result, err := inplace.Judge(t.Context(), s, "postgresql", engine.Relation{Query: "SELECT (id % 5) * 3 AS k FROM flows"}, book, inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if f := result.Finding("gaps"); f != nil || result.Judges("gaps") || result.HasPassed() {
		t.Errorf("%+v, %+v", f, result.Rules)
	}
}

// What the server takes and cannot work out on the rows that are there is left unjudged; all else is judged.
func TestARuleThatGrowsTooLargeIsLeftAlone(t *testing.T) {
	p := startPlaces(t)
	p.shards.Do(t, 0, "CREATE TABLE large (id String, n Int64) ENGINE = Memory", "INSERT INTO large SELECT toString(number), toInt64(9000000000000000000) + number FROM system.numbers LIMIT 70000")
	defer p.shards.Do(t, 0, "DROP TABLE large")
	book := testkit.Book(t, `dataset: large
columns:
  - {name: id, required: true}
  - {name: n, type: integer}
rules:
  - {id: product, condition: n * n * n * n * n > 7}
  - {id: first, condition: "id = '0'"}
`)
	s := opened(t, p.shards.Nodes[0])
	defer s.Close()
	result, err := inplace.Judge(t.Context(), s, "clickhouse", engine.Relation{Schema: "default", Table: "large"}, book, inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range result.Rules {
		if unjudged := strings.Contains(rule.Unjudged, "overflow"); unjudged != (rule.Rule == "product") || rule.Unjudged != "" && !unjudged {
			t.Errorf("%s: %q", rule.Rule, rule.Unjudged)
		}
	}
	// 70,000 times nine million million million, and the numbers from 0 to 69,999
	if sum := result.Columns[1].Sum; sum != "630000000000002449965000" {
		t.Errorf("the sum is %s", sum)
	}
	if f := result.Finding("first"); f == nil || f.Rows != 69_999 || result.Finding("product") != nil || result.HasPassed() {
		t.Errorf("%+v, %+v", f, result.Finding("product"))
	}
}

// An answer that was refused leaves a session good for the next question.
func TestASessionGoesOnAfterARefusal(t *testing.T) {
	p := startPlaces(t)
	for _, d := range []engine.Database{enginetest.PostgreSQL(t, p.postgres), p.shards.Nodes[0]} {
		s := opened(t, d)
		defer s.Close()
		for range 3 {
			rows, err := s.Ask(t.Context(), "SELECT intDiv(1, 0)")
			if d.Engine == "postgresql" {
				_ = rows.Close()
				rows, err = s.Ask(t.Context(), "SELECT 1 / 0")
			}
			if err == nil {
				if _, err = rows.Next(); err == nil {
					t.Errorf("%s divides by nothing", d.Engine)
				}
				_ = rows.Close()
			}
			if err != nil && !errors.Is(err, engine.ErrQuery) {
				t.Errorf("%s: %v", d.Engine, err)
			}
			sql := "SELECT '1'"
			if got := said(t, s, sql); got != "1" {
				t.Errorf("%s: %q", d.Engine, got)
			}
		}
	}
}

func TestNumbersThatTheServerWouldWriteWronglyAreNotJudged(t *testing.T) {
	p := startPlaces(t)
	p.shards.Do(t, 0, "CREATE TABLE wide (id String, d Decimal(38,10)) ENGINE = Memory", "INSERT INTO wide SELECT 'a', toDecimal128('999999999999999999999.5', 10)")
	defer p.shards.Do(t, 0, "DROP TABLE wide")
	at := engine.Relation{Schema: "default", Table: "wide"}
	book := testkit.Book(t, "dataset: wide\ncolumns:\n  - {name: id}\n  - {name: d, type: decimal}\n")
	s := opened(t, p.shards.Nodes[0])
	defer s.Close()
	if _, err := inplace.Judge(t.Context(), s, "clickhouse", at, book, inplace.Options{}); err != nil {
		t.Errorf("21 digits: %v", err)
	}
	p.shards.Do(t, 0, "INSERT INTO wide SELECT 'b', toDecimal128('-1000000000000000000000', 10)")
	if _, err := inplace.Judge(t.Context(), s, "clickhouse", at, book, inplace.Options{}); !errors.Is(err, engine.ErrQuery) || !strings.Contains(err.Error(), `"d" has 1 number that`) {
		t.Errorf("22 digits: %v", err)
	}
	if _, err := inplace.Identify(t.Context(), s, "clickhouse", at); !errors.Is(err, engine.ErrQuery) {
		t.Errorf("22 digits: %v", err)
	}
}

func TestWhatWouldBeAskedIsWhatIsAsked(t *testing.T) {
	at, _ := flows(t, 500)
	book := testkit.Book(t, flowsBook+"rules:\n  - {id: low, condition: flow < 50 OR id > 400}\n")
	s := opened(t, at.database)
	defer s.Close()
	plan, err := inplace.Foresee(t.Context(), s, "postgresql", at.relation, book, inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	other := opened(t, at.database)
	defer other.Close()
	result, err := inplace.Judge(t.Context(), other, "postgresql", at.relation, book, inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if !plan.Whole || plan.Rows != 500 || len(plan.Questions) != len(result.There.Statements) || len(plan.Questions) < 6 {
		t.Fatalf("%d questions of %d, by %d rows", len(plan.Questions), len(result.There.Statements), plan.Rows)
	}
	for i, q := range plan.Questions {
		if q.SQL != result.There.Statements[i].SQL || q.Says != result.There.Statements[i].Says || !strings.HasPrefix(q.Estimate, "cost=") {
			t.Errorf("%s\nwould be asked:\n%s (%s)\nand is:\n%s", q.Says, q.SQL, q.Estimate, result.There.Statements[i].SQL)
		}
	}
}

// Of a large table the first rows are read, and the engine is asked about all.
func TestAPlanReadsTheFirstRows(t *testing.T) {
	at, _ := flows(t, 450_000)
	s := opened(t, at.database)
	defer s.Close()
	plan, err := inplace.Foresee(t.Context(), s, "postgresql", at.relation, testkit.Book(t, flowsBook), inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if plan.Whole || plan.Rows != 200_000 {
		t.Errorf("%+v", plan)
	}
	for _, q := range plan.Questions {
		if strings.Contains(q.SQL, "LIMIT 200000) AS sieve_first") || !strings.Contains(q.SQL, `"public"."flows"`) {
			t.Errorf("%s: %s", q.Says, q.SQL)
		}
	}
}

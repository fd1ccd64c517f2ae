package engine_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

func opened(t *testing.T, d engine.Database) engine.Session {
	t.Helper()
	s, err := engine.Open(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// took takes a relation, and returns its records.
func took(t *testing.T, d engine.Database, r engine.Relation) ([][]string, *engine.Taken) {
	t.Helper()
	var out bytes.Buffer
	taken, err := engine.Take(t.Context(), opened(t, d), r, engine.Limits{}, &out)
	if err != nil {
		t.Fatal(err)
	}
	records, err := csv.NewReader(&out).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return records, taken
}

func told(records [][]string) string {
	var lines []string
	for _, r := range records {
		lines = append(lines, strings.Join(r, "|"))
	}
	return strings.Join(lines, "\n")
}

func TestATableOfPostgreSQLIsTaken(t *testing.T) {
	address := postgrestest.Database(t)
	d, conn := enginetest.PostgreSQL(t, address), postgrestest.Connect(t, address)
	for _, s := range []string{
		`CREATE SCHEMA "Vale"`,
		`CREATE TABLE "Vale"."field visits" (id bigint, "site ""name""" text, depth numeric(8,3), x double precision, day date, at timestamp, seen timestamptz, dry boolean, tags text[], raw bytea, none int)`,
		`INSERT INTO "Vale"."field visits" VALUES
			(1, 'north, "old" bridge', 1.500, 0.1, '2024-02-29', '2024-02-29 10:00:00.25', '2024-02-29 12:00:00+02', true, '{a,"b,c"}', '\x00ff', null),
			(2, '', null, 1e-7, null, '1969-12-31 23:59:59', null, false, null, null, null),
			(3, E'two\nlines', -12345.678, 'NaN', '0044-03-15 BC', null, null, null, '{}', '', null)`,
	} {
		if _, err := conn.Exec(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	records, taken := took(t, d, engine.Relation{Schema: "Vale", Table: "field visits"})
	want := `id|site "name"|depth|x|day|at|seen|dry|tags|raw|none
1|north, "old" bridge|1.500|0.1|2024-02-29|2024-02-29 10:00:00.250|2024-02-29 10:00:00Z|true|{a,"b,c"}|\x00ff|
2|||1e-07||1969-12-31 23:59:59||false|||
3|two
lines|-12345.678|NaN|0044-03-15 BC||||{}|\x|`
	if got := told(records); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if taken.Rows != 3 || taken.Snapshot == "" || !strings.HasPrefix(taken.Server, "PostgreSQL ") || taken.Relation != "Vale.field visits" || len(taken.EmptyTexts) != 1 || taken.EmptyTexts[`site "name"`] != 1 {
		t.Errorf("%+v", taken)
	}
	if got := fmt.Sprint(taken.Columns); !strings.Contains(got, "{depth numeric(8,3) false}") || !strings.Contains(got, "{seen timestamp with time zone false}") || !strings.Contains(got, "{tags text[] true}") || strings.Count(got, "true}") != 3 {
		t.Errorf("the columns are %s", got)
	}
	records, _ = took(t, d, engine.Relation{Query: `SELECT none FROM "Vale"."field visits" -- a column of nulls`})
	if len(records) != 4 {
		t.Errorf("of three nulls alone in their rows are %q", records)
	}
	tables, err := opened(t, d).Tables(t.Context())
	if err != nil || len(tables) != 1 || tables[0].Schema != "Vale" || tables[0].Name != "field visits" {
		t.Errorf("the tables are %v, %v", tables, err)
	}
}

func TestATableOfClickHouseIsTaken(t *testing.T) {
	c := enginetest.StartClickHouse(t, 3)
	for node := range c.Nodes {
		c.Do(t, node, "CREATE DATABASE vale",
			"CREATE TABLE vale.visits (id UInt64, `site \\`name\\`` Nullable(String), depth Nullable(Decimal(8, 3)), x Float64, day Date, seen DateTime('Europe/Berlin'), code FixedString(4), kind Enum8('a' = 1, 'b' = 2), tags Array(String)) ENGINE = MergeTree ORDER BY id",
			"CREATE TABLE vale.all AS vale.visits ENGINE = Distributed(vale, vale, visits)")
	}
	c.Do(t, 0, `INSERT INTO vale.visits SELECT 1, 'north, "old" bridge', toDecimal32('1.5', 3), 0.1, toDate('2024-02-29'), toDateTime('2024-02-29 10:00:00', 'UTC'), toFixedString('ab', 4), 'a', ['x', 'y']`)
	c.Do(t, 1, `INSERT INTO vale.visits SELECT 2, '', NULL, 1e-7, toDate('1999-12-31'), toDateTime('2024-07-01 10:00:00', 'UTC'), toFixedString('abcd', 4), 'b', []`)
	c.Do(t, 2, `INSERT INTO vale.visits SELECT 3, NULL, toDecimal32('-12345.678', 3), -2, toDate('2024-03-01'), toDateTime('2024-03-01 00:00:00', 'UTC'), toFixedString('', 4), 'a', []`)
	want := `id|site ` + "`name`" + `|depth|x|day|seen|code|kind|tags
1|north, "old" bridge|1.500|0.1|2024-02-29|2024-02-29 10:00:00Z|ab|a|['x','y']
2|||1e-7|1999-12-31|2024-07-01 10:00:00Z|abcd|b|[]
3||-12345.678|-2|2024-03-01|2024-03-01 00:00:00Z||a|[]`
	reader := c.Nodes[0]
	reader.User, reader.Password = enginetest.Reader, enginetest.ReaderPassword
	for name, d := range map[string]engine.Database{"who may do all": c.Nodes[0], "who may only read": reader} {
		records, taken := took(t, d, engine.Relation{Query: "SELECT * FROM vale.all ORDER BY id; "})
		if got := told(records); got != want {
			t.Errorf("%s: %s\nwant\n%s", name, got, want)
		}
		if taken.Rows != 3 || !strings.HasPrefix(taken.Server, "ClickHouse ") || taken.EmptyTexts["site `name`"] != 1 || taken.EmptyTexts["code"] != 1 {
			t.Errorf("%s: %+v", name, taken)
		}
	}
	records, taken := took(t, c.Nodes[1], engine.Relation{Schema: "vale", Table: "visits"})
	if len(records) != 2 || taken.Relation != "vale.visits" || fmt.Sprint(taken.Columns[2]) != "{depth Nullable(Decimal(8, 3)) false}" || strings.Count(fmt.Sprint(taken.Columns), "true}") != 4 {
		t.Errorf("%q, %+v", records, taken)
	}
	tables, err := opened(t, reader).Tables(t.Context())
	if err != nil || fmt.Sprint(tables) != "[{vale all false -1} {vale visits false -1}]" {
		t.Errorf("the tables are %v, %v", tables, err)
	}
}

// A session writes nothing, whoever's it is and whatever the query says.
func TestNothingIsWritten(t *testing.T) {
	address := postgrestest.Database(t)
	pg, conn := enginetest.PostgreSQL(t, address), postgrestest.Connect(t, address)
	if _, err := conn.Exec(t.Context(), "CREATE TABLE visits (id int); INSERT INTO visits VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	c := enginetest.StartClickHouse(t, 1)
	c.Do(t, 0, "CREATE TABLE visits (id Int32) ENGINE = Log", "INSERT INTO visits SELECT 1")
	for _, d := range []engine.Database{pg, c.Nodes[0]} {
		for _, query := range []string{
			"DELETE FROM visits", "DELETE FROM visits RETURNING id", "WITH gone AS (DELETE FROM visits RETURNING id) SELECT id FROM gone", "SELECT 1; DROP TABLE visits", "COMMIT", "ROLLBACK; DELETE FROM visits",
			"INSERT INTO visits VALUES (2)", "INSERT INTO visits SELECT 2", "DROP TABLE visits", "CREATE TABLE more (id int)", "SELECT id INTO more FROM visits", "ALTER TABLE visits ADD COLUMN b Int32", "TRUNCATE TABLE visits",
			"SELECT set_config('transaction_read_only', 'off', false) FROM (SELECT 1) AS x", "SELECT 1) ; DROP TABLE visits; SELECT (1", "SELECT 1) TO PROGRAM 'touch /tmp/x' --", "EXPLAIN ANALYZE DELETE FROM visits",
			"SELECT * FROM visits FOR UPDATE", "SELECT 1 INTO OUTFILE '/tmp/x'", "SET readonly = 0", "", " ", "--", "SELECT",
		} {
			s := opened(t, d)
			if _, err := engine.Take(t.Context(), s, engine.Relation{Query: query + "\n"}, engine.Limits{}, &bytes.Buffer{}); err == nil && !strings.Contains(query, "set_config") {
				t.Errorf("%s takes %q", d.Engine, query)
			} else if err != nil && (!errors.Is(err, engine.ErrQuery) && !errors.Is(err, engine.ErrRelation) || strings.Contains(err.Error(), "\n")) {
				t.Errorf("%s: %q is refused by %v", d.Engine, query, err)
			}
			_ = s.Close()
		}
		records, _ := took(t, d, engine.Relation{Query: "SELECT count(*) AS n, sum(id) AS s FROM visits"})
		if got := told(records); got != "n|s\n1|1" {
			t.Errorf("%s: what is left is %s", d.Engine, got)
		}
		tables, err := opened(t, d).Tables(t.Context())
		if err != nil || len(tables) != 1 {
			t.Errorf("%s: the tables are %v, %v", d.Engine, tables, err)
		}
	}
}

func TestNamesAreQuoted(t *testing.T) {
	pg := enginetest.PostgreSQL(t, postgrestest.Database(t))
	c := enginetest.StartClickHouse(t, 1)
	for _, d := range []engine.Database{pg, c.Nodes[0]} {
		for _, name := range []string{`a"; DROP TABLE x; --`, "a`; DROP TABLE x; --", `a\`, "a\\` b", "a'b", "a.b", "--", "/*", "ä", "%s", "$1", "{a:String}", "?"} {
			_, err := engine.Take(t.Context(), opened(t, d), engine.Relation{Schema: name, Table: name}, engine.Limits{}, &bytes.Buffer{})
			if !errors.Is(err, engine.ErrRelation) && !errors.Is(err, engine.ErrRefused) {
				t.Errorf("%s: %q: %v", d.Engine, name, err)
			}
		}
	}
}

func TestLimitsAreHeeded(t *testing.T) {
	pg := enginetest.PostgreSQL(t, postgrestest.Database(t))
	c := enginetest.StartClickHouse(t, 1)
	many := map[string]string{"postgresql": "SELECT n, 'row of some length' AS text FROM generate_series(1, 3000000) AS x(n)",
		"clickhouse": "SELECT number AS n, 'row of some length' AS text FROM system.numbers LIMIT 3000000"}
	forever := map[string]string{"postgresql": "SELECT pg_sleep(60)", "clickhouse": "SELECT sum(sleep(1)) FROM system.numbers LIMIT 1"}
	for _, d := range []engine.Database{pg, c.Nodes[0]} {
		for _, l := range []engine.Limits{{Rows: 1000}, {Bytes: 1 << 20}} {
			started := time.Now()
			_, err := engine.Take(t.Context(), opened(t, d), engine.Relation{Query: many[d.Engine]}, l, &bytes.Buffer{})
			if !errors.Is(err, engine.ErrLimit) || time.Since(started) > 10*time.Second {
				t.Errorf("%s: %+v gives %v after %s", d.Engine, l, err, time.Since(started))
			}
		}
		short := d
		short.Timeout = time.Second
		started := time.Now()
		_, err := engine.Take(t.Context(), opened(t, short), engine.Relation{Query: forever[d.Engine]}, engine.Limits{}, &bytes.Buffer{})
		if !errors.Is(err, engine.ErrTimeout) || time.Since(started) > 20*time.Second {
			t.Errorf("%s: what takes too long gives %v after %s", d.Engine, err, time.Since(started))
		}
	}
}

// Who gives up has the server give up as well.
func TestGivingUpReachesTheServer(t *testing.T) {
	pg := enginetest.PostgreSQL(t, postgrestest.Database(t))
	c := enginetest.StartClickHouse(t, 1)
	forever := map[string]string{"postgresql": "SELECT pg_sleep(60) AS known_by_this", "clickhouse": "SELECT sum(sleep(1)) AS known_by_this FROM system.numbers"}
	running := map[string]string{"postgresql": "SELECT count(*) AS n FROM pg_stat_activity WHERE query LIKE '%known_by_this%' AND state = 'active' AND pid <> pg_backend_pid()",
		"clickhouse": "SELECT count(*) AS n FROM system.processes WHERE query LIKE '%known_by_this%' AND query NOT LIKE '%processes%'"}
	for _, d := range []engine.Database{pg, c.Nodes[0]} {
		ctx, cancel := context.WithCancel(t.Context())
		s := opened(t, d)
		done := make(chan error)
		go func() {
			_, err := engine.Take(ctx, s, engine.Relation{Query: forever[d.Engine]}, engine.Limits{}, &bytes.Buffer{})
			done <- err
		}()
		await := func(want string) {
			for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
				records, _ := took(t, d, engine.Relation{Query: running[d.Engine]})
				if records[1][0] == want {
					return
				}
				if time.Now().After(deadline) {
					t.Fatalf("%s: %s are running, want %s", d.Engine, records[1][0], want)
				}
			}
		}
		await("1")
		cancel()
		select {
		case err := <-done:
			if !errors.Is(err, context.Canceled) {
				t.Errorf("%s: %v", d.Engine, err)
			}
		case <-time.After(5 * time.Second):
			t.Fatalf("%s: it goes on", d.Engine)
		}
		await("0")
	}
}

func TestWhatCannotBeReachedOrEnteredIsSaid(t *testing.T) {
	pg := enginetest.PostgreSQL(t, postgrestest.Database(t))
	c := enginetest.StartClickHouse(t, 1)
	for _, d := range []engine.Database{pg, c.Nodes[0]} {
		for name, change := range map[string]struct {
			to   func(*engine.Database)
			want error
		}{
			"a port where nobody listens":  {func(d *engine.Database) { d.Port = 1 }, engine.ErrReached},
			"a database that is not there": {func(d *engine.Database) { d.Name = "nowhere" }, engine.ErrRefused},
			"a user who is not there":      {func(d *engine.Database) { d.User = "nobody at all" }, engine.ErrRefused},
			"another kind":                 {func(d *engine.Database) { d.Engine = "a card index" }, engine.ErrKind},
		} {
			wrong := d
			change.to(&wrong)
			s, err := engine.Open(t.Context(), wrong)
			if err == nil {
				err = s.Close()
			}
			if !errors.Is(err, change.want) || wrong.Password != "" && strings.Contains(err.Error(), wrong.Password) {
				t.Errorf("%s, %s: %v", d.Engine, name, err)
			}
		}
	}
	// Each is taken for the other.
	wrong := pg
	wrong.Engine = "clickhouse"
	if _, err := engine.Open(t.Context(), wrong); !errors.Is(err, engine.ErrReached) {
		t.Errorf("PostgreSQL as ClickHouse: %v", err)
	}
	wrong = c.Nodes[0]
	wrong.Engine = "postgresql"
	if _, err := engine.Open(t.Context(), wrong); !errors.Is(err, engine.ErrReached) {
		t.Errorf("ClickHouse as PostgreSQL: %v", err)
	}
	reader := c.Nodes[0]
	reader.User, reader.Password = enginetest.Reader, "not that"
	if _, err := engine.Open(t.Context(), reader); !errors.Is(err, engine.ErrRefused) || strings.Contains(err.Error(), "not that") {
		t.Errorf("a wrong password: %v", err)
	}
}

// ending ends something once the first bytes are written.
type ending struct {
	bytes.Buffer
	end func()
}

func (e *ending) Write(p []byte) (int, error) {
	if e.end != nil {
		e.end()
		e.end = nil
	}
	return e.Buffer.Write(p)
}

// A server that ends in the midst of a table is told of, and what came by then is not taken for the table.
func TestAServerThatEndsInTheMidstIsSaid(t *testing.T) {
	address := postgrestest.Database(t)
	pg, conn := enginetest.PostgreSQL(t, address), postgrestest.Connect(t, address)
	out := &ending{end: func() {
		if _, err := conn.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'proudsieve' AND datname = current_database()"); err != nil {
			t.Error(err)
		}
	}}
	taken, err := engine.Take(t.Context(), opened(t, pg), engine.Relation{Query: "SELECT n, repeat('x', 1000) AS text FROM generate_series(1, 300000) AS x(n)"}, engine.Limits{}, out)
	if taken != nil || !errors.Is(err, engine.ErrGone) || !strings.Contains(err.Error(), "after ") {
		t.Errorf("PostgreSQL: %+v, %v", taken, err)
	}
	c := enginetest.StartClickHouse(t, 1)
	out = &ending{end: func() { c.Kill(0) }}
	taken, err = engine.Take(t.Context(), opened(t, c.Nodes[0]), engine.Relation{Query: "SELECT number, 'some text of its own' AS text FROM system.numbers LIMIT 30000000"}, engine.Limits{}, out)
	if taken != nil || !errors.Is(err, engine.ErrGone) && !errors.Is(err, engine.ErrReached) || !strings.Contains(err.Error(), "after ") {
		t.Errorf("ClickHouse: %+v, %v", taken, err)
	}
}

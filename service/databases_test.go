package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/access"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// lake is a database of somebody else's, in which the laboratory keeps its results.
func lake(t *testing.T, statements ...string) records.NewDatabase {
	t.Helper()
	address := postgrestest.Database(t)
	conn := postgrestest.Connect(t, address)
	for _, s := range statements {
		if _, err := conn.Exec(ctx, s); err != nil {
			t.Fatal(err)
		}
	}
	d := enginetest.PostgreSQL(t, address)
	t.Setenv("PROUDSIEVE_SECRET_LAKE_PASSWORD", d.Password)
	return records.NewDatabase{Name: "lake", Engine: d.Engine, Host: d.Host, Port: d.Port, Database: d.Name, Login: d.User, Secret: "lake-password"}
}

// addressOf is where a database of lake is written to.
func addressOf(d records.NewDatabase) string {
	return fmt.Sprintf("postgres://%s:%s@%s:%d/%s?sslmode=disable", d.Login, os.Getenv("PROUDSIEVE_SECRET_LAKE_PASSWORD"), d.Host, d.Port, d.Database)
}

func declared(t *testing.T, r *servicetest.Running, d records.NewDatabase) *records.Database {
	t.Helper()
	made, err := r.Admin.AddDatabase(ctx, d)
	if err != nil {
		t.Fatal(err)
	}
	return made
}

func TestDeliveriesAreTakenFromADatabase(t *testing.T) {
	d := lake(t, "CREATE SCHEMA vale", "CREATE TABLE vale.results (sample text, value numeric(6,2))", "INSERT INTO vale.results VALUES ('S1', 1.50), ('S2', null), ('', 3)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	made := declared(t, r, d)
	if made.TimeoutMinutes != 30 || made.Port != d.Port {
		t.Errorf("%+v", made)
	}
	tried, err := client.Decode[api.TriedDatabase](r.Steward.TryDatabase(ctx, "lake"))
	if err != nil || !tried.Reached || !strings.Contains(tried.Says, "PostgreSQL") || !strings.Contains(tried.Says, "1 table") {
		t.Errorf("%+v, %v", tried, err)
	}
	tables, err := r.Steward.ListDatabaseTables(ctx, "lake")
	if err != nil || len(*tables) != 1 || (*tables)[0].Name != "results" {
		t.Errorf("%v, %v", tables, err)
	}
	take := func(of records.Relation) (*records.Fetch, *records.Job) {
		t.Helper()
		of.Database = "lake"
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: of, SourceNotes: records.SourceNotes{Provider: "the laboratory"}})
		if err != nil {
			t.Fatal(err)
		}
		job, err := fetched(t, r, f.Job)
		if err != nil {
			t.Fatal(err)
		}
		return &f.Fetch, job
	}
	f, job := take(records.Relation{Schema: "vale", Table: "results"})
	if f.Address != "lake: vale.results" || job.ResultTable == nil {
		t.Fatalf("%+v, %+v", f, job)
	}
	table, err := r.Steward.ShowTable(ctx, *job.ResultTable)
	if err != nil {
		t.Fatal(err)
	}
	if table.FileName != "vale.results.csv" {
		t.Errorf("it is called %s", table.FileName)
	}
	var source struct {
		Provider, Database string
		Taken              engine.Taken
	}
	if err := json.Unmarshal(table.Source, &source); err != nil {
		t.Fatal(err)
	}
	taken := source.Taken
	if source.Provider != "the laboratory" || source.Database != "lake" || taken.Relation != "vale.results" || taken.Rows != 3 || taken.EmptyTexts["sample"] != 1 || taken.Snapshot == "" ||
		!strings.HasPrefix(taken.Server, "PostgreSQL ") || len(taken.Columns) != 2 || taken.Columns[1] != (engine.Column{Name: "value", Type: "numeric(6,2)"}) {
		t.Errorf("the source is %s", table.Source)
	}
	if strings.Contains(string(table.Source), os.Getenv("PROUDSIEVE_SECRET_LAKE_PASSWORD")) {
		t.Error("the source has the password")
	}
	if _, job = take(records.Relation{Schema: "vale", Table: "results"}); !strings.Contains(string(*job.Result), `"known"`) {
		t.Errorf("the same rows once more are %s", *job.Result)
	}
	if _, job = take(records.Relation{Query: "SELECT sample, sum(value) AS value FROM vale.results GROUP BY sample ORDER BY sample"}); !strings.Contains(string(*job.Result), "It has 3 rows as of") {
		t.Errorf("a query gives %s", *job.Result)
	}
	// What is declared stays what was taken when it is removed, and nothing more comes from it.
	if err := r.Admin.RemoveDatabase(ctx, "lake"); err != nil {
		t.Fatal(err)
	}
	_, err = r.Steward.RunFetch(ctx, f.ID)
	refused(t, "a database", err, http.StatusUnprocessableEntity, "has ended")
	if table, err = r.Steward.ShowTable(ctx, table.ID); err != nil || table.Dataset != "samples" {
		t.Errorf("%+v, %v", table, err)
	}
}

func TestDeliveriesAreTakenFromShards(t *testing.T) {
	c := enginetest.StartClickHouse(t, 3)
	for node := range c.Nodes {
		c.Do(t, node, "CREATE DATABASE vale", "CREATE TABLE vale.results (sample String, value Nullable(Decimal(6, 2))) ENGINE = MergeTree ORDER BY sample",
			"CREATE TABLE vale.all AS vale.results ENGINE = Distributed(vale, vale, results)",
			fmt.Sprintf("INSERT INTO vale.results SELECT concat('S', toString(number * 3 + %d)), toDecimal32(number, 2) FROM system.numbers LIMIT 1000", node))
	}
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	secret := filepath.Join(service.SecretsFolder(r.Directory), "reader")
	if err := os.Mkdir(filepath.Dir(secret), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(secret, []byte(enginetest.ReaderPassword+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	declared(t, r, records.NewDatabase{Name: "shards", Engine: "clickhouse", Host: "127.0.0.1", Port: c.Nodes[1].Port, Database: "vale", Login: enginetest.Reader, Secret: "reader", RowLimit: 3000})
	f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: records.Relation{Database: "shards", Schema: "vale", Table: "all"}})
	if err != nil {
		t.Fatal(err)
	}
	job, err := fetched(t, r, f.Job)
	if err != nil || job.ResultTable == nil {
		t.Fatalf("%+v, %v", job, err)
	}
	if audit := audited(t, r.Steward, *job.ResultTable); audit.Rows != 3000 {
		t.Errorf("%d rows are audited, want 3000", audit.Rows)
	}
	c.Do(t, 2, "INSERT INTO vale.results SELECT 'one more', NULL")
	if job, err = r.Steward.RunFetch(ctx, f.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := fetched(t, r, job); err == nil || !strings.Contains(err.Error(), "more than 3000 rows") || !strings.Contains(err.Error(), "nothing was kept") {
		t.Errorf("more rows than may be taken: %v", err)
	}
}

func TestWhatKeepsADatabaseFromBeingReadIsSaid(t *testing.T) {
	d := lake(t, "CREATE TABLE results (sample text, value int)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	for says, change := range map[string]func(*records.NewDatabase){
		"is no engine known here":  func(d *records.NewDatabase) { d.Engine = "a card index" },
		"is no name of a secret":   func(d *records.NewDatabase) { d.Secret = "../signing-key.json" },
		"is no name of a host":     func(d *records.NewDatabase) { d.Host = "name:password@host" },
		"expected string to match": func(d *records.NewDatabase) { d.Name = "Lake of all" },
		"expected length >= 1":     func(d *records.NewDatabase) { d.Login = "" },
		"expected number <= 65535": func(d *records.NewDatabase) { d.Port = 70_000 },
		"expected number >= 0":     func(d *records.NewDatabase) { d.RowLimit = -1 },
	} {
		wrong := d
		change(&wrong)
		_, err := r.Admin.AddDatabase(ctx, wrong)
		refused(t, says, err, http.StatusUnprocessableEntity, says)
	}
	declared(t, r, d)
	_, err := r.Admin.AddDatabase(ctx, d)
	refused(t, "a database", err, http.StatusConflict, "already")
	for says, change := range map[string]func(*records.NewDatabase){
		"has no secret":        func(d *records.NewDatabase) { d.Secret = "another" },
		"could not be reached": func(d *records.NewDatabase) { d.Port = 1 },
		"refused the user":     func(d *records.NewDatabase) { d.Login = "nobody" },
		"refused the user or":  func(d *records.NewDatabase) { d.Database = "nowhere" },
	} {
		wrong := d
		wrong.Name = fmt.Sprintf("wrong-%d", len(says))
		change(&wrong)
		declared(t, r, wrong)
		tried, err := client.Decode[api.TriedDatabase](r.Steward.TryDatabase(ctx, wrong.Name))
		if err != nil || tried.Reached || !strings.Contains(tried.Says, says) {
			t.Errorf("%+v, %v, want %q", tried, err, says)
		}
		_, err = r.Steward.ListDatabaseTables(ctx, wrong.Name)
		refused(t, says, err, http.StatusUnprocessableEntity, says)
	}
	for says, of := range map[string]records.NewFetch{
		"say which one":     {Relation: records.Relation{Query: "SELECT 1"}},
		"not from both":     {Address: "https://example.org/a.csv", Relation: records.Relation{Database: "lake", Query: "SELECT 1"}},
		"a table":           {Relation: records.Relation{Database: "lake"}},
		"or a query":        {Relation: records.Relation{Database: "lake", Schema: "public", Table: "results", Query: "SELECT 1"}},
		"in which schema":   {Relation: records.Relation{Database: "lake", Table: "results"}},
		"is no web address": {},
	} {
		_, err := r.Steward.AddFetch(ctx, "samples", of)
		refused(t, says, err, http.StatusUnprocessableEntity, says)
	}
	_, err = r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: records.Relation{Database: "nowhere", Query: "SELECT 1"}})
	refused(t, "a database", err, http.StatusNotFound, "nowhere")
	for says, of := range map[string]records.Relation{
		"no such table":                   {Schema: "public", Table: "gone"},
		"refused the query: syntax error": {Query: "SELEKT 1"},
		"in a read-only transaction":      {Query: "WITH gone AS (DELETE FROM results RETURNING 1) SELECT * FROM gone"},
		"column \"depth\" does not exist": {Query: "SELECT depth FROM results"},
	} {
		of.Database = "lake"
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: of})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := fetched(t, r, f.Job); err == nil || !strings.Contains(err.Error(), says) || !strings.Contains(err.Error(), "nothing was kept") {
			t.Errorf("%+v: %v", of, err)
		}
	}
	tables, err := servicetest.All[records.Table](ctx, r.Steward, "/datasets/samples/tables")
	if err != nil || len(tables) != 0 {
		t.Errorf("%v, %v", tables, err)
	}
}

func TestWhoMayDoWhatWithDatabases(t *testing.T) {
	d := lake(t, "CREATE TABLE results (sample text, value int)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	_, err := r.Steward.AddDatabase(ctx, d)
	refused(t, "without the right", err, http.StatusForbidden, "")
	declared(t, r, d)
	refused(t, "removing", r.Steward.RemoveDatabase(ctx, "lake"), http.StatusForbidden, "")
	for _, c := range []*client.Client{r.Reader, r.Certifier} {
		_, err := c.ListDatabases(ctx)
		refused(t, "without the right", err, http.StatusForbidden, "")
		_, err = c.ListDatabaseTables(ctx, "lake")
		refused(t, "without the right", err, http.StatusForbidden, "")
	}
	// Whoever is confined to datasets sees no database: what is in it is of no dataset.
	otto := confined(t, r, "Otto", access.Steward, records.DatasetRight{Dataset: "samples", May: "work"})
	_, err = otto.ListDatabases(ctx)
	refused(t, "confined", err, http.StatusForbidden, "who see all datasets")
	_, err = otto.AddFetch(ctx, "samples", records.NewFetch{Relation: records.Relation{Database: "lake", Query: "SELECT 1"}})
	refused(t, "confined", err, http.StatusNotFound, "")
}

// A rulebook that says how files of a dataset are written is not held against numbers and dates that a database writes; what stands
// there as text is read as it says.
func TestWhatADatabaseWritesIsReadAsItWritesIt(t *testing.T) {
	d := lake(t, "CREATE TABLE readings (station text, level numeric(6,3), x double precision, day date, at timestamp, seen timestamptz, dry boolean, said_level text, said_day text, said_dry text, old_name int)",
		`INSERT INTO readings SELECT 'AV-' || n, n / 8.0, n / 7.0, DATE '2026-05-01' + n, '2026-05-01 06:00:00'::timestamp + n * interval '90 minutes', '2026-05-01 06:00:00.5Z'::timestamptz + n * interval '1 hour',
			n % 2 = 0, (n + 1000) || ',25', to_char(DATE '2026-05-01' + n, 'DD.MM.YYYY'), CASE WHEN n % 2 = 0 THEN 'ja' ELSE 'nein' END, n FROM generate_series(1, 60) AS x(n)`,
		"INSERT INTO readings VALUES ('n/a', null, 'NaN', null, null, null, null, '1.5', '2026-05-01', 'yes', null)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", `dataset: readings
reading: {encoding: windows-1252, delimiter: ";", header_line: 3, decimal_mark: ",", grouping_mark: ".", dates: [dd.MM.yyyy], missing: [n/a], true_words: [ja], false_words: [nein]}
columns:
  - {name: station, type: text}
  - {name: level, type: decimal}
  - {name: x, type: decimal}
  - {name: day, type: date}
  - {name: at, type: datetime}
  - {name: seen, type: datetime}
  - {name: dry, type: boolean}
  - {name: said_level, type: decimal}
  - {name: said_day, type: date}
  - {name: said_dry, type: boolean}
  - {name: new_name, was: [old_name], type: integer}
`)
	declared(t, r, d)
	f, err := r.Steward.AddFetch(ctx, "readings", records.NewFetch{Relation: records.Relation{Database: "lake", Schema: "public", Table: "readings"}})
	if err != nil {
		t.Fatal(err)
	}
	job, err := fetched(t, r, f.Job)
	if err != nil {
		t.Fatal(err)
	}
	audit := audited(t, r.Steward, *job.ResultTable)
	if audit.Rows != 61 {
		t.Fatalf("%d rows", audit.Rows)
	}
	for _, c := range audit.Result.Columns {
		missing, wrong := int64(1), int64(0)
		switch c.Name {
		case "x", "said_level", "said_day", "said_dry": // NaN, and what is not written as the rulebook says
			missing, wrong = 0, 1
		}
		if c.Missing != missing || c.Mistyped != wrong {
			t.Errorf("%s: %d missing, %d of another type", c.Name, c.Missing, c.Mistyped)
		}
	}
}

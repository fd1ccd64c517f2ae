package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestATableIsJudgedWhereItLies(t *testing.T) {
	d := lake(t, "CREATE SCHEMA vale", "CREATE TABLE vale.results (sample text, value numeric(6,2), noted date)",
		"INSERT INTO vale.results VALUES ('S1', 1.50, '2026-05-01'), ('S2', null, '2026-05-02'), ('S2', 4, '2026-05-02'), ('lost', 3, null)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	declared(t, r, d)
	judge := func(of records.Relation) (*records.Fetching, *records.Job) {
		t.Helper()
		of.Database, of.InPlace = "lake", true
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: of})
		if err != nil {
			t.Fatal(err)
		}
		job, err := fetched(t, r, f.Job)
		if err != nil {
			t.Fatal(err)
		}
		return f, job
	}
	results := records.Relation{Schema: "vale", Table: "results"}
	_, job := judge(results)
	if !strings.Contains(string(*job.Result), "is judged where it lies; it has 4 rows") || job.ResultTable == nil {
		t.Fatalf("%s", *job.Result)
	}
	a := audited(t, r.Steward, *job.ResultTable)
	if a.Rows != 4 || a.Result.There == nil || a.Result.There.Database != "lake" || len(a.Result.There.Statements) == 0 || *a.Passed {
		t.Errorf("%+v", a.Audit)
	}
	for rule, rows := range map[string]int64{"one_sample": 1, "sample.pattern": 1, "value.required": 1} {
		if f := a.Result.Finding(rule); f == nil || f.Rows != rows || len(f.FirstRows) != 0 {
			t.Errorf("%s: %+v", rule, f)
		}
	}
	if issues, err := r.Steward.ListIssues(ctx, &client.ListIssuesParams{Dataset: "samples", Limit: 50}); err != nil || len(issues.Items) != 3 {
		t.Errorf("%+v, %v", issues, err)
	}
	t.Run("rows are opened from where they lie", func(t *testing.T) {
		page := func(rule string, after int32) *api.RowsPage {
			t.Helper()
			p, err := client.Decode[api.RowsPage](r.Steward.ShowRows(ctx, *job.ResultTable, &client.ShowRowsParams{Rule: rule, After: after, Limit: 1}))
			if err != nil {
				t.Fatal(err)
			}
			return p
		}
		if p := page("sample.pattern", 0); len(p.Rows) != 1 || p.Rows[0].Cells[0] != "lost" || p.Rows[0].Cells[2] != "" || p.Next != 0 || p.Total != 1 || p.Rows[0].Caught[0].Rule != "sample.pattern" {
			t.Errorf("%+v", p)
		}
		first := page("one_sample", 0)
		second := page("one_sample", int32(first.Next))
		if first.Rows[0].Cells[1] != "" || first.Next != 1 || second.Rows[0].Cells[1] != "4.00" || second.Next != 0 || second.Rows[0].Row != 2 {
			t.Errorf("%+v, %+v", first, second)
		}
		_, err := r.Steward.ShowRows(ctx, *job.ResultTable, &client.ShowRowsParams{Where: "value > 1", Limit: 10})
		refused(t, "a condition", err, http.StatusUnprocessableEntity, "those that break one rule can be opened")
	})
	t.Run("what needs its rows says so", func(t *testing.T) {
		_, err := r.Steward.ShowGroups(ctx, *job.ResultTable, &client.ShowGroupsParams{Columns: []string{"sample"}, Limit: 5})
		refused(t, "groups", err, http.StatusConflict, "none of its rows were taken")
	})
	t.Run("a report for the owner of the data", func(t *testing.T) {
		page, err := r.Steward.ShowReport(ctx, a.ID, nil)
		var b bytes.Buffer
		if err := errors.Join(err, client.Save(&b, page, err)); err != nil || !strings.Contains(b.String(), "1 of 4 rows") {
			t.Errorf("%v: %s", err, b.String())
		}
		_, err = r.Steward.DownloadFindings(ctx, a.ID, nil)
		refused(t, "findings as cells", err, http.StatusConflict, "none of its rows were taken")
	})
	if _, again := judge(results); !strings.Contains(string(*again.Result), "as it was when it was judged as delivery") || *again.ResultTable != *job.ResultTable {
		t.Errorf("the same table is %s", *again.Result)
	}
	t.Run("a table that changed is another delivery", func(t *testing.T) {
		conn := postgrestest.Connect(t, addressOf(d))
		if _, err := conn.Exec(ctx, "UPDATE vale.results SET value = 2 WHERE sample = 'S1'"); err != nil {
			t.Fatal(err)
		}
		again, err := r.Steward.StartAudit(ctx, *job.ResultTable)
		if err != nil {
			t.Fatal(err)
		}
		if _, err = r.Steward.Follow(ctx, again.ID, nil); err == nil || !strings.Contains(err.Error(), "has changed since it became delivery") {
			t.Errorf("judging it again: %v", err)
		}
		if _, other := judge(results); *other.ResultTable == *job.ResultTable {
			t.Errorf("the changed table is %s", *other.Result)
		}
	})
	t.Run("a query", func(t *testing.T) {
		_, job := judge(records.Relation{Query: "SELECT sample, value FROM vale.results WHERE value IS NOT NULL -- those that have one"})
		if a := audited(t, r.Steward, *job.ResultTable); a.Rows != 3 || a.Result.There.Query == "" {
			t.Errorf("%+v", a.Audit)
		}
	})
	t.Run("what cannot be", func(t *testing.T) {
		_, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Address: "https://vale.example/a.csv", Relation: records.Relation{InPlace: true}})
		refused(t, "an address in place", err, http.StatusUnprocessableEntity, "say which one")
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: records.Relation{Database: "lake", Schema: "vale", Table: "none", InPlace: true}})
		if err != nil {
			t.Fatal(err)
		}
		if _, err = fetched(t, r, f.Job); err == nil || !strings.Contains(err.Error(), "no such table") {
			t.Errorf("a table that is not there: %v", err)
		}
	})
}

// What outgrows a file is certified as it lies: by where that is, and a digest of its rows, in place of bytes.
func TestATableInADatabaseIsCertifiedAsItLies(t *testing.T) {
	d := lake(t, "CREATE SCHEMA vale", "CREATE TABLE vale.results (sample text, value numeric(6,2))", "INSERT INTO vale.results VALUES ('S1', 1.50), ('S2', 2.25), ('S3', null), ('S4', 4)")
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", strings.Replace(book, "{name: value, type: decimal, required: true}", "{name: value, type: decimal, to: 4, severity: minor}", 1))
	declared(t, r, d)
	judge := func() int64 {
		t.Helper()
		f, err := r.Steward.AddFetch(ctx, "samples", records.NewFetch{Relation: records.Relation{Database: "lake", Schema: "vale", Table: "results", InPlace: true}})
		if err != nil {
			t.Fatal(err)
		}
		job, err := fetched(t, r, f.Job)
		if err != nil {
			t.Fatal(err)
		}
		audited(t, r.Steward, *job.ResultTable)
		return *job.ResultTable
	}
	table := judge()
	o, err := client.Decode[api.Obstacles](r.Certifier.ListObstacles(ctx, table))
	if err != nil || !o.Ready {
		t.Fatalf("%+v, %v", o, err)
	}
	c, err := r.Certifier.CertifyTable(ctx, table, client.Certifying{Conditions: "For the yearbook alone."})
	if err != nil {
		t.Fatal(err)
	}
	said := opened(t, r, c).Statement
	there := said.Table.There
	if there == nil || there.Relation != "vale.results" || !strings.Contains(there.Server, "PostgreSQL") || len(there.Digest) != 32 || there.At == "" || said.Table.Rows != 4 || said.Table.Sums["value"] != "7.75" || len(said.Chain) != 1 || said.Audit.Score != "100.0000" {
		t.Errorf("%+v of %+v", there, said)
	}
	path, err := r.Steward.ShowPath(ctx, table)
	if err != nil || path.Stages[len(path.Stages)-1].State != "done" {
		t.Errorf("%+v, %v", path, err)
	}
	keys, err := r.Reader.ShowSigningKeys(ctx)
	if err != nil {
		t.Fatal(err)
	}
	set, err := json.Marshal(keys)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := certify.Verify(strings.NewReader("sample,value\nS1,1.50\n"), nil, c.Signature, set); !errors.Is(err, certify.ErrTable) || !strings.Contains(err.Error(), "it speaks of no file, but of vale.results at 127.0.0.1:") {
		t.Errorf("a file is held against it: %v", err)
	}
	t.Run("a pack has all but its rows", func(t *testing.T) {
		in, err := r.Reader.DownloadPack(ctx, c.ID, &client.DownloadPackParams{Deliveries: true, Tables: true})
		if err != nil {
			t.Fatal(err)
		}
		raw, err := io.ReadAll(in)
		if err := errors.Join(err, in.Close()); err != nil {
			t.Fatal(err)
		}
		p, err := pack.Open(bytes.NewReader(raw), int64(len(raw)), set)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, f := range p.Contents.Files {
			names = append(names, f.Path)
		}
		for _, wanted := range []string{"table/in-place.json", "statement.json", "report.html", "audit.html", "dictionary.csv", "lineage.jsonld"} {
			if !strings.Contains(strings.Join(names, " "), wanted) {
				t.Errorf("no %s among %v", wanted, names)
			}
		}
		report, err := pack.Check(ctx, opened(t, r, c), p, 1)
		if err != nil || len(report.Of(pack.Differs)) > 0 || !strings.Contains(report.Lines[0].Says, "none of its rows are at hand") {
			t.Errorf("%+v, %v", report, err)
		}
	})
	conn := postgrestest.Connect(t, addressOf(d))
	if _, err := conn.Exec(ctx, "INSERT INTO vale.results VALUES ('S5', 5)"); err != nil {
		t.Fatal(err)
	}
	later := judge()
	o, err = client.Decode[api.Obstacles](r.Certifier.ListObstacles(ctx, later))
	if err != nil || later == table {
		t.Fatalf("%+v, %v", o, err)
	}
	if second, err := r.Certifier.CertifyTable(ctx, later, client.Certifying{Replaces: c.ID}); err != nil || opened(t, r, second).Statement.Table.There.Digest == there.Digest {
		t.Errorf("the table that changed: %v, %+v", err, o.Obstacles)
	}
}

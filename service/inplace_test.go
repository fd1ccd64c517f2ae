package service_test

import (
	"bytes"
	"errors"
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
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

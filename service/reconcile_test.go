package service_test

import (
	"bytes"
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/merge"
	"proudsieve/service/api"
	"proudsieve/service/servicetest"
)

// Two tables that should agree are held against one another total by total, down to the rows; and two deliveries of one dataset
// row by row.
func TestTablesAreReconciled(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: gauges\ncolumns:\n  - {name: id}\n  - {name: station}\n  - {name: day, type: date}\n  - {name: flow, type: decimal}\nkeys: [{id: one, columns: [id]}]\nmeasures: [flow]\npass_mark: 0\n")
	declare(t, r.Steward, "rulebooks", "dataset: sums\ncolumns:\n  - {name: place}\n  - {name: month_end, type: date}\n  - {name: thousands, type: decimal}\npass_mark: 0\n")
	first := deliver(t, r.Steward, "gauges", "id,station,day,flow\n1,A,2024-01-01,1500\n2,A,2024-01-09,500\n3,A,2024-02-01,10\n4,B,2024-01-05,7000\n5,B,2024-02-05,3\n").Table.ID
	second := deliver(t, r.Steward, "gauges", "id,station,day,flow\n1,A,2024-01-01,1500.0\n2,A,2024-01-09,600\n4,B,2024-01-05,7000\n5,B,2024-02-05,3\n6,B,2024-02-06,=1+1\n").Table.ID
	sums := deliver(t, r.Steward, "sums", "place,month_end,thousands\nA,2024-01-31,2\nA,2024-02-29,0.010\nB,2024-01-31,7\nB,2024-02-29,0.004\n").Table.ID
	for _, id := range []int64{first, second, sums} {
		audited(t, r.Steward, id)
	}
	asked := client.ShowTotalsParams{With: sums, By: []string{"station", "DATE_TRUNC('month', day)"}, ByThere: []string{"place", "DATE_TRUNC('month', month_end)"}, Of: "flow", OfThere: "thousands", Factor: "1000"}
	found, err := client.Decode[merge.Reconciled](r.Reader.ShowTotals(ctx, first, &asked))
	if err != nil || found.Agree != 3 || found.Differ != 1 || found.Groups[0].Key[0] != "B" || found.Groups[0].Apart != "-1" || found.Here != "9013" || found.There != "9014" {
		t.Errorf("%+v, %v", found, err)
	}
	asked.Factor = ""
	if found, err = client.Decode[merge.Reconciled](r.Reader.ShowTotals(ctx, first, &asked)); err != nil || len(found.Causes) == 0 || found.Causes[0].Factor != "1000" {
		t.Errorf("%+v, %v", found, err)
	}
	rows, err := client.Decode[merge.GroupRows](r.Reader.ShowTotalRows(ctx, first, &client.ShowTotalRowsParams{With: second, By: []string{"station"}, Of: "flow", Group: []string{"A"}, Key: []string{"id"}}))
	if err != nil || rows.Same != 1 || rows.DifferApart != "-100" || rows.OnlyHereApart != "10" || rows.OnlyHere[0].RowHere != 3 {
		t.Errorf("%+v, %v", rows, err)
	}
	asked.Of = "station"
	_, err = r.Reader.ShowTotals(ctx, first, &asked)
	refused(t, "a text", err, http.StatusUnprocessableEntity, "totals are of numbers")
	asked.Of, asked.Factor = "flow", "none"
	_, err = r.Reader.ShowTotals(ctx, first, &asked)
	refused(t, "no factor", err, http.StatusUnprocessableEntity, "a factor more than 0")

	revision, err := client.Decode[api.RevisionShown](r.Reader.ShowRevision(ctx, second, nil))
	if err != nil || revision.Before.ID != first || revision.Same != 3 || revision.Changed != 1 || revision.Came != 1 || revision.Went != 1 || revision.Sums[0].Changed != "100" {
		t.Errorf("%+v, %v", revision, err)
	}
	came, err := client.Decode[api.RevisedRows](r.Reader.ShowRevisedRows(ctx, second, &client.ShowRevisedRowsParams{Kind: "came"}))
	if err != nil || came.Of != 1 || came.Rows[0].Key[0] != "6" {
		t.Errorf("%+v, %v", came, err)
	}
	var out bytes.Buffer
	whole, err := r.Reader.DownloadRevision(ctx, second, nil)
	if err := client.Save(&out, whole, err); err != nil || out.String() != "change,row_before,row_after,id,column,before,after\nchanged,2,2,2,flow,500,600\ncame,,5,6,,,\nwent,3,,3,,,\n" {
		t.Errorf("%s, %v", out.String(), err)
	}
	_, err = r.Reader.ShowRevision(ctx, first, nil)
	refused(t, "the first delivery", err, http.StatusNotFound, "before table")
	_, err = r.Reader.ShowRevision(ctx, second, &client.ShowRevisionParams{With: sums})
	if err == nil || !strings.Contains(err.Error(), `has no column "id"`) {
		t.Errorf("a table of another dataset: %v", err)
	}
}

// What is remembered of one question is not the answer to another that only looks like it.
func TestTotalsByOneColumnAreNotThoseByTwo(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: gauges\ncolumns:\n  - {name: a}\n  - {name: b}\n  - {name: a b}\n  - {name: flow, type: decimal}\npass_mark: 0\n")
	table := deliver(t, r.Steward, "gauges", "a,b,a b,flow\n1,1,x,5\n1,2,x,6\n2,1,x,7\n").Table.ID
	audited(t, r.Steward, table)
	for _, one := range []struct {
		by     []string
		groups int64
	}{{[]string{`"a b"`}, 1}, {[]string{"a", "b"}, 3}, {[]string{"a b"}, 1}} {
		found, err := client.Decode[merge.Reconciled](r.Reader.ShowTotals(ctx, table, &client.ShowTotalsParams{With: table, By: one.by, Of: "flow"}))
		if err != nil || found.Agree != one.groups || len(found.By) != len(one.by) {
			t.Errorf("by %q: %+v, %v; want %d groups", one.by, found, err, one.groups)
		}
	}
}

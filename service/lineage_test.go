package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/api"
	"proudsieve/service/lineage"
	"proudsieve/service/servicetest"
)

// A row and a cell of a merged table are followed through the merge and the steps of fix plans to the rows that were delivered; and
// the whole lineage is told as records and as provenance.
func TestAMergedCellIsFollowedToItsDelivery(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: visits\ncolumns: [{name: visit}, {name: station}, {name: flow, type: decimal}]\nkeys: [{id: k, columns: [visit]}]\nmeasures: [flow]\npass_mark: 0\n")
	declare(t, r.Steward, "rulebooks", "dataset: sites\ncolumns: [{name: code}, {name: river}]\npass_mark: 0\n")
	declare(t, r.Steward, "fix-plans", "fix_plan: visits_clean\ndataset: visits\nsteps:\n  - {do: change_case, columns: [station], to: upper, reason: Codes are.}\n  - {do: remove_equal_rows, reason: Sent twice.}\n")
	declare(t, r.Steward, "fix-plans", "fix_plan: sites_clean\ndataset: sites\nsteps: []\n")
	first := deliver(t, r.Steward, "visits", "visit,station,flow\n1,ald,5\n1,ald,5\n2,BRE,\n").Table.ID
	second := deliver(t, r.Steward, "visits", "visit,station,flow\n2,bre,7\n3,ZZZ,1\n").Table.ID
	sites := deliver(t, r.Steward, "sites", "code,river\nBRE,Bren\nALD,Alder\n").Table.ID
	one, two, site := applyPlan(t, r, first, "visits_clean"), applyPlan(t, r, second, "visits_clean"), applyPlan(t, r, sites, "sites_clean")
	declare(t, r.Steward, "merges", "merge: all_visits\nstack: [visits]\ntables: {visits: all}\ncolumns: {visits.flow: discharge}\ncontradicting: by_cell\njoin:\n  - {with: sites, match: {station: code}, take: [river], unmatched: keep}\n")
	made := mergedBy(t, r, "all_visits")
	trace := func(row int64, column string) *api.RowTraced {
		t.Helper()
		traced, err := client.Decode[api.RowTraced](r.Reader.TraceRow(ctx, made.ID, row, &client.TraceRowParams{Column: column}))
		if err != nil {
			t.Fatal(err)
		}
		return traced
	}
	whole := trace(1, "")
	if len(whole.From) != 2 || whole.From[0].Table != one.ID || whole.From[0].How != "stacked" || !slices.Equal(whole.From[0].Rows, []uint32{1}) || *whole.From[0].Parent != first ||
		whole.From[1].Table != site.ID || whole.From[1].How != "joined" || whole.From[1].Row != 2 || *whole.From[1].Parent != sites {
		t.Errorf("%+v", whole)
	}
	cell := trace(1, "station")
	if len(cell.From) != 1 || cell.From[0].Events[len(cell.From[0].Events)-1].Old != "ald" || cell.From[0].Events[len(cell.From[0].Events)-1].Kind != "change_case" {
		t.Errorf("%+v", cell)
	}
	// A column that the stack calls otherwise, in a row for which a newer one stands.
	if cell = trace(2, "discharge"); len(cell.From) != 2 || cell.From[0].Asked != "flow" || cell.From[0].Table != two.ID || cell.From[1].How != "filled" || cell.From[1].Table != one.ID || cell.From[1].Row != 2 {
		t.Errorf("%+v", cell)
	}
	if cell = trace(2, "river"); len(cell.From) != 1 || cell.From[0].Asked != "river" || cell.From[0].Row != 1 {
		t.Errorf("%+v", cell)
	}
	if cell = trace(3, "river"); len(cell.From) != 0 {
		t.Errorf("a row without a partner: %+v", cell)
	}
	_, err := r.Reader.TraceRow(ctx, made.ID, 4, nil)
	refused(t, "a row that is not there", err, http.StatusUnprocessableEntity, "has 3 rows, and no row 4")
	_, err = r.Reader.TraceRow(ctx, made.ID, 3, &client.TraceRowParams{Column: "flow"})
	refused(t, "a column that is not there", err, http.StatusUnprocessableEntity, "no column")
	if arrived, err := client.Decode[api.RowTraced](r.Reader.TraceRow(ctx, first, 2, &client.TraceRowParams{Column: "flow"})); err != nil || !slices.Equal(arrived.Rows, []uint32{2}) {
		t.Errorf("%+v, %v", arrived, err)
	}

	for chosen, want := range map[string]string{fmt.Sprintf("from:%d", one.ID): "[1]", "met:sites": "[1 2]", "unmet:sites": "[3]", "several:sites": "[]", "unasked:sites": "[]", "filled": "[2]"} {
		page, err := client.Decode[api.RowsPage](r.Reader.ShowRows(ctx, made.ID, &client.ShowRowsParams{Sourced: chosen}))
		got := []uint32{}
		if err == nil {
			for _, row := range page.Rows {
				got = append(got, row.Row)
			}
		}
		if err != nil || fmt.Sprint(got) != want {
			t.Errorf("%s: %v, %v, want %s", chosen, got, err, want)
		}
	}
	_, err = r.Reader.ShowRows(ctx, made.ID, &client.ShowRowsParams{Sourced: "met:nothing"})
	refused(t, "a dataset that is not joined", err, http.StatusUnprocessableEntity, "does not join with")

	l, err := client.Decode[lineage.Lineage](r.Reader.ShowLineage(ctx, first))
	if err != nil {
		t.Fatal(err)
	}
	var ids []int64
	for _, one := range l.Tables {
		ids = append(ids, one.ID)
	}
	if !slices.Equal(ids, []int64{first, one.ID, made.ID}) || len(l.Links) != 2 {
		t.Errorf("what rests on a delivery: %v, %v", ids, l.Links)
	}
	var out bytes.Buffer
	bytes, err := r.Reader.DownloadProvenance(ctx, made.ID)
	if err := client.Save(&out, bytes, err); err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Context map[string]any   `json:"@context"`
		Graph   []map[string]any `json:"@graph"`
	}
	if err := json.Unmarshal(out.Bytes(), &doc); err != nil || doc.Context["prov"] != "http://www.w3.org/ns/prov#" {
		t.Fatal(err, doc.Context)
	}
	known := map[string]map[string]any{}
	for _, n := range doc.Graph {
		known[n["@id"].(string)] = n
	}
	merged := known[fmt.Sprintf("urn:proudsieve:table:%d", made.ID)]
	run := known[merged["wasGeneratedBy"].(string)]
	if merged["sha256"] != made.Digest || len(run["used"].([]any)) != 3 || run["label"] != "ran all_visits version 1" || len(known) != 7+4+3+1 {
		t.Errorf("%d, %v\n%v", len(known), merged, run)
	}
	// Whatever is named is there.
	for _, n := range doc.Graph {
		for _, key := range []string{"wasDerivedFrom", "used", "wasGeneratedBy", "wasAttributedTo", "wasAssociatedWith"} {
			names, _ := n[key].([]any)
			if name, ok := n[key].(string); ok {
				names = append(names, name)
			}
			for _, name := range names {
				if known[name.(string)] == nil {
					t.Errorf("%s of %s is %s, which is not there", key, n["@id"], name)
				}
			}
		}
		for key := range n {
			if !strings.HasPrefix(key, "@") && doc.Context[key] == nil {
				t.Errorf("%s has %s, which the context does not know", n["@id"], key)
			}
		}
	}
}

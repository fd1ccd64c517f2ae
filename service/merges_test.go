package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/core/merge"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/work"
)

// alike reports whether two texts in JSON say the same.
func alike(t *testing.T, a, b []byte) bool {
	t.Helper()
	var x, y any
	if err := errors.Join(json.Unmarshal(a, &x), json.Unmarshal(b, &y)); err != nil {
		t.Fatal(err)
	}
	return reflect.DeepEqual(x, y)
}

// The rows of a merge that find no partner are fetched as a table to be sent back; where every row finds one there is none.
func TestRowsWithoutAPartnerCanBeSentBack(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	cleaned := map[string]*records.Table{}
	for dataset, content := range map[string]string{"visits": "visit,station\n1,ALD\n2,BRE\n3,ald\n4,\n", "sites": "code,river\nALD,Alder\nBRE,Bren\n"} {
		columns := map[string]string{"visits": "[{name: visit}, {name: station}]", "sites": "[{name: code}, {name: river}]"}[dataset]
		declare(t, r.Steward, "rulebooks", "dataset: "+dataset+"\ncolumns: "+columns+"\n")
		declare(t, r.Steward, "fix-plans", "fix_plan: "+dataset+"_clean\ndataset: "+dataset+"\nsteps:\n  - {do: standard_form, reason: As it is read.}\n")
		cleaned[dataset] = applyPlan(t, r, deliver(t, r.Steward, dataset, content).Table.ID, dataset+"_clean")
	}
	for _, c := range []struct{ name, match, want string }{
		{"visited", "{station: code}", "from_dataset,from_table,from_row,why,key,visit,station\nvisits,TABLE,3,no partner in sites,ald,3,ald\nvisits,TABLE,4,no partner in sites,,4,\n"},
		{"visited_by_any_case", "{UPPER(station): code}", "from_dataset,from_table,from_row,why,key,visit,station\nvisits,TABLE,4,no partner in sites,,4,\n"},
		{"stacked_alone", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan := "merge: " + c.name + "\nstack: [visits]\n"
			if c.match != "" {
				plan += "join:\n  - {with: sites, match: " + c.match + ", take: [river], unmatched: keep}\n"
			}
			// Seen before it is done, and before the merge is saved: nothing is recorded, and then the same is done.
			looked, err := r.Steward.PreviewMerge(ctx, client.MergePreviewedBody{Source: plan})
			if err == nil {
				looked, err = r.Steward.Follow(ctx, looked.ID, nil)
			}
			if err != nil || looked.ResultTable != nil {
				t.Fatalf("%+v %v", looked, err)
			}
			var ahead struct{ Accounting json.RawMessage }
			if err := json.Unmarshal(*looked.Result, &ahead); err != nil {
				t.Fatal(err)
			}
			declare(t, r.Steward, "merges", plan)
			made := mergedBy(t, r, c.name)
			if !alike(t, ahead.Accounting, *made.Accounting) {
				t.Errorf("it would be\n%s\nand is\n%s", ahead.Accounting, *made.Accounting)
			}
			var out bytes.Buffer
			whole, err := r.Reader.DownloadTable(ctx, made.ID, &client.DownloadTableParams{What: client.DownloadTableParamsWhatUnmet})
			err = client.Save(&out, whole, err)
			if c.want == "" {
				refused(t, "rows without a partner of a stack", err, 404, "no merge in which a row found no partner")
			} else if err != nil || out.String() != strings.ReplaceAll(c.want, "TABLE", strconv.FormatInt(cleaned["visits"].ID, 10)) || made.Unmet == nil {
				t.Errorf("%v\n%s\nwant\n%s", err, out.String(), c.want)
			}
		})
	}
}

// A dataset is kept stacked: each delivery that is cleaned and passes extends it, and one that nothing is cleaned of stops it.
func TestADatasetIsKeptStacked(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: flows\ncolumns:\n  - {name: day, type: date}\n  - {name: flow, type: decimal, from: 0}\nkeys: [{id: a_day, columns: [day]}]\nmeasures: [flow]\npass_mark: 90\n")
	declare(t, r.Steward, "fix-plans", "fix_plan: tidy\ndataset: flows\nsteps:\n  - {do: standard_form, reason: As it is read.}\n")
	first := deliver(t, r.Steward, "flows", "day,flow\n2024-01-01,1\n2024-01-02,2\n").Table.ID
	declare(t, r.Steward, "merges", "merge: all_flows\nstack: [flows]\ntables: {flows: all}\norigin_table: table\n")
	_, err := r.Steward.RunMerge(ctx, "all_flows", client.RunBody{})
	refused(t, "a delivery that nothing is cleaned of", err, http.StatusUnprocessableEntity, fmt.Sprintf("Delivery %d of flows", first))
	january := applyPlan(t, r, first, "tidy")
	if made := mergedBy(t, r, "all_flows"); accountingOf(t, made).Stack.Rows != 2 {
		t.Errorf("%s", *made.Accounting)
	}
	d, err := r.Steward.KeepMerged(ctx, "all_flows", client.KeptBody{Kept: true})
	if err != nil || !d.KeptMerged {
		t.Fatalf("%+v %v", d, err)
	}
	_, err = r.Reader.KeepMerged(ctx, "all_flows", client.KeptBody{Kept: true})
	refused(t, "a reader", err, http.StatusForbidden, "")
	if _, err = r.Steward.SetStandingPlan(ctx, "flows", client.StandingBody{FixPlan: ptr("tidy")}); err != nil {
		t.Fatal(err)
	}
	deliver(t, r.Steward, "flows", "day,flow\n2024-01-02,2.0\n2024-01-03,4\n")
	made := mergedWith(t, r, "all_flows", 4)
	jobs, err := servicetest.Get[records.Page[records.Job]](ctx, r.Steward, "/jobs")
	if err != nil {
		t.Fatal(err)
	}
	for _, job := range jobs.Items { // the newest first
		if job.Kind == work.Merge && job.Ended() {
			if job.RowsRead != 4 || job.BytesTotal == 0 || job.BytesDone != job.BytesTotal {
				t.Errorf("a merge of 4 rows read %d rows and %d of %d bytes", job.RowsRead, job.BytesDone, job.BytesTotal)
			}
			break
		}
	}
	a := accountingOf(t, made)
	if a.Sums["flow"] != "9" || a.Stack.Shared.Equal.Keys != 1 || len(a.Inputs) != 2 || a.Inputs[0].Table != january.ID || len(a.Stack.Periods.Overlaps) != 1 {
		t.Errorf("%s", *made.Accounting)
	}
	// One that falls short is cleaned, and waits for a person to look.
	deliver(t, r.Steward, "flows", "day,flow\n2024-01-05,-1\n")
	waits := regexp.MustCompile(`the merge all_flows waits: table \d+ of flows fell short`)
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		jobs, err := servicetest.Get[records.Page[records.Job]](ctx, r.Steward, "/jobs")
		if err != nil {
			t.Fatal(err)
		}
		told := false
		for _, job := range jobs.Items {
			told = told || job.Kind == work.Merge && waits.MatchString(job.Error)
		}
		if told {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("nobody is told that the merge waits")
		}
	}
	if tables, err := r.Steward.ListTables(ctx, "all_flows", nil); err != nil || len(tables.Items) != 2 {
		t.Errorf("%d merged tables, %v", len(tables.Items), err)
	}
	// Several tables by their numbers, of which none may be that of another dataset.
	job, err := r.Steward.RunMerge(ctx, "all_flows", client.RunBody{Tables: map[string][]int64{"flows": {january.ID}}})
	if one := madeBy(t, r, job, err); accountingOf(t, one).Rows != 2 {
		t.Errorf("%s", *one.Accounting)
	}
	_, err = r.Steward.RunMerge(ctx, "all_flows", client.RunBody{Tables: map[string][]int64{"flows": {january.ID, made.ID}}})
	refused(t, "a table of another dataset", err, http.StatusUnprocessableEntity, "is not a cleaned table of flows")
}

func accountingOf(t *testing.T, made *records.Table) *merge.Accounting {
	t.Helper()
	var a merge.Accounting
	if err := json.Unmarshal(*made.Accounting, &a); err != nil {
		t.Fatal(err)
	}
	return &a
}

// mergedWith waits for a merged table of so many rows.
func mergedWith(t *testing.T, r *servicetest.Running, dataset string, rows int64) *records.Table {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		tables, err := r.Steward.ListTables(ctx, dataset, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, made := range tables.Items {
			if accountingOf(t, &made).Rows == rows {
				return &made
			}
		}
	}
	t.Fatalf("no table of %s with %d rows was made", dataset, rows)
	return nil
}

// What a merge would do is seen before, also where it would be refused: then with why keys do not meet. And what a fix plan would do
// to the merges that take its table is in the plan's preview.
func TestMergesAreSeenBeforeTheyAreDone(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for dataset, content := range map[string]string{"trips": "trip,site,load\n1,ALD,5\n2,BRE,7\n3,ald,2\n", "places": "code,river\nALD,Alder\nBRE,Bren\n"} {
		columns := map[string]string{"trips": "[{name: trip}, {name: site}, {name: load, type: decimal}]\nmeasures: [load]", "places": "[{name: code}, {name: river}]"}[dataset]
		declare(t, r.Steward, "rulebooks", "dataset: "+dataset+"\ncolumns: "+columns+"\npass_mark: 0\n")
		declare(t, r.Steward, "fix-plans", "fix_plan: "+dataset+"_clean\ndataset: "+dataset+"\nsteps: []\n")
		applyPlan(t, r, deliver(t, r.Steward, dataset, content).Table.ID, dataset+"_clean")
	}
	const plan = "merge: trips_by_river\nstack: [trips]\njoin:\n  - {with: places, match: {site: code}, take: [river], unmatched: WAY}\n"
	look := func(way string) *work.MergePreview {
		t.Helper()
		job, err := r.Steward.PreviewMerge(ctx, client.MergePreviewedBody{Source: strings.Replace(plan, "WAY", way, 1)})
		if err == nil {
			job, err = r.Steward.Follow(ctx, job.ID, nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		var p work.MergePreview
		if err := json.Unmarshal(*job.Result, &p); err != nil {
			t.Fatal(err)
		}
		return &p
	}
	p := look("refuse")
	if !strings.Contains(p.Refused, `places has no row with the key "ald"`) || p.Accounting.Joins[0].Unmatched != 1 || p.Accounting.Joins[0].Why[0].Left[0] != "LOWER(TRIM(site))" {
		t.Errorf("%+v", p)
	}
	p = look("keep")
	want := work.MergedSample{Columns: []string{"river", "trip", "site", "load"}, Added: []string{"river"}, Rows: [][]string{{"Alder", "1", "ALD", "5"}, {"Bren", "2", "BRE", "7"}, {"", "3", "ald", "2"}}}
	from := p.Sample.From
	p.Sample.From = nil
	if p.Refused != "" || !reflect.DeepEqual(p.Sample, want) || len(from) != 3 || len(from[1]) != 2 || from[1][1].Row != 2 || from[1][1].Dataset != "places" || len(from[2]) != 1 {
		t.Errorf("%+v from %+v", p.Sample, from)
	}
	m, err := client.Decode[api.Meeting](r.Reader.ShowMeeting(ctx, client.MeetingAskedBody{Source: strings.Replace(plan, "WAY", "refuse", 1), Join: 1}))
	if err != nil || m.Rows != 3 || m.Matched != 2 || len(m.Why) != 1 || m.Large {
		t.Errorf("%+v, %v", m, err)
	}
	_, err = r.Reader.ShowMeeting(ctx, client.MeetingAskedBody{Source: strings.Replace(plan, "WAY", "refuse", 1), Join: 2})
	refused(t, "a join that is not there", err, http.StatusUnprocessableEntity, "has 1 joins")
	declare(t, r.Steward, "merges", strings.Replace(plan, "WAY", "set_aside", 1))
	mergedBy(t, r, "trips_by_river")
	tables, err := r.Steward.ListTables(ctx, "trips", &client.ListTablesParams{Origin: client.ListTablesParamsOriginDelivery})
	if err != nil {
		t.Fatal(err)
	}
	then := func(steps string) *work.PlanPreview {
		t.Helper()
		job, err := r.Steward.PreviewFix(ctx, tables.Items[0].ID, client.PreviewedBody{Source: "fix_plan: trips_clean\ndataset: trips\nsteps:\n" + steps})
		if err == nil {
			job, err = r.Steward.Follow(ctx, job.ID, nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		var p work.PlanPreview
		if err := json.Unmarshal(*job.Result, &p); err != nil {
			t.Fatal(err)
		}
		return &p
	}
	levelled := then("  - {do: change_case, columns: [site], to: upper, reason: Codes are.}\n")
	if m := levelled.Merges; len(m) != 1 || m[0].Merge != "trips_by_river" || m[0].Now.Rows != 2 || m[0].Then.Rows != 3 || m[0].Then.Sums["load"] != "14" || m[0].Refused != "" {
		t.Errorf("%+v", m)
	}
	if m := then("  - {do: drop_columns, columns: [site], reason: Nobody needs it.}\n").Merges; len(m) != 1 || m[0].Then != nil || !strings.Contains(m[0].Refused, `has no column "site"`) {
		t.Errorf("%+v", m)
	}
}

package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/core/fix"
	"proudsieve/core/propose"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/work"
)

const gaugeBook = `dataset: gauge_sheets
reading: {delimiter: ";", decimal_mark: ",", missing: [n/a]}
columns:
  - {name: station, required: true}
  - {name: crew}
pass_mark: 0
`

const levelBook = `dataset: levels
columns:
  - {name: place, required: true}
  - {name: day, type: date}
  - {name: level, type: decimal, required: true}
measures: [level]
pass_mark: 0
`

const gaugePlan = `fix_plan: gauge_long
dataset: gauge_sheets
makes: levels
steps:
  - {do: trim, columns: [station], reason: Stray spaces.}
  - {do: set_aside, where: "station = 'TOTAL'", reason: No record.}
  - {do: columns_to_rows, heading_dates: dd/MM/yyyy, names_to: day, values_to: level, gaps: leave_out, reason: A row for each day.}
  - {do: rename_columns, names: {station: place}, reason: As the register has it.}
  - {do: set_values, columns: [level], expression: level / 100, where: level > 100, reason: Centimetres.}
  - {do: standard_form, reason: For everybody.}
`

const gaugeSheets = "station;crew;31/05/2024;01/06/2024\nA ;red;1,5;120\nTOTAL;;9;9\nB;red;n/a;2,5\nC;blue;0,5;3\n"

// A preview is what applying does: same table, log and map of rows, same findings; nothing is saved by it, and all of it can
// be looked at.
func TestAPreviewIsTheDeed(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", gaugeBook)
	declare(t, r.Steward, "rulebooks", levelBook)
	sheet := deliver(t, r.Steward, "gauge_sheets", gaugeSheets).Table.ID
	audited(t, r.Steward, sheet)
	preview := func(body map[string]any) (*records.Job, *fix.Preview) {
		t.Helper()
		job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/previews", sheet), body)
		if err != nil {
			t.Fatal(err)
		}
		if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
			t.Fatal(err)
		}
		shown := &fix.Preview{}
		if err := json.Unmarshal(*job.Result, shown); err != nil {
			t.Fatal(err)
		}
		return job, shown
	}
	job, shown := preview(map[string]any{"source": gaugePlan})
	if plans, err := servicetest.All[records.Declaration](ctx, r.Steward, "/fix-plans"); err != nil || len(plans) != 0 {
		t.Errorf("a preview saved %d plans, %v", len(plans), err)
	}
	foreseen, err := servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/jobs/%d/changes", job.ID))
	if err != nil {
		t.Fatal(err)
	}

	declare(t, r.Steward, "fix-plans", gaugePlan)
	apply := func() *records.Job {
		t.Helper()
		job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", sheet), map[string]any{"fix_plan": "gauge_long"})
		if err != nil {
			t.Fatal(err)
		}
		if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
			t.Fatal(err)
		}
		return job
	}
	cleaned, err := servicetest.Get[records.Table](ctx, r.Reader, fmt.Sprintf("/tables/%d", *apply().ResultTable))
	if err != nil {
		t.Fatal(err)
	}
	var content strings.Builder
	if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/tables/%d/bytes", cleaned.ID), &content); err != nil {
		t.Fatal(err)
	}
	if want := "place,crew,day,level\nA,red,2024-05-31,1.5\nA,red,2024-06-01,1.2\nB,red,2024-06-01,2.5\nC,blue,2024-05-31,0.5\nC,blue,2024-06-01,3\n"; content.String() != want ||
		cleaned.Dataset != "levels" || cleaned.RowMap == nil {
		t.Errorf("%q of %s, want %q", content.String(), cleaned.Dataset, want)
	}
	var ledger fix.Ledger
	if err := json.Unmarshal(*cleaned.Accounting, &ledger); err != nil || !reflect.DeepEqual(ledger, shown.Ledger) {
		t.Errorf("%+v\nwas shown as\n%+v, %v", ledger, shown.Ledger, err)
	}
	done := audited(t, r.Steward, cleaned.ID)
	if done.Result.Score != shown.After.Score || done.Result.Rows != shown.After.Rows || !reflect.DeepEqual(done.Result.Sums, shown.After.Sums) ||
		len(done.Result.Findings) != len(shown.After.Findings) || len(done.Result.Leads) != len(shown.After.Leads) {
		t.Errorf("the audit is %+v, and was shown as %+v", done.Result, shown.After)
	}
	changes, err := servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes", cleaned.ID))
	if err != nil || !reflect.DeepEqual(changes.Items, foreseen.Items) || len(changes.Items) != 3+4 {
		t.Errorf("%d changes, %d were foreseen, %v", len(changes.Items), len(foreseen.Items), err)
	}
	// A second time makes no second table.
	again := apply()
	var known work.Applied
	if err := json.Unmarshal(*again.Result, &known); err != nil || *again.ResultTable != cleaned.ID || !strings.Contains(known.Message, "no second one was made") {
		t.Errorf("%+v, %v", again, err)
	}
	_, same := preview(map[string]any{"fix_plan": "gauge_long"})
	if !reflect.DeepEqual(same.Ledger, shown.Ledger) {
		t.Error("the saved plan is shown otherwise")
	}
}

// Changes come page by page, by step, column and kind; a cell tells how it came about.
func TestChangesAreListedAndCellsTraced(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", gaugeBook)
	declare(t, r.Steward, "rulebooks", levelBook)
	sheet := deliver(t, r.Steward, "gauge_sheets", gaugeSheets).Table.ID
	audited(t, r.Steward, sheet)
	declare(t, r.Steward, "fix-plans", gaugePlan)
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", sheet), map[string]any{"fix_plan": "gauge_long"})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	cleaned := *job.ResultTable
	var all []fix.LogEntry
	for cursor := ""; ; {
		page, err := servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes?limit=2&cursor=%s", cleaned, cursor))
		if err != nil {
			t.Fatal(err)
		}
		if all = append(all, page.Items...); page.Next == nil {
			break
		}
		cursor = *page.Next
	}
	whole, err := servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes", cleaned))
	if err != nil || !reflect.DeepEqual(all, whole.Items) {
		t.Errorf("%d changes by pages, %d at once, %v", len(all), len(whole.Items), err)
	}
	for query, want := range map[string]int{"step=1": 1, "step=5": 1, "what=rows": 1, "what=cells": 6, "column=level": 5, "column=level&step=6": 4, "step=4": 0} {
		if page, err := servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes?%s", cleaned, query)); err != nil || len(page.Items) != want {
			t.Errorf("%s: %d changes, want %d; %v", query, len(page.Items), want, err)
		}
	}
	_, err = servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes?cursor=x", cleaned))
	refused(t, "a cursor that is none", err, http.StatusUnprocessableEntity, "is no place in a change log")
	_, err = servicetest.Get[api.ChangesPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/changes", sheet))
	refused(t, "the changes of a delivery", err, http.StatusNotFound, "only a cleaned one has a change log")

	traced, err := servicetest.Get[fix.Traced](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows/2/trace?column=level", cleaned))
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, e := range traced.Events {
		kinds = append(kinds, fmt.Sprintf("%d %s %s>%s", e.Step, e.Kind, e.Old, e.New))
	}
	if want := []string{"6 standard_form 1,2>1.2", "5 set_values 120>1,2", "3 columns_to_rows >", "3 columns_to_rows >"}; !slices.Equal(kinds, want) ||
		!slices.Equal(traced.Rows, []uint32{1}) || traced.Column != "" {
		t.Errorf("%v of rows %v and column %q, want %v", kinds, traced.Rows, traced.Column, want)
	}
	if traced, err = servicetest.Get[fix.Traced](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows/3/trace?column=place", cleaned)); err != nil || !slices.Equal(traced.Rows, []uint32{3}) ||
		traced.Column != "station" {
		t.Errorf("%+v, %v", traced, err)
	}
	_, err = servicetest.Get[fix.Traced](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows/6/trace", cleaned))
	refused(t, "a row that is not there", err, http.StatusUnprocessableEntity, "no row 6")
}

// What is refused stops applying, and is shown by a preview with all that a person needs.
func TestAPlanThatMustNotBeDone(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", gaugeBook)
	sheet := deliver(t, r.Steward, "gauge_sheets", gaugeSheets).Table.ID
	audited(t, r.Steward, sheet)
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: gauge_sheets\nsteps:\n  - {do: set_cell, key: {crew: red}, column: station, to: x, reason: r}\n")
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", sheet), map[string]any{"fix_plan": "p"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err = r.Steward.Follow(ctx, job.ID, nil); err == nil || !strings.Contains(err.Error(), "write rows: 2 if each of them is meant") {
		t.Errorf("%v", err)
	}
	tables, err := servicetest.All[records.Table](ctx, r.Steward, "/datasets/gauge_sheets/tables")
	if err != nil || len(tables) != 1 {
		t.Errorf("%d tables, %v", len(tables), err)
	}
	_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/previews", sheet), map[string]any{})
	refused(t, "a preview of nothing", err, http.StatusUnprocessableEntity, "give one of them")
	_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/previews", sheet), map[string]any{"source": "fix_plan: p\ndataset: gauge_sheets\nmakes: nowhere\nsteps: []\n"})
	refused(t, "a plan that makes tables of no dataset", err, http.StatusUnprocessableEntity, "nowhere")
}

// What was found proposes steps, and a draft of a plan that was tried.
func TestPlansAreProposed(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: pumps\ncolumns:\n  - {name: pump}\n  - {name: crew, type: code, codes: crews}\ncode_lists: {crews: [red, blue]}\nkeys: [{id: one, columns: [pump]}]\npass_mark: 0\n")
	table := deliver(t, r.Steward, "pumps", "pump,crew\nP1,red\nP2,Red\nP2,blue\n").Table.ID
	audited(t, r.Steward, table)
	steps, err := servicetest.Get[[]propose.Step](ctx, r.Reader, fmt.Sprintf("/tables/%d/steps", table))
	if err != nil || len(*steps) != 2 {
		t.Fatalf("%+v, %v", steps, err)
	}
	// For rows that somebody points at, and a cell of one of them; two rows are of one pump, and only all of a row tells it.
	for asked, want := range map[string][]string{
		"rows=2&column=crew": {"set_cell", "replace", "set_missing", "set_aside pump = 'P2' AND crew = 'red'"},
		"rows=3&rows=1":      {"set_aside (pump = 'P1' AND crew = 'red') OR (pump = 'P2' AND crew = 'blue')"},
	} {
		steps, err := servicetest.Get[[]propose.Step](ctx, r.Reader, fmt.Sprintf("/tables/%d/row-steps?%s", table, asked))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, s := range *steps {
			if s.Fields[0].Value == "set_aside" {
				s.Fields[0].Value += " " + s.Fields[1].Value
			}
			got = append(got, s.Fields[0].Value)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", asked, got, want)
		}
	}
	for asked, says := range map[string]string{"rows=4": "no row 4", "rows=1&column=boat": `no column "boat"`, "column=crew": "rows"} {
		_, err := servicetest.Get[[]propose.Step](ctx, r.Reader, fmt.Sprintf("/tables/%d/row-steps?%s", table, asked))
		refused(t, asked, err, http.StatusUnprocessableEntity, says)
	}
	job, err := r.Steward.DraftFixPlan(ctx, table, client.DraftedBody{Name: "tidy"})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	var drafted work.Drafted
	if err := json.Unmarshal(*job.Result, &drafted); err != nil || !strings.Contains(drafted.Source, "fix_plan: tidy\ndataset: pumps\nsteps:\n") ||
		!strings.Contains(drafted.Source, "\n  - do: map_codes\n") || !strings.Contains(drafted.Source, "\n  # - do: keep_one\n") {
		t.Errorf("%s, %v", drafted.Source, err)
	}
	declare(t, r.Steward, "fix-plans", drafted.Source)
}

// A standing plan is applied to each delivery as it arrives, and stops where it would do far more than before.
func TestAStandingPlan(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: pumps\ncolumns:\n  - {name: pump}\n  - {name: crew}\npass_mark: 0\n")
	declare(t, r.Steward, "fix-plans", "fix_plan: tidy\ndataset: pumps\nsteps:\n  - {do: trim, columns: [crew], reason: Spaces.}\n")
	_, err := r.Steward.SetStandingPlan(ctx, "pumps", client.StandingBody{FixPlan: ptr("nothing")})
	refused(t, "a plan that is not there", err, http.StatusNotFound, "nothing")
	d, err := r.Steward.SetStandingPlan(ctx, "pumps", client.StandingBody{FixPlan: ptr("tidy")})
	if err != nil || d.StandingPlan == nil || *d.StandingPlan != "tidy" {
		t.Fatalf("%+v, %v", d, err)
	}
	content := func(spaced, rows int) string {
		var b strings.Builder
		b.WriteString("pump,crew\n")
		for i := range rows {
			fmt.Fprintf(&b, "P%d-%d,red%s\n", rows, i, map[bool]string{true: " "}[i < spaced])
		}
		return b.String()
	}
	jobOf := func(table int64) *records.Job {
		t.Helper()
		for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			jobs, err := servicetest.Get[records.Page[records.Job]](ctx, r.Steward, fmt.Sprintf("/jobs?table=%d", table))
			if err != nil {
				t.Fatal(err)
			}
			for _, j := range jobs.Items {
				if j.Kind == work.Fix && j.Ended() {
					return &j
				}
			}
		}
		t.Fatal("the plan is not applied")
		return nil
	}
	first := deliver(t, r.Steward, "pumps", content(2, 100)).Table.ID
	if j := jobOf(first); j.State != "done" || j.ResultTable == nil {
		t.Fatalf("%+v", j)
	}
	audited(t, r.Steward, first) // an audit more applies it no second time
	second := deliver(t, r.Steward, "pumps", content(60, 110)).Table.ID
	if j := jobOf(second); j.State != "failed" || !strings.Contains(j.Error, "step 1 (trim) touches 60 cells and rows, and on the delivery before 2") {
		t.Errorf("%+v", j)
	}
	body := map[string]any{"fix_plan": "tidy"}
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/previews", second), body)
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	var shown fix.Preview
	if err := json.Unmarshal(*job.Result, &shown); err != nil || len(shown.Since) != 1 || !shown.Since[0].Stops || shown.Since[0].Before != 2 {
		t.Errorf("%+v, %v", shown.Since, err)
	}
	body["looked"] = true
	if job, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", second), body); err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil || job.ResultTable == nil {
		t.Errorf("%+v, %v", job, err)
	}
	jobs, err := servicetest.Get[records.Page[records.Job]](ctx, r.Steward, fmt.Sprintf("/jobs?table=%d", first))
	if err != nil || len(slices.DeleteFunc(jobs.Items, func(j records.Job) bool { return j.Kind != work.Fix })) != 1 {
		t.Errorf("%+v, %v", jobs, err)
	}
}

func ptr[T any](v T) *T { return &v }

package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/table"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const flowBook = `dataset: flows
columns:
  - {name: site, required: true}
  - {name: rain, type: decimal, required: true}
  - {name: flow, type: decimal, required: true}
measures: [flow]
pass_mark: 50
`

const flowPlan = `fix_plan: flows_filled
dataset: flows
steps:
  - {do: set_aside, where: rain < 1, reason: Dry days.}
  - {do: estimate, column: flow, method: near_predictions, alike_in: [rain, site], draws: 3, seed: 4, reason: The logger was out.}
`

func gappyFlows() string {
	var b strings.Builder
	b.WriteString("site,rain,flow\n")
	for i := range 200 {
		flow := fmt.Sprint(2*(i%20) + i%3)
		if i%10 == 7 {
			flow = ""
		}
		fmt.Fprintf(&b, "%s,%d,%s\n", []string{"A", "B"}[i%2], i%20, flow)
	}
	return b.String()
}

// applyPlan applies a saved plan and returns the cleaned table.
func applyPlan(t *testing.T, r *servicetest.Running, id int64, plan string) *records.Table {
	t.Helper()
	job, err := r.Steward.ApplyFix(ctx, id, client.PlannedBody{FixPlan: plan})
	return madeBy(t, r, job, err)
}

// mergedBy runs a saved merge and returns the merged table.
func mergedBy(t *testing.T, r *servicetest.Running, name string) *records.Table {
	t.Helper()
	job, err := r.Steward.RunMerge(ctx, name, client.RunBody{})
	return madeBy(t, r, job, err)
}

// madeBy follows a job that was asked for and returns the table that it makes.
func madeBy(t *testing.T, r *servicetest.Running, job *records.Job, err error) *records.Table {
	t.Helper()
	if err == nil {
		job, err = r.Steward.Follow(ctx, job.ID, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	made, err := r.Steward.ShowTable(ctx, *job.ResultTable)
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// An estimate is marked in the record of its table, its audits, rows and exports, in what is merged of it, and on the certificate.
func TestEstimatesAreMarkedForEver(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", flowBook)
	declare(t, r.Steward, "fix-plans", flowPlan)
	id := deliver(t, r.Steward, "flows", gappyFlows()).Table.ID
	audited(t, r.Steward, id)

	job, err := r.Steward.WeighEstimates(ctx, id, client.WeighedBody{Source: flowPlan, Step: 2})
	if err == nil {
		job, err = r.Steward.Follow(ctx, job.ID, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	compared, err := client.Decode[estimate.Comparison](r.Reader.ShowComparisonOfEstimates(ctx, job.ID))
	if err != nil || compared.Gaps != 20 || len(compared.Ways) != 4 || compared.Ways[0].Error == nil {
		t.Errorf("%+v %v", compared, err)
	}
	if _, err := r.Reader.ShowComparisonOfEstimates(ctx, 1); err == nil {
		t.Error("an audit has compared methods")
	}

	made := applyPlan(t, r, id, "flows_filled")
	a := audited(t, r.Steward, made.ID)
	if made.Marks == nil || made.Draws == nil || a.Result.Estimates == nil || a.Result.Estimates.Marks != *made.Marks || a.Result.Estimates.Cells != 20 ||
		a.Result.Columns[2].Estimated != 20 || a.Result.Columns[2].Missing != 0 {
		t.Fatalf("%+v, audit %+v", made, a.Result.Estimates)
	}
	page, err := client.Decode[api.RowsPage](r.Reader.ShowRows(ctx, made.ID, &client.ShowRowsParams{Estimated: "flow", Limit: 50}))
	if err != nil || page.Total != 20 || len(page.Rows) != 20 {
		t.Fatalf("%+v %v", page, err)
	}
	for _, row := range page.Rows {
		if len(row.Estimated) != 1 || row.Estimated[0] != "flow" || row.Cells[2] == "" {
			t.Errorf("row %d: %+v", row.Row, row)
		}
	}
	download := func(id int64, what client.DownloadTableParamsWhat) []byte {
		t.Helper()
		var out bytes.Buffer
		whole, err := r.Reader.DownloadTable(ctx, id, &client.DownloadTableParams{What: what})
		if err := client.Save(&out, whole, err); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	marks, err := table.ReadMarks(bytes.NewReader(download(made.ID, client.DownloadTableParamsWhatMarks)))
	if err != nil || marks.Digest != *made.Marks || !marks.In("flow").Contains(page.Rows[0].Row) {
		t.Errorf("%+v %v", marks, err)
	}
	raw := download(made.ID, client.DownloadTableParamsWhatDraws)
	draws, err := parquet.Read[fix.Draw](bytes.NewReader(raw), int64(len(raw)))
	if err != nil || len(draws) != 2*20 {
		t.Errorf("%d draws, %v", len(draws), err)
	}
	var rows bytes.Buffer
	whole, err := r.Reader.DownloadRows(ctx, made.ID, &client.DownloadRowsParams{})
	if err := client.Save(&rows, whole, err); err != nil {
		t.Fatal(err)
	}
	if head, body, _ := strings.Cut(rows.String(), "\n"); head != "row,site,rain,flow,flow_estimated" || strings.Count(body, ",true\n") != 20 {
		t.Errorf("%s and %d rows are marked", head, strings.Count(body, ",true\n"))
	}

	// Another dataset is merged of it, of which nothing is declared yet: it is told so, and a rulebook is proposed.
	declare(t, r.Steward, "merges", "merge: all_flows\nstack: [flows]\n")
	merged := mergedBy(t, r, "all_flows")
	if merged.Marks == nil {
		t.Fatalf("%+v", merged)
	}
	audited(t, r.Steward, merged.ID)
	stands, err := client.Decode[api.Obstacles](r.Certifier.ListObstacles(ctx, merged.ID))
	if err != nil || len(stands.Obstacles) != 1 || !strings.Contains(stands.Obstacles[0].Says, "has no rulebook") {
		t.Errorf("%+v %v", stands, err)
	}
	proposed, err := servicetest.Get[api.Proposed](ctx, r.Steward, "/datasets/all_flows/proposal")
	if err != nil || !strings.Contains(proposed.Source, "dataset: all_flows") || !strings.Contains(proposed.Source, "flow") {
		t.Fatalf("%+v %v", proposed, err)
	}
	declare(t, r.Steward, "rulebooks", strings.Replace(flowBook, "dataset: flows", "dataset: all_flows", 1))
	if _, err := r.Steward.StartAudit(ctx, merged.ID); err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, merged.ID)
	certificate, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	key, err := r.Reader.SigningKey(ctx)
	if err != nil {
		t.Fatal(err)
	}
	content, beside := download(merged.ID, ""), download(merged.ID, client.DownloadTableParamsWhatMarks)
	s, err := certify.Verify(bytes.NewReader(content), bytes.NewReader(beside), certificate.Signature, key)
	if err != nil || s.Table.Estimates != 20 || s.Table.Are != "missing" {
		t.Errorf("%+v %v", s, err)
	}
	if _, err := certify.Verify(bytes.NewReader(content), nil, certificate.Signature, key); !errors.Is(err, certify.ErrMarks) {
		t.Errorf("without marks: %v", err)
	}
	if _, err := certify.Verify(bytes.NewReader(content), bytes.NewReader(beside[1:]), certificate.Signature, key); !errors.Is(err, certify.ErrMarks) {
		t.Errorf("with other marks: %v", err)
	}
}

// A plan can make tables of a dataset of which nothing is declared yet: they are audited by a draft, and a rulebook is
// proposed of them.
func TestAPlanMakesTablesOfADatasetThatNobodyDeclared(t *testing.T) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", gaugeBook)
	sheet := deliver(t, r.Steward, "gauge_sheets", gaugeSheets).Table.ID
	audited(t, r.Steward, sheet)
	if _, err := r.Steward.AddDataset(ctx, client.NewDatasetBody{Name: "levels", Title: "Levels"}); err != nil {
		t.Fatal(err)
	}
	plan := strings.Replace(gaugePlan, "  - {do: set_values, columns: [level], expression: level / 100, where: level > 100, reason: Centimetres.}\n", "", 1)
	declare(t, r.Steward, "fix-plans", plan)
	made := applyPlan(t, r, sheet, "gauge_long")
	if made.Dataset != "levels" {
		t.Fatalf("%+v", made)
	}
	if a := audited(t, r.Steward, made.ID); a.Result.Passed != nil || a.Rows == 0 {
		t.Errorf("%+v", a.Result)
	}
	proposed, err := servicetest.Get[api.Proposed](ctx, r.Steward, "/datasets/levels/proposal")
	if err != nil || !strings.Contains(proposed.Source, "{name: day, type: date") {
		t.Errorf("%+v %v", proposed, err)
	}
	raw, err := json.Marshal(proposed)
	if err != nil || bytes.Contains(raw, []byte("null")) {
		t.Errorf("%s %v", raw, err)
	}
}

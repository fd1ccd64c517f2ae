package audit_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// marked is a table with marks of estimates.
type marked struct {
	table.Source
	marks *table.Marks
}

func (m marked) Marks() *table.Marks { return m.marks }

// Of 1,000 flows every tenth is an estimate, and every twenty-fifth is missing.
func estimatedTable(t *testing.T, book string) *audit.Result {
	t.Helper()
	b := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: n, type: integer}\n  - {name: flow, type: decimal"+book)
	var content strings.Builder
	content.WriteString("n,flow\n")
	rows := table.NewRowSet()
	for i := 1; i <= 1000; i++ {
		flow := fmt.Sprint(i % 7)
		if i%25 == 7 {
			flow = ""
		} else if i%10 == 0 {
			rows.Add(uint32(i))
		}
		fmt.Fprintf(&content, "%d,%s\n", i, flow)
	}
	source := marked{testkit.File(t, content.String(), b.Reading), &table.Marks{Digest: "d", All: []table.Mark{{Column: "flow", Method: "group_mean", Rows: rows}}}}
	var results [2]*audit.Result
	for i, workers := range []int{1, 8} {
		result, err := audit.Run(t.Context(), source, b, workers)
		if err != nil {
			t.Fatal(err)
		}
		results[i] = result
	}
	if !reflect.DeepEqual(results[0].Findings, results[1].Findings) || !reflect.DeepEqual(results[0].Sums, results[1].Sums) {
		t.Error("eight workers find something else")
	}
	return results[0]
}

func TestEstimatesCountAsMissing(t *testing.T) {
	r := estimatedTable(t, ", required: true}\nmeasures: [flow]\n")
	c := r.Columns[1]
	if c.Missing != 40 || c.Estimated != 100 || c.Completeness != 86 || *r.Estimates != (audit.Estimates{Cells: 100, Are: "missing", Marks: "d"}) {
		t.Errorf("%d missing, %d estimated, completeness %v, %+v", c.Missing, c.Estimated, c.Completeness, r.Estimates)
	}
	f := r.Findings[0]
	// What the finding weighs is the estimates in rows 10, 20, … 1,000.
	sum := 0
	for i := 10; i <= 1000; i += 10 {
		sum += i % 7
	}
	if f.Rule != "flow.required" || f.Rows != 140 || f.Impact["flow"] != fmt.Sprint(sum) ||
		f.Found != "140 of 1,000 rows have nothing in flow, or nothing but an estimate (100)." {
		t.Errorf("%s: %d rows, %s, impact %v (want %d)", f.Rule, f.Rows, f.Found, f.Impact, sum)
	}
	if r = estimatedTable(t, ", filled: 90}\n"); len(r.Findings) != 1 || r.Findings[0].Rows != 140 {
		t.Errorf("filled: %+v", r.Findings)
	}
}

func TestEstimatesCountAsValuesWhereTheRulebookSaysSo(t *testing.T) {
	r := estimatedTable(t, ", required: true}\nmeasures: [flow]\nestimates: values\n")
	c := r.Columns[1]
	if c.Missing != 40 || c.Estimated != 100 || c.Completeness != 96 || r.Estimates.Are != "values" || r.Findings[0].Rows != 40 {
		t.Errorf("%d missing, %d estimated, completeness %v, %+v", c.Missing, c.Estimated, c.Completeness, r.Findings)
	}
	if r = estimatedTable(t, ", filled: 90}\nestimates: values\n"); len(r.Findings) != 0 {
		t.Errorf("filled: %+v", r.Findings)
	}
}

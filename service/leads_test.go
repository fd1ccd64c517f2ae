package service_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const flowsBook = `dataset: flows
columns:
  - {name: day, type: date}
  - {name: flow, type: integer}
  - {name: crew, pattern: "[a-z]+"}
pass_mark: 50
`

// flows are days with a flow each, and with others at the end.
func flows(more ...string) string {
	var b strings.Builder
	b.WriteString("day,flow,crew\n")
	for i := range 200 {
		fmt.Fprintf(&b, "2024-%02d-%02d,%d,%s\n", i/28+1, i%28+1, 60+i*8%21, []string{"blue", "red"}[i%2])
	}
	return b.String() + strings.Join(more, "")
}

func TestWhatLooksOddIsMeantSoOrBecomesAnIssue(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", flowsBook)
	a := audited(t, r.Steward, deliver(t, r.Steward, "flows", flows("2024-08-05,5000,GREEN\n")).Table.ID)
	told := func(kind string) (n int) {
		for _, l := range a.Result.Leads {
			if l.Kind == kind {
				n++
			}
		}
		return n
	}
	if told("outliers") != 1 {
		t.Fatalf("%+v", a.Result.Leads)
	}

	// Issues of a lead, of a text, of rows.
	made := func(what map[string]any) *records.Issue {
		t.Helper()
		i, err := servicetest.Post[records.Issue](ctx, r.Steward, fmt.Sprintf("/audits/%d/issues", a.ID), what)
		if err != nil {
			t.Fatal(err)
		}
		return i
	}
	lead := made(map[string]any{"lead": "outliers", "column": "flow"})
	if lead.Subject != "lead" || lead.Rows != 1 || !strings.Contains(lead.Title, "5000") || lead.State != "open" {
		t.Errorf("%+v", lead)
	}
	if i := made(map[string]any{"rule": "crew.pattern", "text": "GREEN", "severity": "major"}); i.Subject != "text" || i.Rule != "crew.pattern" ||
		i.Severity != "major" || i.Title != `"GREEN" stands in 1 row of crew.` {
		t.Errorf("%+v", i)
	}
	if i := made(map[string]any{"rows": []int{7, 3, 7}, "title": "Which gauge is this?"}); i.Subject != "rows" || i.Rows != 2 ||
		i.Title != "Which gauge is this?" || !strings.Contains(string(i.About), "[3,7]") {
		t.Errorf("%+v", i)
	}
	for what, body := range map[string]map[string]any{"The audit tells no lead": {"lead": "outliers", "column": "day"},
		"none of the texts": {"rule": "crew.pattern", "text": "blue"}, "rows 1 to 201": {"rows": []int{202}}, "Name a lead": {}} {
		_, err := servicetest.Post[records.Issue](ctx, r.Steward, fmt.Sprintf("/audits/%d/issues", a.ID), body)
		refused(t, what, err, 422, what)
	}

	// An audit that tells the lead no more closes its issue; those of rules are followed beside.
	meant := map[string]any{"lead": "outliers", "column": "flow", "reason": "The floods of August."}
	d, err := servicetest.Post[records.Declaration](ctx, r.Steward, fmt.Sprintf("/audits/%d/meant-so", a.ID), meant)
	if err != nil || d.Version != 2 || !strings.Contains(d.Source, `texts: ["5000"], at_most: 1, reason: "The floods of August."`) {
		t.Fatalf("%+v, %v", d, err)
	}
	a = audited(t, r.Steward, deliver(t, r.Steward, "flows", flows("2024-08-05,5000,blue\n")).Table.ID)
	if told("outliers") != 0 || len(a.Result.MeantSo) != 1 {
		t.Errorf("told %+v, meant so %+v", a.Result.Leads, a.Result.MeantSo)
	}
	shown, err := r.Steward.ShowIssue(ctx, lead.ID)
	if err != nil || shown.State != "closed" {
		t.Errorf("%+v, %v", shown, err)
	}
	a = audited(t, r.Steward, deliver(t, r.Steward, "flows", flows("2024-08-05,5000,blue\n2024-08-06,5100,blue\n")).Table.ID)
	if told("outliers") != 1 {
		t.Error("what grew is not told again")
	}
	_, err = servicetest.Post[records.Declaration](ctx, r.Reader, fmt.Sprintf("/audits/%d/meant-so", a.ID), meant)
	refused(t, "a reader", err, 403, "right to")
}

package service_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// Issues are ordered and chosen by the service, and every order is paged to its end, each issue once.
func TestIssuesAreOrderedChosenAndPaged(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	var rules, content strings.Builder
	for i := range 12 {
		severity := []string{"major", "minor", "note"}[i%3]
		fmt.Fprintf(&rules, "  - {id: rule_%02d, condition: value < %d, severity: %s}\n", i, 2+i%4, severity)
	}
	for i := range 8 {
		fmt.Fprintf(&content, "S%d,%d\n", i, i)
	}
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: sample}, {name: value, type: decimal}]\nrules:\n"+rules.String())
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "sample,value\n"+content.String()).Table.ID)
	weight := map[string]int64{"major": 2, "minor": 1, "note": 0}
	keys := map[string]func(records.Issue) int64{
		"newest":  func(i records.Issue) int64 { return i.ID },
		"changed": func(i records.Issue) int64 { return i.ChangedAt.UnixMicro() },
		"rows":    func(i records.Issue) int64 { return i.Rows },
		"gravest": func(i records.Issue) int64 { return weight[i.Severity]*1000 + i.Rows },
	}
	for order, key := range keys {
		seen, after, last := map[int64]bool{}, "", int64(1)<<62
		for pages := 0; ; pages++ {
			page, err := servicetest.Get[records.Page[records.Issue]](ctx, r.Reader, "/issues?limit=5&order="+order+"&after="+after)
			if err != nil {
				t.Fatal(err)
			}
			for _, i := range page.Items {
				if seen[i.ID] || key(i) > last {
					t.Errorf("%s: issue %d is there again or out of order", order, i.ID)
				}
				seen[i.ID], last = true, key(i)
			}
			if after = page.Next; after == "" {
				break
			}
		}
		if len(seen) != 12 {
			t.Errorf("%s: %d of 12 issues", order, len(seen))
		}
	}
	first, err := servicetest.Get[records.Page[records.Issue]](ctx, r.Reader, "/issues?text=RULE_07")
	if err != nil || len(first.Items) != 1 {
		t.Fatalf("%+v, %v", first, err)
	}
	jonas := "Jonas"
	if _, err := r.Steward.EditIssue(ctx, first.Items[0].ID, client.IssueChanged{Assignee: &jonas}); err != nil {
		t.Fatal(err)
	}
	for query, want := range map[string]int{"severity=minor": 4, "assignee=Jonas": 1, "assignee=-": 11, "severity=note&assignee=Jonas": 0,
		"text=no%20such": 0, "dataset=samples&state=unsettled": 12} {
		if all, err := servicetest.All[records.Issue](ctx, r.Reader, "/issues?"+query); err != nil || len(all) != want {
			t.Errorf("%s: %d issues, %v, want %d", query, len(all), err, want)
		}
	}
	if _, err := servicetest.Get[records.Page[records.Issue]](ctx, r.Reader, "/issues?order=nonsense"); err == nil {
		t.Error("an order that there is not is taken")
	}
	if _, err := servicetest.Get[records.Page[records.Issue]](ctx, r.Reader, "/issues?order=rows&after=x"); err == nil {
		t.Error("a cursor that was not handed out is taken")
	}
}

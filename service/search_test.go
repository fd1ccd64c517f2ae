package service_test

import (
	"fmt"
	"net/url"
	"slices"
	"testing"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestAnythingIsFoundByItsName(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := taken(t, r, gauges())
	if _, err := r.Steward.AddRulebook(ctx, nil, client.SavingRulebookBody{Source: "dataset: gauges\ntitle: Gauges of the vale\nreading: {delimiter: \";\", decimal_mark: \",\"}\n" +
		"columns: [{name: id}, {name: flow, type: decimal, required: true}]\nkeys:\n  - {id: one_gauge, columns: [id]}\n"}); err != nil {
		t.Fatal(err)
	}
	var id int64
	if _, err := fmt.Sscanf(table, "/tables/%d", &id); err != nil {
		t.Fatal(err)
	}
	again, err := r.Steward.StartAudit(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, again.ID, nil); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ text, kind, name string }{
		{"VALE", "dataset", "gauges"}, {"flo", "column", "flow"}, {"one_g", "rule", "one_gauge"}, {"no flow", "issue", ""}, {"nothing in flow", "issue", "300 of 3,000 rows have nothing in flow."},
		{"gauges.csv", "delivery", "gauges.csv"}, {"the office", "delivery", "gauges.csv"}, {"%", "", ""}, {"_", "rule", "one_gauge"}, {"1", "issue", "300 of 3,000 rows have nothing in flow."},
	} {
		found, err := servicetest.Get[records.Found](ctx, r.Reader, "/search?text="+url.QueryEscape(c.text))
		if err != nil {
			t.Fatal(err)
		}
		has := slices.ContainsFunc(found.Hits, func(h records.Hit) bool {
			return h.Kind == c.kind && h.Name == c.name && h.Dataset == "gauges"
		})
		if has != (c.name != "") {
			t.Errorf("%q: %+v, want %s %q", c.text, found.Hits, c.kind, c.name)
		}
	}
	if _, err := servicetest.Get[records.Found](ctx, r.Reader, "/search?text="); err == nil {
		t.Error("nothing is looked for")
	}
}

package service_test

import (
	"fmt"
	"testing"

	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// Rows of which something is missing or caught are asked for at once, and by an audit that is named.
func TestMarkedRowsAndRowsByAnAuditThatIsNamed(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: sample}, {name: value, type: decimal, to: 5}]\n")
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS2,\nS3,9\n,2\n")
	numbers := func(query string) string {
		t.Helper()
		page, err := servicetest.Get[api.RowsPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows?%s", d.Table.ID, query))
		if err != nil {
			t.Fatal(err)
		}
		out := fmt.Sprint(page.Total, ":")
		for _, row := range page.Rows {
			out += fmt.Sprint(" ", row.Row)
		}
		return out
	}
	first := audited(t, r.Steward, d.Table.ID)
	if got := numbers("marked=true"); got != "3: 2 3 4" {
		t.Errorf("something is missing or caught in %s", got)
	}
	if got := numbers("marked=true&where=value%20IS%20NOT%20NULL&sort=value"); got != "2: 4 3" {
		t.Errorf("with a condition and an order: %s", got)
	}
	ease(t, r.Steward, "dataset: samples\ncolumns: [{name: sample}, {name: value, type: decimal, to: 50}]\n", 1)
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/audits", d.Table.ID), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	if got := numbers("marked=true"); got != "2: 2 4" {
		t.Errorf("by the newest audit %s", got)
	}
	if got := numbers(fmt.Sprintf("marked=true&audit=%d", first.ID)); got != "3: 2 3 4" {
		t.Errorf("by the first audit %s", got)
	}
	other := deliver(t, r.Steward, "samples", "sample,value\nS9,1\n")
	if _, err := servicetest.Get[api.RowsPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/rows?audit=%d", other.Table.ID,
		first.ID)); err == nil {
		t.Error("an audit of another table says what is caught in this one")
	}
}

package service_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/rulebook"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/store"
)

// A file is looked at before it becomes a delivery: how it is read, and why; what a person says of it counts.
func TestAFileIsLookedAtChangedAndTakenIn(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	file := "Gauges of the vale\n\nid;flow\nG1;1,5\nG2;2,5\nTotal;4,0\n"
	a, err := r.Steward.Arrive(ctx, "Gauges-2024-05.csv", strings.NewReader(file))
	if err != nil {
		t.Fatal(err)
	}
	look := func(id int64, w *client.ReadingWish) (*api.LookedAt, error) {
		return servicetest.Post[api.LookedAt](ctx, r.Steward, fmt.Sprintf("/arrivals/%d/reading", id), client.LookingBody{Reading: w})
	}
	seen, err := look(a.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	if seen.Name != "gauges" || len(seen.Columns) != 2 || seen.Columns[1].Type != "decimal" || len(seen.Rows) != 2 ||
		seen.Rows[0].Line != 4 || seen.Rows[0].Cells[1] != "1,5" || seen.SetAside == 0 || len(seen.Fits) != 0 {
		t.Errorf("as it comes: %+v", seen)
	}
	wish := func(change func(w *client.ReadingWish)) *client.ReadingWish {
		w := &client.ReadingWish{}
		change(w)
		return w
	}
	all := wish(func(w *client.ReadingWish) { w.Closing = &[]string{} })
	if seen, err = look(a.ID, all); err != nil || len(seen.Rows) != 3 ||
		seen.Rows[2].Cells[0] != "Total" {
		t.Errorf("where every line is a row: %+v, %v", seen, err)
	}
	commas := wish(func(w *client.ReadingWish) { w.Delimiter = "," })
	if seen, err = look(a.ID, commas); err != nil || len(seen.Rows) != 5 ||
		strings.Join(seen.Rows[2].Cells, "|") != "G1;1|5" || len(seen.Defects) != 3 {
		t.Errorf("by commas: %+v, %v", seen, err)
	}
	for name, w := range map[string]*client.ReadingWish{
		"delimiter": wish(func(w *client.ReadingWish) { w.Delimiter = "\n" }),
		"dates":     wish(func(w *client.ReadingWish) { w.Dates = []string{"nonsense"} }),
	} {
		if _, err := look(a.ID, w); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("a wrong %s: %v", name, err)
		}
	}
	delivered, err := r.Steward.DeliverArrival(ctx, a.ID, client.BecomingBody{Dataset: "gauges", Title: "Gauges of the vale", Reading: all,
		Source: records.SourceNotes{Provider: "the office"}})
	if err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, delivered.Table.ID)
	made, err := r.Steward.ShowTable(ctx, delivered.Table.ID)
	if err != nil || made.Rows == nil || *made.Rows != 3 || made.FileName != "Gauges-2024-05.csv" {
		t.Errorf("the delivery: %+v, %v", made, err)
	}
	// what was said of the reading is in the proposal too
	proposal, err := servicetest.Get[api.Carried](ctx, r.Steward, "/datasets/gauges/proposal")
	if err != nil {
		t.Fatal(err)
	}
	if book, err := rulebook.Parse([]byte(proposal.Source)); err != nil || len(book.Reading.Closing) > 0 {
		t.Errorf("the proposal reads otherwise: %v\n%s", err, proposal.Source)
	}
	// the next file of these columns is offered to the dataset
	next, err := r.Steward.Arrive(ctx, "june.csv", strings.NewReader("id,flow,note\nG1,1.5,\nG3,2.5,\n"))
	if err != nil {
		t.Fatal(err)
	}
	if seen, err = look(next.ID, nil); err != nil || len(seen.Fits) != 1 ||
		seen.Fits[0].Dataset != "gauges" || seen.Fits[0].Same != 2 || seen.Fits[0].Ruled {
		t.Errorf("what it fits: %+v, %v", seen, err)
	}
	if _, err := r.Steward.AddRulebook(ctx, nil, client.SavingRulebookBody{Source: "dataset: gauges\ncolumns: [{name: id}]\n"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.DeliverArrival(ctx, next.ID, client.BecomingBody{Dataset: "gauges", Reading: commas}); err == nil ||
		!strings.Contains(err.Error(), "declares how") {
		t.Errorf("another reading than the rulebook's: %v", err)
	}
	// what is shown is what the rulebook makes of it
	seen, err = servicetest.Post[api.LookedAt](ctx, r.Steward, fmt.Sprintf("/arrivals/%d/reading", next.ID), client.LookingBody{Dataset: "gauges"})
	if err != nil || seen.Rulebook != 1 || len(seen.Columns) != 3 || seen.Columns[0].Type != "text" || len(seen.Rows) != 2 {
		t.Errorf("by the rulebook: %+v, %v", seen, err)
	}
	if _, err := r.Steward.DeliverArrival(ctx, next.ID, client.BecomingBody{Dataset: "gauges"}); err != nil {
		t.Error(err)
	}
}

// A file that became no delivery is kept for a day, and no longer.
func TestAnArrivalIsKeptForADay(t *testing.T) {
	t.Parallel()
	database := ""
	r := servicetest.Start(t, func(o *service.Options) { database = o.DatabaseURL })
	records, err := store.Look(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer records.DB.Close()
	a, err := r.Steward.Arrive(ctx, "a.csv", strings.NewReader("id\n1\n"))
	if err != nil {
		t.Fatal(err)
	}
	kept := func() map[string]bool {
		known, err := store.RecordedDigests(ctx, records.DB, []string{a.Digest})
		if err != nil {
			t.Fatal(err)
		}
		return known
	}
	if !kept()[a.Digest] {
		t.Error("a sweep would remove it at once")
	}
	if _, err := records.DB.ExecContext(ctx, "UPDATE arrivals SET created_at = created_at - interval '25 hours'"); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.LookAtArrival(ctx, a.ID, client.LookingBody{}); err == nil || !strings.Contains(err.Error(), "kept for 1 day") {
		t.Errorf("after a day: %v", err)
	}
	if err := store.ForgetArrivals(ctx, records.DB); err != nil || len(kept()) != 0 {
		t.Errorf("after a day its bytes stay: %v", err)
	}
}

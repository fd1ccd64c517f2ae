package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// What looks odd is written into the rulebook as meant so, with a reason, or becomes an issue, by a press each.
func TestWhatLooksOddIsMeantSoOrMadeAnIssue(t *testing.T) {
	r := servicetest.Start(t, nil)
	if _, err := r.Steward.Declare(t.Context(), "rulebooks",
		[]byte("dataset: levels\ncolumns: [{name: n, type: integer}, {name: unit}, {name: spare}]\n")); err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	b.WriteString("n,unit,spare\n")
	for i := range 200 {
		fmt.Fprintf(&b, "%d,m,\n", 60+i*7%21)
	}
	b.WriteString("7412000,m,\n")
	d, err := r.Steward.Deliver(t.Context(), "levels", "levels.csv", records.SourceNotes{}, strings.NewReader(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(t.Context(), d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees("levels")
	p.visit(fmt.Sprintf("/tables/%d", d.Table.ID))
	p.sees("What looks odd", "lies far from the others", "spare is empty.")
	p.do("pressing meant so", chromedp.Click(chromedp.CSS(`button[aria-label^="Meant so: spare is empty"]`)))
	p.writes(`input[aria-label="Why it is meant so"]`, "It is kept for later.")
	p.presses("Write it into the rulebook")
	p.sees("Version 2 of the rulebook says that it is meant so.")
	p.do("pressing make an issue", chromedp.Click(chromedp.CSS(`button[aria-label^="Make an issue: 1 number of n"]`)))
	p.sees("issue 1")
	p.presses("issue 1")
	p.sees("lies far from the others", "open")
	books, err := r.Steward.ListRulebooks(t.Context(), &client.ListRulebooksParams{Dataset: "levels"})
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(books.Items[0].Source, "It is kept for later.") {
		t.Errorf("it is not in the rulebook:\n%s", books.Items[0].Source)
	}
}

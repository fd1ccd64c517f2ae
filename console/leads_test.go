package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"proudsieve/client"
)

// What looks odd is written into the rulebook as meant so, with a reason, or becomes an issue, by a press each.
func TestWhatLooksOddIsMeantSoOrMadeAnIssue(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("n,unit,spare\n")
	for i := range 200 {
		fmt.Fprintf(&b, "%d,m,\n", 60+i*7%21)
	}
	b.WriteString("7412000,m,\n")
	r, p, table := seated(t, "levels", "dataset: levels\ncolumns: [{name: n, type: integer}, {name: unit}, {name: spare}]\n", b.String())
	p.visit(fmt.Sprintf("/tables/%d", table))
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

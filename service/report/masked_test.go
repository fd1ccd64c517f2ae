package report_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
	"proudsieve/service/report"
)

// Personal data stand in a report as their form alone, wherever they could stand: among what a column holds, what was
// found, what looks odd, and the rows that are shown.
func TestPersonalDataAreMaskedInAReport(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,contact,n\n")
	for i := range 60 {
		fmt.Fprintf(&b, "%d,holder%d@alder-vale.example,%d\n", i, i%20, 60+i%21)
	}
	b.WriteString("59,HOLDER3@alder-vale.example ,x\n61,nobody,7\n")
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: id}\n  - {name: contact, pattern: \".*@.*\"}\n  - {name: n, type: integer}\n"+
		"keys: [{id: one, columns: [id]}]\nhistory: []\n")
	file := testkit.File(t, b.String(), book.Reading)
	result, err := audit.Run(t.Context(), file, book, 1)
	if err == nil {
		err = result.LookAgain(t.Context(), file, 1)
	}
	if err != nil {
		t.Fatal(err)
	}
	examples, err := report.Examples(t.Context(), file, result.Checkpoints, result)
	if err != nil {
		t.Fatal(err)
	}
	page := func(show bool) string {
		var out strings.Builder
		if err := report.Write(&out, &report.Report{Dataset: "d", FileName: "d.csv", When: time.Unix(0, 0), Result: result,
			Examples: examples, ShowPersonal: show}); err != nil {
			t.Fatal(err)
		}
		return out.String()
	}
	hidden := page(false)
	for _, secret := range []string{"holder3", "HOLDER3", "alder-vale", "nobody"} {
		if strings.Contains(hidden, secret) {
			at := strings.Index(hidden, secret)
			t.Errorf("%q stands in the report: %s", secret, hidden[max(at-80, 0):at+40])
		}
		if !strings.Contains(page(true), secret) {
			t.Errorf("%q does not stand where it may be shown", secret)
		}
	}
	for _, want := range []string{"contact seems to hold personal data, which is masked here.", "n•••••", "h•••••••@•••••-••••.", "<code>x</code>"} {
		if !strings.Contains(hidden, want) {
			t.Errorf("the report has no %q", want)
		}
	}
}

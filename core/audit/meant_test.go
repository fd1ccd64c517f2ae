package audit_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
)

// What is meant so is not told again, unless it is of other texts or has grown.
func TestWhatIsMeantSoIsNotToldAgain(t *testing.T) {
	flows := func(far ...string) string {
		cells := repeat(300, func(i int) string { return fmt.Sprint(60 + i*8%21) })
		return column(append(cells, far...))
	}
	book := testkit.Book(t, `dataset: d
columns: [{name: c, type: integer}, {name: row}]
meant_so:
  - {id: floods, lead: outliers, columns: [c], texts: ["5000", "5100"], at_most: 2, reason: Floods of May.}
  - {id: names, lead: near_key, columns: [row]}
`)
	for _, c := range []struct{ content, told string }{
		{flows("5000"), ""}, {flows("5000", "5100"), ""}, {flows("5200"), "Not all of these texts were meant so."},
		{flows("5000", "5100", "5000"), "That is 1 more than was meant so."},
	} {
		for _, again := range []bool{false, true} {
			file := testkit.File(t, c.content, book.Reading)
			r, err := audit.Run(context.Background(), file, book, 2)
			if err == nil && again {
				err = r.LookAgain(context.Background(), file, 2)
			}
			if err != nil {
				t.Fatal(err)
			}
			var told []string
			for _, l := range r.Leads {
				if l.Kind == "outliers" {
					told = append(told, l.Says)
				}
			}
			switch {
			case c.told == "" && (len(told) > 0 || len(r.MeantSo) != 1):
				t.Errorf("told again: %q, meant so: %v", told, r.MeantSo)
			case c.told != "" && (len(told) != 1 || !strings.HasSuffix(told[0], c.told) || strings.Count(told[0], "meant so") != 1):
				t.Errorf("told %q, want %q", told, c.told)
			}
		}
	}
}

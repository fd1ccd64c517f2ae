package steps_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// Every kind of step does nothing to a table without rows, and makes the same of many rows on one worker and on eight,
// whether what it has to sort fits into memory or not.
func TestEveryKindOfStep(t *testing.T) {
	was := table.SortedBytes
	defer func() { table.SortedBytes = was }()
	b := testkit.Book(t, fix.ExampleBook)
	fix.Examples(func(name, _ string, e fix.Example) {
		plan := fixtest.Plan(t, b, "  - "+strings.TrimSuffix(e.Step, "}")+", reason: r}\n")
		play := func(rows string, workers int) *fixtest.Played {
			got, err := fixtest.Play(t, fix.ExampleHeader+rows, b, plan, workers)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			return got
		}
		if got := play("", 2); got.Refused != nil || got.Ledger.RowsOut != 0 || strings.Count(got.Table, "\n") != 1 {
			t.Errorf("%s makes of no rows %q, %v", name, got.Table, got.Refused)
		}
		if got := play(e.Rows, 1); got.Refused != nil || got.Ledger.Changes() == 0 && got.Ledger.Steps[0].Columns == nil && got.Ledger.Steps[0].RowsMade == nil {
			t.Errorf("the example of %s does nothing, or is refused: %v", name, got.Refused)
		}
		var many strings.Builder
		for i := range 3_000 {
			for line := range strings.Lines(e.Rows) {
				first, rest, _ := strings.Cut(line, ";")
				fmt.Fprintf(&many, "%s%d;%s", first, i%2_900, rest)
			}
		}
		table.SortedBytes = was
		one := play(many.String(), 1)
		table.SortedBytes = 20_000
		eight := play(many.String(), 8)
		if one.Table != eight.Table || len(one.Changes) != len(eight.Changes) || len(one.Made) != len(eight.Made) {
			t.Errorf("%s: what it makes depends on the workers or on the memory", name)
		}
	})
}

package audit_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
)

// What is read for rows and sums alone is what the whole audit says of them.
func TestMeasuredIsWhatTheAuditSays(t *testing.T) {
	b := testkit.Book(t, "dataset: d\nreading: {decimal_mark: \",\", delimiter: \";\"}\ncolumns:\n  - {name: id}\n  - {name: n, type: decimal}\n  - {name: k, type: integer}\nmeasures: [n, k]\n")
	var content strings.Builder
	content.WriteString("id;n;k\n")
	for i := range 40_000 {
		n := fmt.Sprintf("%d,%02d", i%911, i%100)
		if i%13 == 0 {
			n = []string{"", "few", "1,5 kr"}[i%3]
		}
		fmt.Fprintf(&content, "r%d;%s;%d\n", i, n, i%7)
	}
	whole, err := audit.Run(t.Context(), testkit.File(t, content.String(), b.Reading), b, 2)
	if err != nil {
		t.Fatal(err)
	}
	for _, workers := range []int{1, 8} {
		read, err := audit.Measured(t.Context(), testkit.File(t, content.String(), b.Reading), b, []string{"n", "k", "nothing"}, workers)
		if err != nil || read.Rows != whole.Rows || len(read.Sums) != 2 || read.Sums["n"] != whole.Sums["n"] || read.Sums["k"] != whole.Sums["k"] {
			t.Errorf("%+v %v, want %d rows and %v", read, err, whole.Rows, whole.Sums)
		}
	}
}

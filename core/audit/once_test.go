package audit_test

import (
	"testing"

	"proudsieve/core/audit/audittest"
)

// A text that is no code is one fault, whatever conditions ask of the column; it stays a text of the column.
func TestOneFaultIsNotReportedAsTwo(t *testing.T) {
	r := audittest.Run(t, "c,n\nPH,7\nph,70\nXX,70\nPH,70\n", `dataset: d
columns:
  - {name: c, type: code, codes: l}
  - {name: n, type: decimal}
code_lists: {l: [PH, DO]}
rules:
  - {id: known, condition: "c IN ('PH', 'DO')"}
  - {id: plausible, condition: "c <> 'PH' OR n < 14"}
`)
	for rule, rows := range map[string]int64{"known": 0, "c.codes": 1, "c.spelling": 1, "plausible": 2} {
		if f := audittest.Finding(t, r, rule); f.Rows != rows {
			t.Errorf("%s: %d rows, want %d", rule, f.Rows, rows)
		}
	}
	if c := audittest.Column(t, r, "c"); c.Mistyped != 0 || c.Distinct != 3 || c.Highest != "XX" {
		t.Errorf("%+v", c)
	}
}

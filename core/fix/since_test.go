package fix_test

import (
	"reflect"
	"testing"

	"proudsieve/core/fix"
)

// A step that touches ten times as large a share as on the delivery before stops for a look, unless it is said to vary.
func TestStepsThatTouchFarMoreThanBefore(t *testing.T) {
	ledger := func(rows int64, steps ...fix.LedgerStep) *fix.Ledger { return &fix.Ledger{RowsIn: rows, Steps: steps} }
	last := ledger(1000, fix.LedgerStep{Kind: "trim", Cells: 10}, fix.LedgerStep{Kind: "set_aside", Rows: 0}, fix.LedgerStep{Kind: "round", Cells: 10}, fix.LedgerStep{Kind: "fill", Cells: 1})
	now := ledger(2000, fix.LedgerStep{Kind: "trim", Cells: 200}, fix.LedgerStep{Kind: "set_aside", Rows: 20}, fix.LedgerStep{Kind: "round", Cells: 900, Varies: true},
		fix.LedgerStep{Kind: "fill", Cells: 19})
	want := []fix.Since{{Step: 1, Kind: "trim", Touched: 200, Before: 10, Times: 10, Stops: true}, {Step: 2, Kind: "set_aside", Touched: 20, Stops: true},
		{Step: 3, Kind: "round", Touched: 900, Before: 10, Times: 45}, {Step: 4, Kind: "fill", Touched: 19, Before: 1, Times: 9.5}}
	if got := now.Since(last); !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant %+v", got, want)
	}
	for name, other := range map[string]*fix.Ledger{"none before": nil, "another plan": ledger(1000, fix.LedgerStep{Kind: "fill"}), "the same": now} {
		if got := now.Since(other); len(got) != 0 {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

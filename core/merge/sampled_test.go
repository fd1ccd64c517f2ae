package merge_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/merge"
	"proudsieve/core/table"
)

// How many rows meet can be asked of a sample of the stacked tables: the share is about that of all rows, and rows have the
// numbers that they have in their table.
func TestHowManyRowsMeetIsToldOfASample(t *testing.T) {
	var rows, codes strings.Builder
	rows.WriteString("id,place,value\n")
	codes.WriteString("code,name,value\n")
	const all = 400_000
	for i := range all {
		fmt.Fprintf(&rows, "N%d,P%d,%d\n", i, i%1000, i)
	}
	for i := range 700 {
		fmt.Fprintf(&codes, "P%d,%d,%d\n", i, i, i)
	}
	plan, err := merge.Parse([]byte(strings.Replace(joinPlaces, "[north, south]", "[north]", 1)))
	if err != nil {
		t.Fatal(err)
	}
	for _, oneIn := range []int{1, 4} {
		in := inputs(t, rows.String(), south, codes.String())
		delete(in, "south")
		some := listed(in)
		for i := range some {
			if some[i].Dataset == "north" {
				some[i].Source = table.OneIn(some[i].Source, oneIn)
			}
		}
		var out strings.Builder
		a, err := merge.Run(context.Background(), plan.Whatever().Counting(), some, 2, merge.Outputs{Table: &out})
		if err != nil {
			t.Fatal(err)
		}
		j := a.Joins[0]
		if oneIn == 1 && (j.RowsIn != all || j.Matched != all*7/10) {
			t.Errorf("of all rows: %d of %d", j.Matched, j.RowsIn)
		}
		if oneIn == 4 && (j.RowsIn < all/8 || j.RowsIn > all/2) {
			t.Errorf("one part in four has %d of %d rows", j.RowsIn, all)
		}
		if share := float64(j.Matched) / float64(j.RowsIn); share < 0.69 || share > 0.71 {
			t.Errorf("one in %d: %d of %d rows meet, want 7 of 10", oneIn, j.Matched, j.RowsIn)
		}
		if len(j.Why) != 0 || len(j.Misses) == 0 {
			t.Errorf("one in %d: where it is only counted, keys that do not meet are named, and no more: %d whys, %d keys", oneIn, len(j.Why), len(j.Misses))
		}
		for _, line := range strings.Split(strings.TrimSpace(out.String()), "\n")[1:] {
			cells := strings.Split(line, ",")
			if cells[0] != "N"+cells[2] {
				t.Fatalf("one in %d: a row of two: %q", oneIn, line)
			}
		}
	}
}

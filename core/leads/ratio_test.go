package leads_test

import (
	"fmt"
	"math"
	"testing"
)

func TestMeasuresThatDoNotGoTogether(t *testing.T) {
	// A flow of 2 to 160, and a load of 0.4 to 0.5 times the flow.
	flow := func(i int) float64 { return 2 * math.Exp(4.4*float64(i*7919%600)/600) }
	row := func(i int, times float64) string { return fmt.Sprintf("%d,%.3f,%.3f", i%9, flow(i), flow(i)*times) }
	goes := func(i int) string { return row(i, 0.4+0.1*float64(i*31%97)/97) }
	middle := func(i int) int { // a row of which neither number is odd by itself, with four times or a quarter
		for ; flow(i) < 12 || flow(i) > 30; i++ {
		}
		return i
	}
	off := map[int]string{middle(50): row(middle(50), 2), middle(300): row(middle(300), 0.1)}
	finds(t, "ratio", "two rows", lines("s,flow,load", 600, but(goes, off)), "The ratio of flow to load is implausible in 2 rows; half of all rows have 2.11 to 2.36.", 2)
	finds(t, "ratio", "all go", lines("s,flow,load", 600, goes), "", 0)
	finds(t, "ratio", "nothing to do with one another", lines("s,flow,load", 600, func(i int) string {
		return fmt.Sprintf("%d,%.3f,%.3f", i%9, flow(i), flow(i*613%600))
	}), "", 0)
	finds(t, "ratio", "odd by itself, which is told", lines("s,flow,load", 600, but(goes, map[int]string{7: "7,9000,4000", 9: "1,20,9000"})), "", 0)
}

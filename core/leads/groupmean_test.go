package leads_test

import (
	"fmt"
	"testing"
)

func TestValuesThatWereFilledInWithAMean(t *testing.T) {
	station := func(i int) string { return fmt.Sprintf("AV-%d", i%6) }
	flow := func(i int) int { return 1000*(i%6) + 100 + i*7919%997 } // in hundredths
	// Some values of one station are the mean of its others, to two decimals.
	sums, others := map[string]int{}, map[string]int{}
	filled := func(i int) bool { return i%9 == 4 && i%6 == 1 }
	for i := range 900 {
		if !filled(i) {
			sums[station(i)] += flow(i)
			others[station(i)]++
		}
	}
	row := func(fill bool) func(i int) string {
		return func(i int) string {
			hundredths := flow(i)
			if fill && filled(i) {
				hundredths = (2*sums[station(i)] + others[station(i)]) / (2 * others[station(i)])
			}
			return fmt.Sprintf("%d,%s,%d.%02d", i, station(i), hundredths/100, hundredths%100)
		}
	}
	finds(t, "group_mean", "the mean of the station", lines("id,station,flow", 900, row(true)),
		"50 values of flow are exactly the mean of the other values of their station, in 1 group", 50)
	finds(t, "group_mean", "nothing was filled in", lines("id,station,flow", 900, row(false)), "", 0)
	finds(t, "group_mean", "a usual value that happens to lie in the middle", lines("id,ph", 900, func(i int) string {
		if i%3 == 0 {
			return fmt.Sprintf("%d,7.0", i)
		}
		return fmt.Sprintf("%d,%.1f", i, 5+float64(i*7919%41)/10)
	}), "", 0)
	whole := 0
	for i := range 900 {
		if i%20 != 3 {
			whole += i * 7919 % 9973
		}
	}
	finds(t, "group_mean", "the mean of the column", lines("id,n", 900, func(i int) string {
		if i%20 == 3 {
			return fmt.Sprintf("%d,%.3f", i, float64(whole)/855)
		}
		return fmt.Sprintf("%d,%d", i, i*7919%9973)
	}), "45 values of n are exactly the mean of the other values of the column", 45)
}

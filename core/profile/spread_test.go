package profile

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// describedTexts takes in texts in two shards.
func describedTexts(texts []string) Column {
	var s column
	for i, text := range texts {
		if i == len(texts)/2 {
			s.endShard()
		}
		s.add(text, 1, false, numberOf(text))
	}
	return s.described()
}

// tenths writes the numbers from..to in tenths.
func tenths(from, to int) []string {
	var out []string
	for i := from; i <= to; i++ {
		out = append(out, fmt.Sprintf("%d.%d", i/10, i%10))
	}
	return out
}

// 0.1 is no binary number; a bin's edge is a decimal all the same.
func TestBinsAreExact(t *testing.T) {
	h := describedTexts(tenths(0, 30)).Numbers.Histogram
	want := append(slices.Repeat([]int64{2}, 15), 1) // 0.0 and 0.1, 0.2 and 0.3, ... 3.0
	if h.From != 0 || h.Width != 0.2 || !slices.Equal(h.Rows, want) || h.Below != 0 || h.Above != 0 {
		t.Errorf("%+v, want %v", h, want)
	}
}

// Bins of all kinds of numbers, held against whole numbers of units that a loop counts.
func TestBinsAgreeWithALoop(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		scale := r.IntN(4)
		power := int64(math.Pow10(scale))
		shift, spread := r.Int64N(2_000_000)-1_000_000, 1+r.Int64N(2000)
		var units []int64
		var texts []string
		for range 1 + r.IntN(200) {
			u := shift + r.Int64N(spread)
			units = append(units, u)
			texts = append(texts, fmt.Sprintf("%.*f", scale, float64(u)/float64(power)))
		}
		h := describedTexts(texts).Numbers.Histogram
		// Edges in thousandths of a unit: exact in 64 bits.
		from, width := int64(math.Round(h.From*float64(power)*1000)), int64(math.Round(h.Width*float64(power)*1000))
		rows, below, above := make([]int64, len(h.Rows)), int64(0), int64(0)
		for _, u := range units {
			switch at := (u*1000 - from) / width; {
			case u*1000 < from:
				below++
			case at >= int64(len(rows)):
				above++
			default:
				rows[at]++
			}
		}
		if !slices.Equal(rows, h.Rows) || below != h.Below || above != h.Above || h.Unsure != 0 {
			t.Fatalf("%v\n got %+v\nwant %v below %d above %d", texts, h, rows, below, above)
		}
	}
}

// Quartiles 0.1 and 0.3 of 0.1, 0.1, 0.2, 0.3, 0.3 set the fences at -0.2 and 0.6: what lies on
// one is within, though 0.1 + 1.5 x 0.2 is more than 0.4 in binary.
func TestANumberOnTheFenceIsNoOutlier(t *testing.T) {
	base := []string{"0.1", "0.1", "0.1", "0.1", "0.2", "0.3", "0.3", "0.3", "0.3"}
	for _, c := range []struct {
		add          []string
		below, above int64
	}{{[]string{"-0.2", "0.6"}, 0, 0}, {[]string{"-0.20001", "0.6"}, 1, 0}, {[]string{"-0.2", "0.60001"}, 0, 1}} {
		o := describedTexts(append(slices.Clone(base), c.add...)).Numbers.Outliers
		if o.LowFence != -0.2 || o.HighFence != 0.6 || o.Below != c.below || o.Above != c.above {
			t.Errorf("%v: %+v", c.add, o)
		}
	}
}

// The shape of numbers does not depend on where they stand.
func TestSkewnessDoesNotDependOnWhereNumbersStand(t *testing.T) {
	for name, c := range map[string]struct {
		at   func(i int) int
		want float64
	}{
		"an even series": {func(i int) int { return i }, 0},
		// Of 0 x 900 and 1 x 100 the skewness is (1 - 2p) / sqrt(p (1 - p)) with p = 0.1.
		"one in ten": {func(i int) int { return min(i%10, 1) ^ 1 }, 0.8 / 0.3},
	} {
		for _, shift := range []int{0, 1_000_000, -1_000_000_000, 1_000_000_000_000} {
			var texts []string
			for i := range 1000 {
				texts = append(texts, fmt.Sprint(shift+c.at(i)))
			}
			got := describedTexts(texts).Numbers.Skewness
			if got == nil || math.Abs(*got-c.want) > 1e-9 {
				t.Errorf("%s from %d: the skewness is %v, want %v", name, shift, *got, c.want)
			}
		}
	}
}

// Beyond the cap what is said of bins and outliers is an estimate, and is no farther off than it says.
func TestEstimatedBinsSayHowFarTheyMayBeOff(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var texts []string
	var numbers []float64
	for range 3 * distinctCap {
		x := math.Round((500+100*r.NormFloat64())*1e6) / 1e6
		numbers = append(numbers, x)
		texts = append(texts, fmt.Sprintf("%.6f", x))
	}
	s := describedTexts(texts).Numbers
	rows, above, below := make([]int64, len(s.Histogram.Rows)), int64(0), int64(0)
	slices.Sort(numbers)
	quantile := func(share float64) float64 { return numbers[int(share*float64(len(numbers)-1))] }
	first, third := quantile(0.25), quantile(0.75)
	for _, x := range numbers {
		if at := int(math.Floor((x - s.Histogram.From) / s.Histogram.Width)); at >= 0 && at < len(rows) {
			rows[at]++
		}
		if x < first-1.5*(third-first) {
			below++
		}
		if x > third+1.5*(third-first) {
			above++
		}
	}
	if s.QuantileError == 0 || s.Histogram.Unsure == 0 || s.Outliers.Unsure == 0 {
		t.Errorf("they are not said to be estimates: %+v", s)
	}
	off := int64(0)
	for i := range rows {
		off += max(rows[i]-s.Histogram.Rows[i], s.Histogram.Rows[i]-rows[i])
	}
	if off > 2*s.Histogram.Unsure || s.Histogram.Unsure > int64(len(numbers))/10 {
		t.Errorf("bins are off by %d rows, and said to be off by %d", off, s.Histogram.Unsure)
	}
	if d := max(below-s.Outliers.Below, s.Outliers.Below-below) +
		max(above-s.Outliers.Above, s.Outliers.Above-above); d > s.Outliers.Unsure {
		t.Errorf("outliers are %d and %d, said to be %d and %d, off by %d at most", below, above, s.Outliers.Below,
			s.Outliers.Above, s.Outliers.Unsure)
	}
}

func TestUnitsStandInOrderHoweverManyAndFarApartTheyAre(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, n := range []int{0, 1, 2, fewUnits - 1, fewUnits, 5000} {
		for _, within := range []int64{1, 3, 1000, 1 << 22, math.MaxInt64} {
			numbers := make([]weighedUnits, n)
			for i := range numbers {
				numbers[i] = weighedUnits{r.Int64N(within) - r.Int64N(within), int64(i)}
			}
			if n > 2 {
				numbers[1].units, numbers[2].units = math.MaxInt64, math.MinInt64
			}
			want := slices.Clone(numbers)
			slices.SortStableFunc(want, func(a, b weighedUnits) int { return cmp.Compare(a.units, b.units) })
			got := sortUnits(numbers)
			if n < fewUnits { // those that are compared may change places with equal ones
				slices.SortFunc(got, func(a, b weighedUnits) int {
					return cmp.Or(cmp.Compare(a.units, b.units), cmp.Compare(a.rows, b.rows))
				})
			}
			if !slices.Equal(got, want) {
				t.Errorf("%d numbers within %d are out of order", n, within)
			}
		}
	}
}

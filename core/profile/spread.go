package profile

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

// Spread describes how numbers lie.
type Spread struct {
	Count     int64    `json:"count"`
	Deviation *float64 `json:"deviation,omitempty"` // standard deviation of a sample (n-1)
	Skewness  *float64 `json:"skewness,omitempty"`  // Fisher-Pearson g1
	// Quantiles interpolate linearly between the ordered numbers. Where the column has too
	// many different ones they are estimated, and off by QuantileError of themselves at most.
	Quantiles     []Quantile `json:"quantiles"`
	QuantileError float64    `json:"quantile_error,omitempty"`
	Histogram     Histogram  `json:"histogram"`
	Outliers      Outliers   `json:"outliers"`
}

// Quantile is the number below which a share of the numbers lies.
type Quantile struct {
	Share  float64 `json:"share"`
	Number float64 `json:"number"`
}

// Histogram counts numbers in bins of equal width, which start at round numbers. It
// covers what lies within three interquartile ranges of the quartiles.
type Histogram struct {
	From  float64 `json:"from"` // where the first bin starts
	Width float64 `json:"width"`
	Rows  []int64 `json:"rows"`
	Below int64   `json:"below,omitempty"` // numbers below the first bin
	Above int64   `json:"above,omitempty"`
	// Unsure is how many numbers may lie in the neighbouring bin, where bins are estimated.
	Unsure int64 `json:"unsure,omitempty"`
}

// Outliers counts the numbers beyond the fences, which stand one and a half
// interquartile ranges outside the quartiles (Tukey, Exploratory Data Analysis, 1977).
type Outliers struct {
	LowFence  float64 `json:"low_fence"`
	HighFence float64 `json:"high_fence"`
	// Lowest and Highest are the extremes of the numbers that lie between the fences: where whiskers end.
	Lowest  float64 `json:"lowest"`
	Highest float64 `json:"highest"`
	Below   int64   `json:"below"`
	Above   int64   `json:"above"`
	// Unsure is how many numbers may lie on the other side of a fence, where fences are estimated.
	Unsure int64 `json:"unsure,omitempty"`
	// Far are those far beyond; nil for none.
	Far *Far `json:"far,omitempty"`
}

// Far is what lies three interquartile ranges outside the quartiles, or four where there are more than 5,000 numbers. Above
// them the ranges are those of the logarithms of the positive numbers where none is negative and these lie more evenly
// around their median (by the 5th and the 95th of a hundred, as Hinkley, Biometrika 62, 1975), as with rainfall and
// incomes.
type Far struct {
	Below int64 `json:"below"`
	Above int64 `json:"above"`
	// Texts are some of them, the farthest first, and From and To the extremes of the others.
	Texts []Frequency `json:"texts"`
	From  string      `json:"from"`
	To    string      `json:"to"`
	low   table.Decimal
	high  table.Decimal
}

// Bounds returns the numbers between which those lie that are not far away, rounded outwards to three digits that count.
func (f *Far) Bounds() (low, high string) {
	outwards := func(d table.Decimal, up bool) string {
		if d.Sign() == 0 {
			return "0"
		}
		unit := table.PowerOfTen(int(math.Floor(math.Log10(d.Abs().Float()))) - 2)
		q, _ := d.Div(unit)
		if up {
			return q.Ceil().Mul(unit).Shortest()
		}
		return q.Floor().Mul(unit).Shortest()
	}
	return outwards(f.low, false), outwards(f.high, true)
}

// Beyond reports whether a number is one of those far away.
func (f *Far) Beyond(d table.Decimal) bool { return d.Cmp(f.low) < 0 || d.Cmp(f.high) > 0 }

// shares are the shares of the quantiles given: five of them are the five-number summary.
var shares = []table.Decimal{hundredths(0), hundredths(1), hundredths(5), quarter, hundredths(50), threeQuarters,
	hundredths(95), hundredths(99), hundredths(100)}

var (
	quarter, threeQuarters = hundredths(25), hundredths(75)

	fences = table.DecimalOf(15, 1) // interquartile ranges outside the quartiles
	bounds = table.DecimalOf(3, 0)  // of the histogram, likewise
	// farFew and farOfMany are how many interquartile ranges outside the quartiles a number lies far from the others; of
	// more than farMany numbers some lie beyond the first by chance.
	farFew, farOfMany = table.DecimalOf(3, 0), table.DecimalOf(4, 0)
)

func hundredths(n int64) table.Decimal { return table.DecimalOf(n, 2) }

const (
	farMany  = 5000
	binsMost = 40
	binsWish = 24
)

func (s *Summary) spread(number NumberReader) *Spread {
	n := &s.numbers
	out := &Spread{Count: n.count, Deviation: finite(n.deviation()), Skewness: finite(n.skewness())}
	var ordered []weighed
	if s.counts.over {
		ordered, out.QuantileError = n.buckets.ascending(), bucketError
		low, high, _ := n.extremes()
		for i := range ordered {
			ordered[i].number = within(ordered[i].number, low, high)
		}
		ordered[0].number, ordered[len(ordered)-1].number = low, high
	} else {
		ordered = s.counts.ascending(number)
	}
	for _, share := range shares {
		out.Quantiles = append(out.Quantiles, Quantile{share.Float(), quantile(ordered, n.count, share).Float()})
	}
	first, third := quantile(ordered, n.count, quarter), quantile(ordered, n.count, threeQuarters)
	reach := third.Sub(first)
	outside := func(times table.Decimal) (low, high table.Decimal) {
		return first.Sub(times.Mul(reach)), third.Add(times.Mul(reach))
	}
	low, high := outside(fences)
	out.Outliers = outliers(ordered, low, high)
	times := farFew
	if n.count > farMany {
		times = farOfMany
	}
	low, high = outside(times)
	out.Outliers.Far = far(ordered, low, high, times)
	low, high = outside(bounds)
	out.Histogram = histogram(ordered, low, high)
	if s.counts.over {
		out.Histogram.Unsure = out.Histogram.unsure(ordered)
		out.Outliers.Unsure = out.Outliers.unsure(ordered, first.Float(), third.Float())
	}
	return out
}

func within(x, low, high table.Decimal) table.Decimal {
	switch {
	case x.Cmp(low) < 0:
		return low
	case x.Cmp(high) > 0:
		return high
	}
	return x
}

// outliers counts what lies beyond the fences; what lies on one does not.
func outliers(ordered []weighed, low, high table.Decimal) Outliers {
	out := Outliers{LowFence: low.Float(), HighFence: high.Float()}
	any := false
	for _, w := range ordered {
		switch {
		case w.number.Cmp(low) < 0:
			out.Below += w.rows
		case w.number.Cmp(high) > 0:
			out.Above += w.rows
		default:
			if !any {
				any, out.Lowest = true, w.number.Float()
			}
			out.Highest = w.number.Float()
		}
	}
	return out
}

// far finds what lies far outside the quartiles.
func far(ordered []weighed, low, high, times table.Decimal) *Far {
	if len(ordered) == 0 || low.Cmp(high) >= 0 {
		return nil
	}
	if ordered[0].number.Sign() >= 0 {
		if fence, ok := highFenceOfLogs(ordered, times.Float()); ok {
			high = fence
		}
	}
	f := &Far{low: low, high: high}
	var first, last table.Decimal // of the others
	any := false
	var beyond []weighed
	for _, w := range ordered {
		switch {
		case w.number.Cmp(low) < 0:
			f.Below += w.rows
		case w.number.Cmp(high) > 0:
			f.Above += w.rows
		default:
			if !any {
				any, first = true, w.number
			}
			last = w.number
			continue
		}
		beyond = append(beyond, w)
	}
	if len(beyond) == 0 {
		return nil
	}
	f.From, f.To = first.Shortest(), last.Shortest()
	middle := first.Add(last)
	away := func(w weighed) table.Decimal { return w.number.Times(2).Sub(middle).Abs() }
	slices.SortStableFunc(beyond, func(a, b weighed) int { return away(b).Cmp(away(a)) })
	for _, w := range beyond[:min(len(beyond), frequentShown)] {
		f.Texts = append(f.Texts, Frequency{w.number.Shortest(), w.rows})
	}
	return f
}

// highFenceOfLogs returns the number whose logarithm lies so many interquartile ranges of logarithms above their upper
// quartile, where these lie more evenly than the numbers do; zeros are left aside.
func highFenceOfLogs(ordered []weighed, times float64) (table.Decimal, bool) {
	positive, count := ordered, int64(0)
	for len(positive) > 0 && positive[0].number.Sign() == 0 {
		positive = positive[1:]
	}
	for _, w := range positive {
		count += w.rows
	}
	if count < 4 {
		return table.Decimal{}, false
	}
	at := func(share table.Decimal) float64 { return quantile(positive, count, share).Float() }
	low, median, high := at(hundredths(5)), at(hundredths(50)), at(hundredths(95))
	if uneven(math.Log(low), math.Log(median), math.Log(high)) >= uneven(low, median, high) {
		return table.Decimal{}, false
	}
	first, third := at(quarter), at(threeQuarters)
	fence := third * math.Pow(third/first, times)
	if math.IsInf(fence, 0) || math.IsNaN(fence) {
		return table.Decimal{}, false
	}
	return table.DecimalNear(fence), true
}

// uneven says how unevenly two quantiles lie around the median, from 0 to 1.
func uneven(low, median, high float64) float64 {
	if high <= low {
		return 0
	}
	return math.Abs(high+low-2*median) / (high - low)
}

// unsure counts the numbers that are as near to a fence as the fence and they may be off.
func (o *Outliers) unsure(ordered []weighed, first, third float64) int64 {
	off := bucketError * ((1+1.5)*max(math.Abs(first), math.Abs(third)) + 1.5*min(math.Abs(first), math.Abs(third)))
	rows := int64(0)
	for _, w := range ordered {
		x := w.number.Float()
		near := off + bucketError*math.Abs(x)
		if math.Abs(x-o.LowFence) <= near || math.Abs(x-o.HighFence) <= near {
			rows += w.rows
		}
	}
	return rows
}

func finite(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// ascending returns the counted numbers in order.
func (c *counts) ascending(number NumberReader) []weighed {
	out := make([]weighed, 0, c.count)
	scale, regular := 0, true
	c.each(func(one *counted) {
		long := ""
		if !one.token.Inline() {
			long = c.texts.text(one.at)
		}
		if d, ok := number(one.token, long); ok {
			out = append(out, weighed{d, int64(one.rows)})
			scale, regular = max(scale, d.Places()), regular && d.Places() <= mostUnitPlaces
		}
	})
	if regular && sortUnits(out, scale) {
		return out
	}
	slices.SortFunc(out, func(a, b weighed) int { return a.number.Cmp(b.number) })
	return out
}

// mostUnitPlaces is how many digits after the point numbers have that can be told in units of the last of them.
const mostUnitPlaces = 18

// sortUnits sorts numbers by how many units of 10^-scale they are; it does nothing and returns false where one is too many
// for a machine word.
func sortUnits(numbers []weighed, scale int) bool {
	sorted := make([]placedUnits, len(numbers))
	for i := range numbers {
		units, ok := numbers[i].number.Scaled(scale)
		if !ok {
			return false
		}
		sorted[i] = placedUnits{units, i}
	}
	sorted = inOrder(sorted)
	out := make([]weighed, len(numbers))
	for i, one := range sorted {
		out[i] = numbers[one.at]
	}
	copy(numbers, out)
	return true
}

// placedUnits is a number in units, and its place among others.
type placedUnits struct {
	units int64
	at    int
}

const (
	digitBits = 11  // of the digits that inOrder sorts by
	fewUnits  = 256 // are sorted by comparing
)

// inOrder returns numbers in ascending order, equals in the order of their places: a radix sort from the last digit on
// (Knuth, The Art of Computer Programming 3, algorithm 5.2.5R), since there are tens of thousands in each of hundreds of columns.
func inOrder(numbers []placedUnits) []placedUnits {
	if len(numbers) < fewUnits {
		slices.SortFunc(numbers, func(a, b placedUnits) int { return cmp.Or(cmp.Compare(a.units, b.units), a.at-b.at) })
		return numbers
	}
	least, most := numbers[0].units, numbers[0].units
	for _, one := range numbers {
		least, most = min(least, one.units), max(most, one.units)
	}
	sorted := make([]placedUnits, len(numbers))
	for shift := 0; shift < bits.Len64(uint64(most)-uint64(least)); shift += digitBits {
		var starts [1 << digitBits]int
		digit := func(one *placedUnits) int {
			return int((uint64(one.units) - uint64(least)) >> shift & (1<<digitBits - 1))
		}
		for i := range numbers {
			starts[digit(&numbers[i])]++
		}
		start := 0
		for d, n := range starts {
			starts[d], start = start, start+n
		}
		for i := range numbers {
			d := digit(&numbers[i])
			sorted[starts[d]] = numbers[i]
			starts[d]++
		}
		numbers, sorted = sorted, numbers
	}
	return numbers
}

// quantile interpolates linearly at share x (count-1), as SQL's percentile_cont does, exactly.
func quantile(ordered []weighed, count int64, share table.Decimal) table.Decimal {
	at := share.Times(count - 1)
	low := at.Floor()
	part := at.Sub(low)
	before := low.Units(0, false) // how many numbers come before the lower of the two
	seen := int64(0)
	for i, w := range ordered {
		if seen += w.rows; seen <= before {
			continue
		}
		if part.Sign() == 0 || seen > before+1 || i == len(ordered)-1 {
			return w.number
		}
		return w.number.Add(ordered[i+1].number.Sub(w.number).Mul(part))
	}
	return table.Decimal{}
}

func histogram(ordered []weighed, from, to table.Decimal) Histogram {
	lowest, highest := ordered[0].number, ordered[len(ordered)-1].number
	from, to = within(lowest, from, highest), within(highest, lowest, to)
	width := roundWidth(to.Sub(from))
	if one := table.DecimalOf(1, 0); width.Cmp(one) < 0 && whole(ordered) {
		width = one
	}
	edge := from
	if rest, ok := from.Mod(width); ok {
		edge = from.Sub(rest)
		if rest.Sign() < 0 {
			edge = edge.Sub(width)
		}
	}
	h := Histogram{From: edge.Float(), Width: width.Float(), Rows: []int64{0}}
	next := edge.Add(width)
	for ; next.Cmp(to) <= 0 && len(h.Rows) < binsMost; next = next.Add(width) {
		h.Rows = append(h.Rows, 0)
	}
	bin, end := 0, edge.Add(width) // of the bin
	for _, w := range ordered {
		for bin < len(h.Rows) && w.number.Cmp(end) >= 0 {
			bin, end = bin+1, end.Add(width)
		}
		switch {
		case w.number.Cmp(edge) < 0:
			h.Below += w.rows
		case bin == len(h.Rows):
			h.Above += w.rows
		default:
			h.Rows[bin] += w.rows
		}
	}
	return h
}

// unsure counts the numbers that may lie in a neighbouring bin, since they stand for all those
// within bucketError of them.
func (h *Histogram) unsure(ordered []weighed) int64 {
	bin := func(x float64) float64 {
		return min(max(math.Floor((x-h.From)/h.Width), -1), float64(len(h.Rows)))
	}
	rows := int64(0)
	for _, w := range ordered {
		x := w.number.Float()
		if off := bucketError * math.Abs(x); bin(x-off) != bin(x+off) {
			rows += w.rows
		}
	}
	return rows
}

// whole reports whether all of the numbers are whole ones.
func whole(ordered []weighed) bool {
	return !slices.ContainsFunc(ordered, func(w weighed) bool { return !w.number.IsWhole() })
}

// roundWidth returns the least of 1, 2, 2.5 or 5 times a power of ten of which binsWish cover a range.
func roundWidth(over table.Decimal) table.Decimal {
	if over.Sign() <= 0 {
		return table.DecimalOf(1, 0)
	}
	power := table.PowerOfTen(int(math.Floor(math.Log10(over.Float()/binsWish))) - 1)
	for {
		for _, factor := range []table.Decimal{table.DecimalOf(1, 0), table.DecimalOf(2, 0), table.DecimalOf(25, 1),
			table.DecimalOf(5, 0)} {
			if width := factor.Mul(power); width.Times(binsWish).Cmp(over) >= 0 {
				return width
			}
		}
		power = power.Mul(table.DecimalOf(10, 0))
	}
}

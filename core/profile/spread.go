package profile

import (
	"math"
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
	var o *ordered
	low, high, _ := n.extremes()
	if s.counts.over {
		o, out.QuantileError = n.buckets.ascending(), bucketError
		o.bounded, o.low, o.high = true, low, high
	} else {
		o = s.counts.ascending(number)
	}
	for _, share := range shares {
		out.Quantiles = append(out.Quantiles, Quantile{share.Float(), o.quantile(0, share).Float()})
	}
	first, third := o.quantile(0, quarter), o.quantile(0, threeQuarters)
	reach := third.Sub(first)
	outside := func(times table.Decimal) (low, high table.Decimal) {
		return first.Sub(times.Mul(reach)), third.Add(times.Mul(reach))
	}
	low, high = outside(fences)
	out.Outliers = o.outliers(low, high)
	times := farFew
	if n.count > farMany {
		times = farOfMany
	}
	low, high = outside(times)
	out.Outliers.Far = o.far(low, high, times)
	low, high = outside(bounds)
	out.Histogram = o.histogram(low, high)
	if s.counts.over {
		out.Histogram.Unsure = out.Histogram.unsure(o)
		out.Outliers.Unsure = out.Outliers.unsure(o, first.Float(), third.Float())
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
func (o *ordered) outliers(low, high table.Decimal) Outliers {
	out := Outliers{LowFence: low.Float(), HighFence: high.Float()}
	first, after := o.below(low), o.upToAndWith(high)
	out.Below = o.before(first)
	if after = max(after, first); after > first {
		out.Lowest, out.Highest = o.number(first).Float(), o.number(after-1).Float()
	}
	out.Above = o.before(o.len()) - o.before(after)
	return out
}

// far finds what lies far outside the quartiles.
func (o *ordered) far(low, high, times table.Decimal) *Far {
	if o.len() == 0 || low.Cmp(high) >= 0 {
		return nil
	}
	if o.number(0).Sign() >= 0 {
		if fence, ok := o.highFenceOfLogs(times.Float()); ok {
			high = fence
		}
	}
	first := o.below(low)
	after := max(o.upToAndWith(high), first)
	if first == 0 && after == o.len() {
		return nil
	}
	f := &Far{low: low, high: high, Below: o.before(first), Above: o.before(o.len()) - o.before(after)}
	var lowest, highest table.Decimal // of the others
	if first < after {
		lowest, highest = o.number(first), o.number(after-1)
	}
	f.From, f.To = lowest.Shortest(), highest.Shortest()
	var beyond []weighed
	for i := range o.len() {
		if i < first || i >= after {
			beyond = append(beyond, weighed{o.number(i), o.rows(i)})
		}
	}
	middle := lowest.Add(highest)
	away := func(w weighed) table.Decimal { return w.number.Times(2).Sub(middle).Abs() }
	slices.SortStableFunc(beyond, func(a, b weighed) int { return away(b).Cmp(away(a)) })
	for _, w := range beyond[:min(len(beyond), frequentShown)] {
		f.Texts = append(f.Texts, Frequency{w.number.Shortest(), w.rows})
	}
	return f
}

// highFenceOfLogs returns the number whose logarithm lies so many interquartile ranges of logarithms above their upper
// quartile, where these lie more evenly than the numbers do; zeros are left aside.
func (o *ordered) highFenceOfLogs(times float64) (table.Decimal, bool) {
	positive := o.upToAndWith(table.Decimal{}) // the first of them
	if o.before(o.len())-o.before(positive) < 4 {
		return table.Decimal{}, false
	}
	at := func(share table.Decimal) float64 { return o.quantile(positive, share).Float() }
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
func (out *Outliers) unsure(o *ordered, first, third float64) int64 {
	off := bucketError * ((1+1.5)*max(math.Abs(first), math.Abs(third)) + 1.5*min(math.Abs(first), math.Abs(third)))
	rows := int64(0)
	for i := range o.len() {
		x := o.float(i)
		near := off + bucketError*math.Abs(x)
		if math.Abs(x-out.LowFence) <= near || math.Abs(x-out.HighFence) <= near {
			rows += o.rows(i)
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
func (c *counts) ascending(number NumberReader) *ordered {
	numbers := make([]weighed, 0, c.count)
	c.each(func(one *counted) {
		long := ""
		if !one.token.Inline() {
			long = c.texts.text(one.at)
		}
		if d, ok := number(one.token, long); ok {
			numbers = append(numbers, weighed{d, int64(one.rows)})
		}
	})
	return inOrder(numbers)
}

func (o *ordered) histogram(from, to table.Decimal) Histogram {
	lowest, highest := o.number(0), o.number(o.len()-1)
	from, to = within(lowest, from, highest), within(highest, lowest, to)
	width := roundWidth(to.Sub(from))
	if one := table.DecimalOf(1, 0); width.Cmp(one) < 0 && o.whole() {
		width = one
	}
	edge := from
	if rest, ok := from.Mod(width); ok {
		edge = from.Sub(rest)
		if rest.Sign() < 0 {
			edge = edge.Sub(width)
		}
	}
	first := o.below(edge)
	h := Histogram{From: edge.Float(), Width: width.Float(), Below: o.before(first)}
	for next := edge.Add(width); len(h.Rows) == 0 || next.Cmp(to) <= 0 && len(h.Rows) < binsMost; {
		if len(h.Rows) > 0 {
			next = next.Add(width)
		}
		after := o.below(next)
		h.Rows = append(h.Rows, o.before(after)-o.before(first))
		first = after
	}
	h.Above = o.before(o.len()) - o.before(first)
	return h
}

// unsure counts the numbers that may lie in a neighbouring bin, since they stand for all those
// within bucketError of them.
func (h *Histogram) unsure(o *ordered) int64 {
	bin := func(x float64) float64 {
		return min(max(math.Floor((x-h.From)/h.Width), -1), float64(len(h.Rows)))
	}
	rows := int64(0)
	for i := range o.len() {
		x := o.float(i)
		if off := bucketError * math.Abs(x); bin(x-off) != bin(x+off) {
			rows += o.rows(i)
		}
	}
	return rows
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

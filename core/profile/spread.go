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
}

// Outliers counts the numbers beyond the fences, which stand one and a half
// interquartile ranges outside the quartiles (Tukey, Exploratory Data Analysis, 1977).
type Outliers struct {
	LowFence  float64 `json:"low_fence"`
	HighFence float64 `json:"high_fence"`
	Below     int64   `json:"below"`
	Above     int64   `json:"above"`
}

// shares are the shares of the quantiles given: five of them are the five-number summary.
var shares = []float64{0, 0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99, 1}

const (
	fences   = 1.5
	binsMost = 40
	binsWish = 24
)

func (s *Summary) spread(number func(string) (table.Decimal, bool)) *Spread {
	n := &s.numbers
	out := &Spread{Count: n.count, Deviation: finite(n.deviation()), Skewness: finite(n.skewness())}
	var ordered []weighed
	if s.counts.over {
		ordered, out.QuantileError = n.buckets.ascending(), bucketError
		low, high, _ := n.extremes()
		for i := range ordered {
			ordered[i].number = min(max(ordered[i].number, low.Float()), high.Float())
		}
		ordered[0].number, ordered[len(ordered)-1].number = low.Float(), high.Float()
	} else {
		ordered = s.counts.ascending(number)
	}
	for _, share := range shares {
		out.Quantiles = append(out.Quantiles, Quantile{share, quantile(ordered, n.count, share)})
	}
	first, third := quantile(ordered, n.count, 0.25), quantile(ordered, n.count, 0.75)
	reach := third - first
	out.Outliers = Outliers{LowFence: first - fences*reach, HighFence: third + fences*reach}
	for _, w := range ordered {
		if w.number < out.Outliers.LowFence {
			out.Outliers.Below += w.rows
		}
		if w.number > out.Outliers.HighFence {
			out.Outliers.Above += w.rows
		}
	}
	out.Histogram = histogram(ordered, first-2*fences*reach, third+2*fences*reach)
	return out
}

func finite(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// ascending returns the counted numbers in order.
func (c *counts) ascending(number func(string) (table.Decimal, bool)) []weighed {
	out := make([]weighed, 0, len(c.rows))
	for code, rows := range c.rows {
		if d, ok := number(c.texts.Texts[code]); ok {
			out = append(out, weighed{d.Float(), rows})
		}
	}
	slices.SortFunc(out, func(a, b weighed) int {
		switch {
		case a.number < b.number:
			return -1
		case a.number > b.number:
			return 1
		}
		return 0
	})
	return out
}

// quantile interpolates linearly at share x (count-1), as SQL's percentile_cont does.
func quantile(ordered []weighed, count int64, share float64) float64 {
	at := share * float64(count-1)
	low, high := int64(math.Floor(at)), int64(math.Ceil(at))
	var below float64
	seen := int64(0)
	for i, w := range ordered {
		if seen <= low {
			below = w.number
		}
		if seen += w.rows; seen > high {
			if low >= seen-w.rows {
				below = w.number
			}
			if low == high {
				return ordered[i].number
			}
			return below + (w.number-below)*(at-float64(low))
		}
	}
	return below
}

func histogram(ordered []weighed, from, to float64) Histogram {
	from, to = max(from, ordered[0].number), min(to, ordered[len(ordered)-1].number)
	width := roundWidth((to - from) / binsWish)
	if whole(ordered) && width < 1 {
		width = 1
	}
	h := Histogram{From: math.Floor(from/width) * width, Width: width}
	bins := min(max(int(math.Floor((to-h.From)/width))+1, 1), binsMost)
	h.Rows = make([]int64, bins)
	for _, w := range ordered {
		switch at := math.Floor((w.number - h.From) / width); {
		case at < 0:
			h.Below += w.rows
		case at >= float64(bins):
			h.Above += w.rows
		default:
			h.Rows[int(at)] += w.rows
		}
	}
	return h
}

// whole reports whether all of the numbers are whole ones.
func whole(ordered []weighed) bool {
	for _, w := range ordered {
		if w.number != math.Trunc(w.number) {
			return false
		}
	}
	return true
}

// roundWidth returns the least of 1, 2, 2.5 or 5 times a power of ten that is not below width.
func roundWidth(width float64) float64 {
	if !(width > 0) || math.IsInf(width, 0) {
		return 1
	}
	power := math.Pow(10, math.Floor(math.Log10(width)))
	for _, factor := range []float64{1, 2, 2.5, 5} {
		if factor*power >= width {
			return factor * power
		}
	}
	return 10 * power
}

package estimate

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

// Comparison shows what each way of filling the gaps of a column makes of it. It rests on as many donors and gaps as the
// methods take; how many there are in all stands beside.
type Comparison struct {
	Column   string `json:"column"`
	Seed     uint64 `json:"seed"`
	Observed int64  `json:"observed"` // cells with a value
	Gaps     int64  `json:"gaps"`
	Donors   int    `json:"donors"`    // of the observed, those that it rests on
	GapsSeen int    `json:"gaps_seen"` // of the gaps
	// Mean, Sum and Deviation are those of what was observed, as dropping the rows leaves them; nil of codes.
	Mean      *float64 `json:"mean"`
	Sum       *float64 `json:"sum"`
	Deviation *float64 `json:"deviation"`
	// Depends says on what the gaps depend, the strongest first.
	Depends []Dependence `json:"depends"`
	// Warnings say what suggests that the gaps depend on the value itself.
	Warnings []string `json:"warnings"`
	// Bounds are those of the bins in which observed and estimated values are counted, one more than there are bins.
	Bounds []float64 `json:"bounds"`
	Bins   []int     `json:"bins"` // of the donors
	// Ways are the methods, in the order in which they were given.
	Ways []Weighed `json:"ways"`
	// Dropping is what becomes of the column where the rows with a gap are set aside.
	Dropping Dropped `json:"dropping"`
}

// Dropped is what setting rows with gaps aside costs.
type Dropped struct {
	Rows int64 `json:"rows"`
	// Bias is the mean that stays less the mean that near predictions foretell for all rows; nil where these cannot be made.
	Bias *float64 `json:"bias"`
}

// Dependence is how far gaps go with another column.
type Dependence struct {
	Column string `json:"column"`
	// Strength is, of codes, Cramér's V between "is missing" and the code, from 0 to 1; of numbers and dates, the mean of
	// rows with a gap less that of the others, in standard deviations, without its sign.
	Strength float64 `json:"strength"`
	// Higher says, of numbers and dates, that they are higher where the value is missing.
	Higher bool `json:"higher,omitempty"`
	// Most is the code with the largest share of gaps, and Share that share.
	Most  string  `json:"most,omitempty"`
	Share float64 `json:"share,omitempty"`
}

// Weighed is a method, tried on hidden values and on the gaps.
type Weighed struct {
	Method string `json:"method"`
	Settings
	Trouble string `json:"trouble,omitempty"` // why it could not be tried
	Hidden  int    `json:"hidden"`            // observed values that were hidden from it
	Filled  int    `json:"filled"`            // of them
	// Error is the root of the mean square of estimate less truth, Bias the mean of it, and Spread the standard deviation of
	// the column with the estimates as a share of the true one; nil of codes.
	Error  *float64 `json:"error"`
	Bias   *float64 `json:"bias"`
	Spread *float64 `json:"spread"`
	// Right is the share of hidden values that it gives exactly.
	Right *float64       `json:"right"`
	Kept  []KeptWith     `json:"kept"`
	Open  float64        `json:"open"` // the share of gaps that it leaves
	Mean  *float64       `json:"mean"` // of the column with its first draw
	Sum   *float64       `json:"sum"`
	From  *float64       `json:"mean_from"` // with a confidence of 95 %, by Rubin's rules; nil of what gives one value
	To    *float64       `json:"mean_to"`
	Bins  []int          `json:"bins"`  // of the first draw
	Draws []Distribution `json:"draws"` // of the estimates, draw by draw
}

// KeptWith is the correlation (Pearson's) of the column with another one, without gaps and with estimates in the gaps.
type KeptWith struct {
	Column    string   `json:"column"`
	True      *float64 `json:"true"`
	Estimated *float64 `json:"estimated"`
}

// Distribution is five numbers that describe the estimates of a draw, with their mean.
type Distribution struct {
	Lowest  float64 `json:"lowest"`
	Lower   float64 `json:"lower"` // quartile
	Median  float64 `json:"median"`
	Upper   float64 `json:"upper"`
	Highest float64 `json:"highest"`
	Mean    float64 `json:"mean"`
}

// Settings are what a step that estimates by a method names, so that it can be taken over.
type Settings struct {
	AlikeIn []string `json:"alike_in"`
	Group   []string `json:"group"`
	Order   []string `json:"order"`
}

// Way is a method that is weighed against others.
type Way struct {
	Choice
	Settings
	Draws int // of each gap; 1 of what gives one value
}

// Known is what a comparison rests on.
type Known struct {
	Column         string
	Numbers, Codes []string // the names of what records hold
	Coded          bool     // the column itself holds codes
	Donors, Gaps   []Donor
	Observed, Of   int64   // how many values and gaps there are in all
	There          Moments // of all values
	Seed           uint64
}

// comparedBins is how many bins values are counted in.
const comparedBins = 30

// Weigh compares ways of filling gaps.
func Weigh(k Known, ways []Way) *Comparison {
	c := &Comparison{Column: k.Column, Seed: k.Seed, Observed: k.Observed, Gaps: k.Of, Donors: len(k.Donors), GapsSeen: len(k.Gaps),
		Depends: k.depends(), Warnings: []string{}, Bounds: []float64{}, Bins: []int{}, Ways: []Weighed{}, Dropping: Dropped{Rows: k.Of}}
	if !k.Coded && k.There.N > 0 {
		c.Mean, c.Sum, c.Deviation = number(k.There.Mean), number(k.There.Mean*k.There.N), number(k.There.Deviation())
		c.Warnings = append(c.Warnings, Warnings(k.Donors, k.Gaps)...)
		c.Bounds = boundsOf(k.Donors)
		c.Bins = binned(c.Bounds, func(visit func(float64)) {
			for _, d := range k.Donors {
				visit(d.Value)
			}
		})
	}
	choices := make([]Choice, len(ways))
	for i, w := range ways {
		choices[i] = w.Choice
	}
	for i, trial := range Compare(k.Donors, choices, k.Seed) {
		c.Ways = append(c.Ways, k.weigh(c, ways[i], trial))
	}
	if off, ok := Foretold(k.Donors, k.Gaps); ok && !k.Coded {
		c.Dropping.Bias = number(-off * k.There.Deviation() * float64(k.Of) / float64(k.Of+k.Observed))
	}
	return c
}

// weigh tells of a trial, and has the method fill the gaps.
func (k Known) weigh(c *Comparison, w Way, trial Trial) Weighed {
	out := Weighed{Method: w.Name, Settings: w.Settings, Hidden: trial.Hidden, Filled: trial.Filled, Kept: []KeptWith{}, Bins: []int{}, Draws: []Distribution{}}
	method, err := w.Build(slices.Clone(k.Donors))
	if err = cmp.Or(trial.Trouble, err); err != nil {
		out.Trouble = err.Error()
		return out
	}
	if trial.Filled > 0 {
		out.Right = number(float64(trial.Right) / float64(trial.Filled))
	}
	drawn, open := make([][]float64, w.Draws), 0
	for _, gap := range k.Gaps {
		for draw := range drawn {
			e, ok := method.Estimate(gap.Row, gap.Record, draw)
			if !ok {
				open++
				break
			}
			drawn[draw] = append(drawn[draw], e.Value)
		}
	}
	if len(k.Gaps) > 0 {
		out.Open = float64(open) / float64(len(k.Gaps))
	}
	if k.Coded {
		return out
	}
	out.Error, out.Bias, out.Spread = number(trial.Error), number(trial.Bias), number(trial.Spread)
	for i, one := range trial.Kept {
		out.Kept = append(out.Kept, KeptWith{k.Numbers[i], number(one.True), number(one.Estimated)})
	}
	// What was seen of the gaps stands for all of them.
	scale := float64(k.Of) / max(float64(len(k.Gaps)), 1)
	moments := make([]Moments, len(drawn))
	for draw, values := range drawn {
		for _, v := range values {
			moments[draw].Add(v)
		}
		moments[draw].N *= scale
		moments[draw].Squares *= scale
		if len(values) > 0 {
			out.Draws = append(out.Draws, described(values))
		}
	}
	then := k.There
	then.Join(moments[0])
	out.Mean, out.Sum = number(then.Mean), number(then.Mean*then.N)
	if pooled, err := PoolMeans(k.There, moments); err == nil {
		from, to := pooled.Interval(0.95)
		out.From, out.To = number(from), number(to)
	}
	out.Bins = binned(c.Bounds, func(visit func(float64)) {
		for _, v := range drawn[0] {
			visit(v)
		}
	})
	return out
}

// number returns a number that JSON can write; nil for one that it cannot.
func number(x float64) *float64 {
	if !finite(x) {
		return nil
	}
	return &x
}

func described(values []float64) Distribution {
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	at := func(p float64) float64 { return stat.Quantile(p, stat.LinInterp, sorted, nil) }
	return Distribution{sorted[0], at(0.25), at(0.5), at(0.75), sorted[len(sorted)-1], stat.Mean(values, nil)}
}

// boundsOf returns the bounds of bins of equal width over the donors' values; none where they are all equal.
func boundsOf(donors []Donor) []float64 {
	low, high := math.Inf(1), math.Inf(-1)
	for _, d := range donors {
		low, high = min(low, d.Value), max(high, d.Value)
	}
	if !(low < high) {
		return []float64{}
	}
	out := make([]float64, comparedBins+1)
	for i := range out {
		out[i] = low + (high-low)*float64(i)/comparedBins
	}
	out[comparedBins] = high
	return out
}

// binned counts values by bins; those beyond the bounds count for the nearest.
func binned(bounds []float64, values func(visit func(float64))) []int {
	if len(bounds) == 0 {
		return []int{}
	}
	low, high := bounds[0], bounds[len(bounds)-1]
	bins := make([]int, len(bounds)-1)
	values(func(v float64) {
		bins[max(0, min(int(float64(len(bins))*(v-low)/(high-low)), len(bins)-1))]++
	})
	return bins
}

// depends says on what the gaps depend.
func (k Known) depends() []Dependence {
	out := []Dependence{}
	if len(k.Gaps) == 0 || len(k.Donors) == 0 {
		return out
	}
	for i, name := range k.Numbers {
		var all, gaps, rest Moments
		for _, d := range k.Donors {
			if x := d.Numbers[i]; finite(x) {
				rest.Add(x)
			}
		}
		for _, d := range k.Gaps {
			if x := d.Numbers[i]; finite(x) {
				gaps.Add(x)
			}
		}
		all = rest
		all.Join(gaps)
		if deviation := all.Deviation(); deviation > 0 && gaps.N > 0 && rest.N > 0 {
			off := (gaps.Mean - rest.Mean) / deviation
			out = append(out, Dependence{Column: name, Strength: math.Abs(off), Higher: off > 0})
		}
	}
	// Donors and gaps are counted as if all of them had been seen.
	perDonor, perGap := float64(k.Observed)/float64(len(k.Donors)), float64(k.Of)/float64(len(k.Gaps))
	for i, name := range k.Codes {
		counts := map[string]*[2]float64{}
		count := func(code string, missing int, n float64) {
			if counts[code] == nil {
				counts[code] = &[2]float64{}
			}
			counts[code][missing] += n
		}
		for _, d := range k.Donors {
			count(d.Codes[i], 0, perDonor)
		}
		for _, d := range k.Gaps {
			count(d.Codes[i], 1, perGap)
		}
		total := float64(k.Observed + k.Of)
		one := Dependence{Column: name}
		squares := 0.0
		for _, code := range slices.Sorted(maps.Keys(counts)) { // sums of floats depend on their order
			n := counts[code]
			rows := n[0] + n[1]
			for missing, all := range []float64{float64(k.Observed), float64(k.Of)} {
				expected := rows * all / total
				squares += (n[missing] - expected) * (n[missing] - expected) / expected
			}
			if share := n[1] / rows; rows >= total/100 && (share > one.Share) {
				one.Most, one.Share = code, share
			}
		}
		if len(counts) > 1 {
			one.Strength = min(math.Sqrt(squares/total), 1) // with two rows the least dimension less one is 1
			out = append(out, one)
		}
	}
	slices.SortStableFunc(out, func(a, b Dependence) int { return cmp.Compare(b.Strength, a.Strength) })
	return out
}

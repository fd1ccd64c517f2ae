package estimate

import (
	"fmt"
	"math"
)

const (
	// gapsToJudge and donorsToJudge are how many gaps and donors there are at the least before something is said of them.
	gapsToJudge, donorsToJudge = 20, 100
	// farOff is a difference of means, in standard deviations of the donors, that is worth a word: Cohen's small effect
	// ("Statistical power analysis for the behavioral sciences", 2nd edition, 1988).
	farOff = 0.2
	// edgeBins is into how many parts of equal width the range of values is split, to see whether they end abruptly.
	edgeBins = 20
)

// Warnings says what of the donors and the gaps suggests that the gaps depend on the value itself. That nothing does is no
// proof of the contrary: what was never observed leaves no trace.
func Warnings(donors, gaps []Donor) []string {
	var out []string
	if len(donors) < donorsToJudge || len(gaps) < gapsToJudge {
		return nil
	}
	if off, ok := Foretold(donors, gaps); ok && math.Abs(off) >= farOff {
		than := "higher"
		if off < 0 {
			than = "lower"
		}
		out = append(out, fmt.Sprintf("By what is known of their rows, the missing values are %.2f standard deviations %s on average than those that are there. "+
			"The gaps depend on what goes with the value, and perhaps on the value itself: no method can see that, and all would then be wrong in one direction.", math.Abs(off), than))
	}
	if end := abruptEnd(donors); end != "" {
		out = append(out, end)
	}
	return out
}

// Foretold returns by how much the mean of what a regression on the donors foretells for the gaps lies above that for the
// donors, in standard deviations of the donors' values; false where no regression can be made, or the values are all equal.
func Foretold(donors, gaps []Donor) (float64, bool) {
	r := regressorsOf(donors)
	if len(donors) < r.width+2 || len(gaps) == 0 {
		return 0, false
	}
	f, err := fitTo(donors, r)
	if err != nil {
		return 0, false
	}
	var values Moments
	for _, d := range donors {
		values.Add(d.Value)
	}
	if values.Deviation() == 0 {
		return 0, false
	}
	foretold := func(of []Donor) float64 {
		row := make([]float64, r.width)
		var m Moments
		for _, d := range of {
			r.put(d.Record, row)
			m.Add(dot(f.coefficients, row))
		}
		return m.Mean
	}
	return (foretold(gaps) - foretold(donors)) / values.Deviation(), true
}

// abruptEnd says that values crowd at one end of their range, as where those beyond a limit are not reported. Values that
// crowd at both ends, as evenly spread ones do, and those that begin at 0, as concentrations do, say nothing of that.
func abruptEnd(donors []Donor) string {
	low, high := math.Inf(1), math.Inf(-1)
	for _, d := range donors {
		low, high = min(low, d.Value), max(high, d.Value)
	}
	if !(low < high) {
		return ""
	}
	var bins [edgeBins]int
	for _, d := range donors {
		bins[min(int(edgeBins*(d.Value-low)/(high-low)), edgeBins-1)]++
	}
	most := 0
	for _, n := range bins[1 : edgeBins-1] {
		most = max(most, n)
	}
	below := float64(bins[0]) >= 0.75*float64(most)
	above := float64(bins[edgeBins-1]) >= 0.75*float64(most)
	says := func(end, limit string, n int, kind, way string) string {
		return fmt.Sprintf("The values end abruptly at their %s, %s: %.1f %% of them lie in that twentieth of their range. Where a value is missing because it was too %s, every method estimates too %s.",
			end, limit, 100*float64(n)/float64(len(donors)), kind, way)
	}
	switch {
	case above && !below:
		return says("highest", fmt.Sprintf("%.6g", high), bins[edgeBins-1], "high", "low")
	case below && !above && !(low >= 0 && low < (high-low)/edgeBins):
		return says("lowest", fmt.Sprintf("%.6g", low), bins[0], "low", "high")
	}
	return ""
}

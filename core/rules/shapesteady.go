package rules

import (
	"fmt"
	"math"
	"slices"

	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "shape_steady", Section: "history", Place: 60, Dimension: rulebook.Consistency,
		Fields:  []rulebook.FieldForm{columnField, withinField},
		Declare: func(i *rulebook.Item) rulebook.Rule { return shapeSteady{pastOf(i, rulebook.AnyColumn)} },
	})
}

// shapeSteady is broken by a distribution that is too far from the last one.
type shapeSteady struct{ past }

func (r shapeSteady) Says() string {
	return fmt.Sprintf("The distribution of %s is at a distance of at most %s %% from that %s.", r.column,
		number(r.within), r.of())
}

// JudgeSummary measures how far two distributions are apart. For numbers it is the greatest
// difference between the shares of them below a number, taken at the quantiles of both
// (the statistic of Kolmogorov and Smirnov, on piecewise linear distributions); for texts half the
// sum of the differences of their shares (total variation). Both lie between 0 and 1.
func (r shapeSteady) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	before, lacking := r.then(s)
	if len(before) == 0 {
		return lacking
	}
	now, then := s.Profile(r.column), before[0]
	var distance float64
	if now.Numbers != nil && then.Numbers != nil {
		distance = apart(now.Numbers.Quantiles, then.Numbers.Quantiles)
	} else {
		a, ok := now.All()
		b, also := then.All()
		if !ok || !also {
			return rulebook.Outcome{Unjudged: r.column + " has too many values to compare"}
		}
		distance = variation(a, now.Filled, b, then.Filled)
	}
	if distance*100 <= r.within {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Found: fmt.Sprintf("The distribution of %s is at a distance of %.1f %% from the last one; at most %s %% are allowed.", r.column, distance*100, number(r.within))}
}

func variation(a []profile.Frequency, inA int64, b []profile.Frequency, inB int64) float64 {
	shares := map[string]float64{}
	for _, t := range a {
		shares[t.Text] += float64(t.Rows) / float64(max(inA, 1))
	}
	for _, t := range b {
		shares[t.Text] -= float64(t.Rows) / float64(max(inB, 1))
	}
	differences := make([]float64, 0, len(shares))
	for _, d := range shares {
		differences = append(differences, math.Abs(d))
	}
	slices.Sort(differences) // the order of a map would show in the last digit
	sum := 0.0
	for _, d := range differences {
		sum += d
	}
	return sum / 2
}

func apart(a, b []profile.Quantile) float64 {
	most := 0.0
	for _, q := range append(slices.Clone(a), b...) {
		most = max(most, math.Abs(shareBelow(a, q.Number)-shareBelow(b, q.Number)))
	}
	return most
}

// shareBelow interpolates between quantiles.
func shareBelow(quantiles []profile.Quantile, x float64) float64 {
	for i, q := range quantiles {
		switch {
		case q.Number < x:
		case i == 0 && q.Number > x:
			return 0
		case q.Number > x:
			before := quantiles[i-1]
			return before.Share + (q.Share-before.Share)*(x-before.Number)/(q.Number-before.Number)
		case i+1 == len(quantiles) || quantiles[i+1].Number > x:
			return q.Share
		}
	}
	return 1
}

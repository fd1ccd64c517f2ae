package estimate

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Pooled is what several draws say together of a number such as a mean.
type Pooled struct {
	Value float64
	// Error is the standard error, with what the gaps add to it.
	Error float64
	// Freedom is the degrees of freedom of the distribution of Student that the number has around the true one.
	Freedom float64
	// Lost is the share of the variance that is owed to the gaps, from 0 to 1.
	Lost float64
}

// Pool puts together the same number of several draws, by Rubin's rules ("Multiple imputation for nonresponse in surveys",
// 1987, chapter 3), with the degrees of freedom of Barnard and Rubin ("Small-sample degrees of freedom with multiple
// imputation", 1999). The variances are the squares of the standard error in each draw; freedom is the degrees of freedom
// that the number would have had without gaps. There are at least two draws: one cannot say what it does not know.
func Pool(values, variances []float64, freedom float64) (Pooled, error) {
	if len(values) < 2 || len(values) != len(variances) {
		return Pooled{}, fmt.Errorf("%d numbers with %d variances: at least two draws, each with its variance", len(values), len(variances))
	}
	draws := float64(len(values))
	value, between := stat.MeanVariance(values, nil)
	within := stat.Mean(variances, nil)
	owed := (1 + 1/draws) * between
	total := within + owed
	p := Pooled{Value: value, Error: math.Sqrt(total), Freedom: freedom}
	if owed == 0 {
		return p, nil
	}
	p.Lost = owed / total
	old := (draws - 1) / (p.Lost * p.Lost)
	observed := (freedom + 1) / (freedom + 3) * freedom * (1 - p.Lost)
	p.Freedom = old * observed / (old + observed)
	return p, nil
}

// PoolMeans puts together the means of the draws of one column, with its n values in each.
func PoolMeans(draws [][]float64) (Pooled, error) {
	var means, variances []float64
	for _, values := range draws {
		if len(values) < 2 {
			return Pooled{}, fmt.Errorf("%w: %d, and 2 are needed", ErrTooFew, len(values))
		}
		mean, variance := stat.MeanVariance(values, nil)
		means, variances = append(means, mean), append(variances, variance/float64(len(values)))
	}
	if len(draws) == 0 {
		return Pool(nil, nil, 0)
	}
	return Pool(means, variances, float64(len(draws[0])-1))
}

// Interval returns the interval that holds the true number with such a confidence, between 0 and 1.
func (p Pooled) Interval(confidence float64) (from, to float64) {
	if p.Error == 0 || p.Freedom <= 0 {
		return p.Value, p.Value
	}
	half := p.Error * distuv.StudentsT{Mu: 0, Sigma: 1, Nu: p.Freedom}.Quantile((1+confidence)/2)
	return p.Value - half, p.Value + half
}

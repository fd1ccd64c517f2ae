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

// Moments are how many numbers there are, their mean, and the sum of squares around it. The zero value is that of none.
type Moments struct{ N, Mean, Squares float64 }

// Add takes a number in (Welford, "Note on a method for calculating corrected sums of squares and products", 1962).
func (m *Moments) Add(x float64) {
	m.N++
	off := x - m.Mean
	m.Mean += off / m.N
	m.Squares += off * (x - m.Mean)
}

// Join takes other numbers in (Chan, Golub and LeVeque, "Updating formulae and a pairwise algorithm for computing sample
// variances", 1979).
func (m *Moments) Join(o Moments) {
	if o.N == 0 {
		return
	}
	n, off := m.N+o.N, o.Mean-m.Mean
	m.Mean += off * o.N / n
	m.Squares += o.Squares + off*off*m.N*o.N/n
	m.N = n
}

// Deviation returns the standard deviation; 0 of fewer than two numbers.
func (m Moments) Deviation() float64 {
	if m.N < 2 {
		return 0
	}
	return math.Sqrt(m.Squares / (m.N - 1))
}

// PoolMeans puts together what each draw says of the mean of a column: that of the values that are there and those of the
// draw.
func PoolMeans(there Moments, draws []Moments) (Pooled, error) {
	var means, variances []float64
	freedom := 0.0
	for _, m := range draws {
		m.Join(there)
		if m.N < 2 {
			return Pooled{}, fmt.Errorf("%w: %g, and 2 are needed", ErrTooFew, m.N)
		}
		freedom = m.N - 1
		means, variances = append(means, m.Mean), append(variances, m.Squares/freedom/m.N)
	}
	return Pool(means, variances, freedom)
}

// Interval returns the interval that holds the true number with such a confidence, between 0 and 1.
func (p Pooled) Interval(confidence float64) (from, to float64) {
	if p.Error == 0 || p.Freedom <= 0 {
		return p.Value, p.Value
	}
	half := p.Error * distuv.StudentsT{Mu: 0, Sigma: 1, Nu: p.Freedom}.Quantile((1+confidence)/2)
	return p.Value - half, p.Value + half
}

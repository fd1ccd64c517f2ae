package estimate

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat/distuv"
)

// MostDonors is how many donors a prediction is matched with.
const MostDonors = 65536

// NearPredictions gives to a gap the value of a donor whose prediction by linear regression is near that of the gap: predictive
// mean matching (Rubin, "Statistical matching using file concatenation with adjusted weights and multiple imputations", 1986;
// Little, "Missing-data adjustments in large surveys", 1988). In each draw the coefficients for the gaps are drawn from their
// posterior distribution, and those for the donors are the fitted ones (van Buuren, "Flexible imputation of missing data",
// 2nd edition, algorithm 3.3, matching of type 1), so that the draws differ by what the rows do not tell.
//
// Every value that it gives was observed in another row: it cannot give one that never occurs, nor one beyond the largest.
type NearPredictions struct {
	seed       uint64
	near       int
	regressors *regressors
	fit        *fit
	donors     []Donor
	drawn      [][]float64 // coefficients for the gaps, by draw
	predicted  []float64   // of the donors, ascending
	order      []int32     // the donor of each
}

// NewNearPredictions builds the method, which draws among so many donors as near says; 5 is usual. Draws is how many draws
// will be asked for, from 1 to MostDraws.
func NewNearPredictions(donors []Donor, near, draws int, seed uint64) (*NearPredictions, error) {
	if near < 1 || draws < 1 || draws > MostDraws {
		return nil, fmt.Errorf("%d donors for each gap in %d draws: at least 1 donor, and from 1 to %d draws", near, draws, MostDraws)
	}
	r := regressorsOf(donors)
	if err := enough(donors, max(r.width+2, near)); err != nil {
		return nil, err
	}
	f, err := fitTo(donors, r)
	if err != nil {
		return nil, err
	}
	p := &NearPredictions{seed: seed, near: near, regressors: r, fit: f, donors: donors}
	for draw := range draws {
		drawn, err := f.draw(source(seed, -1, draw))
		if err != nil {
			return nil, err
		}
		p.drawn = append(p.drawn, drawn)
	}
	p.order = make([]int32, len(donors))
	by := make([]float64, len(donors))
	row := make([]float64, r.width)
	for i, d := range donors {
		r.put(d.Record, row)
		by[i], p.order[i] = dot(f.coefficients, row), int32(i)
	}
	slices.SortStableFunc(p.order, func(a, b int32) int { return cmp.Compare(by[a], by[b]) })
	p.predicted = make([]float64, len(donors))
	for i, d := range p.order {
		p.predicted[i] = by[d]
	}
	return p, nil
}

// Estimate returns the value of one of the donors whose predictions are nearest; those that are as near as the last of them
// are among the candidates, so that no donor is preferred for its place in the table.
func (p *NearPredictions) Estimate(row int64, of Record, draw int) (Estimate, bool) {
	regressors := make([]float64, p.regressors.width)
	p.regressors.put(of, regressors)
	from, to := nearest(p.predicted, dot(p.drawn[draw], regressors), p.near)
	d := int(p.order[from+source(p.seed, row, draw).IntN(to-from)])
	return Estimate{p.donors[d].Value, d}, true
}

// nearest returns the stretch of ascending numbers that are nearest to x: at least n of them, and all that are as near as the
// farthest of these.
func nearest(ascending []float64, x float64, n int) (from, to int) {
	from = sort.SearchFloat64s(ascending, x)
	to = from
	for to-from < n {
		if to == len(ascending) || from > 0 && x-ascending[from-1] <= ascending[to]-x {
			from--
		} else {
			to++
		}
	}
	far := max(x-ascending[from], ascending[to-1]-x)
	return sort.Search(from, func(i int) bool { return x-ascending[i] <= far }),
		to + sort.Search(len(ascending)-to, func(i int) bool { return ascending[to+i]-x > far })
}

// fit is a linear regression of the donors' values.
type fit struct {
	coefficients []float64
	squares      float64 // of what is left
	freedom      float64
	factor       mat.Cholesky // of the cross products
}

// ridge is the share by which the diagonal of the cross products is raised, as in van Buuren's algorithm 3.1, so that columns
// that say the same as others do no harm.
const ridge = 1e-5

var errCollinear = errors.New("the columns to estimate by cannot be told apart by a regression; name fewer of them")

func fitTo(donors []Donor, r *regressors) (*fit, error) {
	products := mat.NewSymDense(r.width, nil)
	sums := mat.NewVecDense(r.width, nil)
	raw := make([]float64, r.width)
	row := mat.NewVecDense(r.width, raw)
	for _, d := range donors {
		r.put(d.Record, raw)
		products.SymRankOne(products, 1, row)
		sums.AddScaledVec(sums, d.Value, row)
	}
	for i := range r.width {
		square := products.At(i, i) * (1 + ridge)
		if square == 0 {
			square = 1 // a constant column tells nothing: its coefficient is 0
		}
		products.SetSym(i, i, square)
	}
	f := &fit{freedom: float64(len(donors) - r.width)}
	if !f.factor.Factorize(products) {
		return nil, errCollinear
	}
	var coefficients mat.VecDense
	if err := f.factor.SolveVecTo(&coefficients, sums); err != nil {
		return nil, errCollinear
	}
	f.coefficients = coefficients.RawVector().Data
	for _, d := range donors {
		r.put(d.Record, raw)
		off := d.Value - dot(f.coefficients, raw)
		f.squares += off * off
	}
	return f, nil
}

// draw returns coefficients from their posterior distribution under a prior that says nothing: the variance of what is left
// from a scaled inverse chi-squared distribution, the coefficients from a normal one around the fitted ones.
func (f *fit) draw(from *rand.Rand) ([]float64, error) {
	spread := math.Sqrt(f.squares / distuv.ChiSquared{K: f.freedom, Src: from}.Rand())
	normal := mat.NewVecDense(len(f.coefficients), nil)
	for i := range f.coefficients {
		normal.SetVec(i, from.NormFloat64())
	}
	var upper mat.TriDense
	f.factor.UTo(&upper)
	// With the cross products U'U, the covariance of U⁻¹z is their inverse.
	var off mat.VecDense
	if err := off.SolveVec(&upper, normal); err != nil {
		return nil, errCollinear
	}
	drawn := make([]float64, len(f.coefficients))
	for i := range drawn {
		drawn[i] = f.coefficients[i] + spread*off.AtVec(i)
	}
	return drawn, nil
}

func dot(a, b []float64) float64 {
	var sum float64
	for i := range a {
		sum += a[i] * b[i]
	}
	return sum
}

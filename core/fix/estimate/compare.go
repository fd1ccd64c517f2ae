package estimate

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

// Choice is a method that is weighed against others.
type Choice struct {
	Name  string
	Build func(donors []Donor) (Method, error)
}

// Trial is how well a method puts back values that were hidden from it.
type Trial struct {
	Name   string
	Hidden int // values
	Filled int // of them
	Right  int // of these, those that it gives exactly
	// Error is the root of the mean square of estimate less truth, over those that were filled.
	Error float64
	// Bias is the mean of estimate less truth, over those that were filled.
	Bias float64
	// Spread is the standard deviation of the column with the estimates, as a share of the true one: under 1, the method
	// makes the values more alike than they are.
	Spread float64
	// Kept holds the correlation of the column with each column of numbers, in the order of the records.
	Kept []Kept
	// Trouble says why the method could not be tried.
	Trouble error
}

// Kept is a correlation (Pearson's) without gaps and with estimates in the gaps; NaN where a column is constant.
type Kept struct{ True, Estimated float64 }

// Compare hides one value in ten, by the seed, and has each method estimate them from the rest, by its first draw.
func Compare(donors []Donor, choices []Choice, seed uint64) []Trial {
	hidden, rest := hide(donors, seed)
	trials := make([]Trial, len(choices))
	for i, c := range choices {
		trials[i] = Trial{Name: c.Name, Hidden: len(hidden)}
		method, err := c.Build(slices.Clone(rest))
		if err != nil {
			trials[i].Trouble = err
			continue
		}
		trials[i].weigh(method, hidden, rest)
	}
	return trials
}

// hide splits the donors, one in ten to the hidden ones; both in the order of their rows.
func hide(donors []Donor, seed uint64) (hidden, rest []Donor) {
	order := slices.Clone(donors)
	slices.SortFunc(order, func(a, b Donor) int {
		return cmp.Or(cmp.Compare(mix(^seed, uint64(a.Row)), mix(^seed, uint64(b.Row))), cmp.Compare(a.Row, b.Row))
	})
	hidden, rest = order[:len(order)/10], order[len(order)/10:]
	for _, part := range [][]Donor{hidden, rest} {
		slices.SortFunc(part, func(a, b Donor) int { return cmp.Compare(a.Row, b.Row) })
	}
	return hidden, rest
}

func (t *Trial) weigh(method Method, hidden, rest []Donor) {
	truth, estimated := make([]Donor, 0, len(hidden)+len(rest)), make([]float64, 0, len(hidden)+len(rest))
	var squares, off float64
	for _, d := range hidden {
		e, ok := method.Estimate(d.Row, d.Record, 0)
		if !ok {
			continue
		}
		t.Filled++
		if e.Value == d.Value || e.Donor >= 0 && rest[e.Donor].Text == d.Text {
			t.Right++
		}
		squares += (e.Value - d.Value) * (e.Value - d.Value)
		off += e.Value - d.Value
		truth, estimated = append(truth, d), append(estimated, e.Value)
	}
	t.Error, t.Bias = math.Sqrt(squares/float64(t.Filled)), off/float64(t.Filled)
	for _, d := range rest {
		truth, estimated = append(truth, d), append(estimated, d.Value)
	}
	values := make([]float64, len(truth))
	for i, d := range truth {
		values[i] = d.Value
	}
	t.Spread = stat.StdDev(estimated, nil) / stat.StdDev(values, nil)
	if len(truth) == 0 {
		return
	}
	for column := range truth[0].Numbers {
		t.Kept = append(t.Kept, kept(truth, estimated, column))
	}
}

func kept(truth []Donor, estimated []float64, column int) Kept {
	var x, before, after []float64
	for i, d := range truth {
		if finite(d.Numbers[column]) {
			x, before, after = append(x, d.Numbers[column]), append(before, d.Value), append(after, estimated[i])
		}
	}
	return Kept{stat.Correlation(x, before, nil), stat.Correlation(x, after, nil)}
}

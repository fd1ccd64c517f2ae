package estimate

import (
	"cmp"
	"fmt"
	"slices"
)

// MostNeighbours is how many donors the nearest rows are looked for among: each gap is measured against all of them.
const MostNeighbours = 4096

// NearestRows gives to a gap the value of one of the donors that are most like its row. The distance is the sum of squares of
// the differences of numbers, in standard deviations of the donors, and of 1 for each code that differs. What either row lacks
// counts as two rows that were drawn at random would on average: 2 for a number (the mean square of the difference of two
// independent values is twice their variance), 1 for a code.
type NearestRows struct {
	seed   uint64
	near   int
	scales []scale
	donors []Donor
}

// NewNearestRows builds the method, which draws among so many donors as near says; with 1 it gives the nearest one's value.
func NewNearestRows(donors []Donor, near int, seed uint64) (*NearestRows, error) {
	if near < 1 {
		return nil, fmt.Errorf("%d nearest rows: at least 1", near)
	}
	if err := enough(donors, near); err != nil {
		return nil, err
	}
	n := &NearestRows{seed: seed, near: near, donors: donors}
	for i := range donors[0].Numbers {
		n.scales = append(n.scales, scaleOf(donors, i))
	}
	return n, nil
}

// Estimate returns the value of one of the nearest donors; those that are as near as the last of them are among the
// candidates. A record of which nothing is known has no neighbours.
func (n *NearestRows) Estimate(row int64, of Record, draw int) (Estimate, bool) {
	if !slices.ContainsFunc(of.Numbers, finite) && !slices.ContainsFunc(of.Codes, func(c string) bool { return c != "" }) {
		return Estimate{}, false
	}
	distances := make([]float64, len(n.donors))
	for i := range n.donors {
		distances[i] = n.distance(of, n.donors[i].Record)
	}
	far := smallest(slices.Clone(distances), n.near)
	candidates := 0
	for _, d := range distances {
		if d <= far {
			candidates++
		}
	}
	chosen := source(n.seed, row, draw).IntN(candidates)
	for i, d := range distances {
		if d > far {
			continue
		}
		if chosen == 0 {
			return Estimate{n.donors[i].Value, i}, true
		}
		chosen--
	}
	panic("fewer candidates than were counted")
}

func (n *NearestRows) distance(a, b Record) float64 {
	var sum float64
	for i, s := range n.scales {
		if x, y := a.Numbers[i], b.Numbers[i]; finite(x) && finite(y) {
			off := (x - y) / s.deviation
			sum += off * off
		} else {
			sum += 2
		}
	}
	for i, code := range a.Codes {
		if code == "" || code != b.Codes[i] {
			sum++
		}
	}
	return sum
}

// smallest returns the nth smallest number, from 1, and disorders them: Hoare's selection (Algorithm 65, "Find", 1961).
func smallest(numbers []float64, n int) float64 {
	for {
		if len(numbers) <= 16 {
			slices.Sort(numbers)
			return numbers[n-1]
		}
		pivot := middle(numbers[0], numbers[len(numbers)/2], numbers[len(numbers)-1])
		below, equal := 0, 0
		for i, x := range numbers {
			switch cmp.Compare(x, pivot) {
			case -1:
				numbers[i] = numbers[below+equal]
				numbers[below+equal] = numbers[below]
				numbers[below] = x
				below++
			case 0:
				numbers[i] = numbers[below+equal]
				numbers[below+equal] = x
				equal++
			}
		}
		switch {
		case n <= below:
			numbers = numbers[:below]
		case n <= below+equal:
			return pivot
		default:
			numbers, n = numbers[below+equal:], n-below-equal
		}
	}
}

func middle(a, b, c float64) float64 { return max(min(a, b), min(max(a, b), c)) }

package estimate

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Centre is what stands for a group.
type Centre string

// The centres that there are.
const (
	Mean   Centre = "mean"
	Median Centre = "median"
)

// GroupCentre gives to every gap the mean or the median of its group: the donors with the same codes. It is exact for the
// donors that it is built from, and it narrows the column: no draw differs from another, so that nothing tells how unsure it is.
type GroupCentre struct{ centres map[string]float64 }

// NewGroupCentre builds the method from donors whose records have the codes of the groups; without codes they are one group.
func NewGroupCentre(donors []Donor, centre Centre) (*GroupCentre, error) {
	if err := enough(donors, 1); err != nil {
		return nil, err
	}
	values := map[string][]float64{}
	for _, d := range donors {
		values[group(d.Codes)] = append(values[group(d.Codes)], d.Value)
	}
	g := &GroupCentre{map[string]float64{}}
	for of, v := range values {
		switch centre {
		case Mean:
			g.centres[of] = mean(v)
		case Median:
			g.centres[of] = median(v)
		default:
			return nil, fmt.Errorf("%q is no centre of a group: %s or %s", centre, Mean, Median)
		}
	}
	return g, nil
}

// Estimate returns the centre of the record's group; false where no donor is of it.
func (g *GroupCentre) Estimate(_ int64, of Record, _ int) (Estimate, bool) {
	value, ok := g.centres[group(of.Codes)]
	return Estimate{value, -1}, ok
}

// InTime gives to a gap the value on the straight line between the donors before and after it in its group: those with the
// same codes. It gives nothing before the first and after the last, and nothing to a row without a time.
type InTime struct{ groups map[string]line }

type line struct{ times, values []float64 }

// NewInTime builds the method from donors whose records have the time as their first number, and the codes of the groups.
// Donors of one time stand for their mean.
func NewInTime(donors []Donor) (*InTime, error) {
	if err := enough(donors, 2); err != nil {
		return nil, err
	}
	at := map[string]map[float64][]float64{}
	for _, d := range donors {
		of := group(d.Codes)
		if len(d.Numbers) == 0 || !finite(d.Numbers[0]) {
			continue
		}
		if at[of] == nil {
			at[of] = map[float64][]float64{}
		}
		at[of][d.Numbers[0]] = append(at[of][d.Numbers[0]], d.Value)
	}
	m := &InTime{map[string]line{}}
	for of, values := range at {
		var l line
		for t := range values {
			l.times = append(l.times, t)
		}
		slices.Sort(l.times)
		for _, t := range l.times {
			l.values = append(l.values, mean(values[t]))
		}
		m.groups[of] = l
	}
	return m, nil
}

// Estimate returns the value on the line at the record's time.
func (m *InTime) Estimate(_ int64, of Record, _ int) (Estimate, bool) {
	if len(of.Numbers) == 0 || !finite(of.Numbers[0]) {
		return Estimate{}, false
	}
	t, l := of.Numbers[0], m.groups[group(of.Codes)]
	after, met := slices.BinarySearch(l.times, t)
	switch {
	case met:
		return Estimate{l.values[after], -1}, true
	case after == 0 || after == len(l.times):
		return Estimate{}, false
	}
	before := after - 1
	share := (t - l.times[before]) / (l.times[after] - l.times[before])
	return Estimate{l.values[before] + share*(l.values[after]-l.values[before]), -1}, true
}

// group returns what tells a group from others; codes hold no control characters that a separator could be taken for, and
// lengths make sure of it.
func group(codes []string) string {
	var b strings.Builder
	for _, c := range codes {
		fmt.Fprintf(&b, "%d:%s", len(c), c)
	}
	return b.String()
}

// mean adds with the compensation of Neumaier ("Rundungsfehleranalyse einiger Verfahren zur Summation endlicher Summen",
// 1974), so that many small values are not lost beside a large one.
func mean(values []float64) float64 {
	var sum, lost float64
	for _, v := range values {
		next := sum + v
		if math.Abs(sum) >= math.Abs(v) {
			lost += (sum - next) + v
		} else {
			lost += (v - next) + sum
		}
		sum = next
	}
	return (sum + lost) / float64(len(values))
}

// median sorts the values.
func median(values []float64) float64 {
	slices.Sort(values)
	half := len(values) / 2
	if len(values)%2 == 1 {
		return values[half]
	}
	return values[half-1] + (values[half]-values[half-1])/2
}

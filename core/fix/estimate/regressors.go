package estimate

import (
	"cmp"
	"maps"
	"slices"
)

const (
	// mostLevels is how many codes of a column have a regressor of their own, and levelDonors how many donors each of them
	// has at the least; rarer ones share one.
	mostLevels  = 60
	levelDonors = 5
)

// regressors turn records into rows of a regression: a constant; each column of numbers, standardised by the mean and the
// standard deviation of the donors, with its mean where it is missing; for each column of numbers that some donor lacks,
// whether it is missing; and for each code but the most frequent, whether it is the one.
type regressors struct {
	numbers []scale
	codes   []levels
	width   int
}

type scale struct {
	mean, deviation float64
	gap             int // the regressor that says it is missing, -1 for none
}

type levels struct {
	at     map[string]int // the regressor of a code, -1 for the most frequent
	others int            // that of codes without one of their own; -1 where there is none
}

func regressorsOf(donors []Donor) *regressors {
	r := &regressors{width: 1}
	if len(donors) == 0 {
		return r
	}
	for i := range donors[0].Numbers {
		s := scaleOf(donors, i)
		r.width++
		s.gap = -1
		if slices.ContainsFunc(donors, func(d Donor) bool { return !finite(d.Numbers[i]) }) {
			s.gap = r.width
			r.width++
		}
		r.numbers = append(r.numbers, s)
	}
	for i := range donors[0].Codes {
		r.codes = append(r.codes, r.levelsOf(donors, i))
	}
	return r
}

// scaleOf returns mean and standard deviation of a column of numbers among the donors; the deviation is 1 where they are all
// equal, so that a constant column tells nothing.
func scaleOf(donors []Donor, column int) scale {
	var m Moments
	for _, d := range donors {
		if x := d.Numbers[column]; finite(x) {
			m.Add(x)
		}
	}
	s := scale{mean: m.Mean, deviation: 1}
	if d := m.Deviation(); d > 0 {
		s.deviation = d
	}
	return s
}

func (r *regressors) levelsOf(donors []Donor, column int) levels {
	rows := map[string]int{}
	for _, d := range donors {
		rows[d.Codes[column]]++
	}
	codes := slices.SortedFunc(maps.Keys(rows), func(a, b string) int {
		return cmp.Or(cmp.Compare(rows[b], rows[a]), cmp.Compare(a, b))
	})
	l := levels{at: map[string]int{}, others: -1}
	for i, code := range codes {
		switch {
		case i == 0:
			l.at[code] = -1
		case i <= mostLevels && rows[code] >= levelDonors:
			l.at[code] = r.width
			r.width++
		case l.others < 0:
			l.others = r.width
			r.width++
		}
	}
	return l
}

// put writes the regressors of a record into a row as wide as they are.
func (r *regressors) put(of Record, into []float64) {
	clear(into)
	into[0] = 1
	at := 1
	for i, s := range r.numbers {
		switch x := of.Numbers[i]; {
		case finite(x):
			into[at] = (x - s.mean) / s.deviation
		case s.gap >= 0:
			into[s.gap] = 1
		}
		at++
		if s.gap >= 0 {
			at++
		}
	}
	for i, l := range r.codes {
		place, known := l.at[of.Codes[i]]
		if !known {
			place = l.others // or, where every code of the donors has its own, as the most frequent
		}
		if place >= 0 {
			into[place] = 1
		}
	}
}

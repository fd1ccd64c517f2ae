package profile

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"sort"

	"proudsieve/core/table"
)

// ordered are different numbers in ascending order, each with the rows it stands in. What a number is is only worked out where it is
// asked for, since there are tens of thousands in each of hundreds of columns, and few of them say how all of them lie.
type ordered struct {
	upTo []int64 // the rows of the numbers up to and including each
	// one of these has the numbers
	units   []int64 // of 10^-scale
	scale   int
	middles []float64 // of buckets, which stand for the numbers in them
	numbers []table.Decimal

	// bounded says that the first and the last number in buckets are known, and all others lie between them.
	bounded   bool
	low, high table.Decimal
}

// weighed is a number with the rows it stands in.
type weighed struct {
	number table.Decimal
	rows   int64
}

func (o *ordered) len() int { return len(o.upTo) }

// before returns the rows of the numbers before one.
func (o *ordered) before(i int) int64 {
	if i == 0 {
		return 0
	}
	return o.upTo[i-1]
}

func (o *ordered) rows(i int) int64 { return o.upTo[i] - o.before(i) }

func (o *ordered) number(i int) table.Decimal {
	switch {
	case o.units != nil:
		return table.DecimalOf(o.units[i], o.scale)
	case o.middles == nil:
		return o.numbers[i]
	case !o.bounded:
		return table.DecimalNear(o.middles[i])
	case i == o.len()-1:
		return o.high
	case i == 0:
		return o.low
	}
	return within(table.DecimalNear(o.middles[i]), o.low, o.high)
}

func (o *ordered) float(i int) float64 {
	if o.middles != nil && i > 0 && i < o.len()-1 && !math.IsInf(o.middles[i], 0) {
		return o.middles[i]
	}
	return o.number(i).Float()
}

// below returns how many of the numbers are below one.
func (o *ordered) below(d table.Decimal) int {
	return sort.Search(o.len(), func(i int) bool { return o.number(i).Cmp(d) >= 0 })
}

// upToAndWith returns how many of the numbers are not above one.
func (o *ordered) upToAndWith(d table.Decimal) int {
	return sort.Search(o.len(), func(i int) bool { return o.number(i).Cmp(d) > 0 })
}

// whole reports whether all of the numbers are whole ones.
func (o *ordered) whole() bool {
	for i := range o.len() {
		if !o.number(i).IsWhole() {
			return false
		}
	}
	return true
}

// quantile interpolates linearly at share x (count-1), as SQL's percentile_cont does, exactly, between the numbers from one of
// them on.
func (o *ordered) quantile(from int, share table.Decimal) table.Decimal {
	if from >= o.len() {
		return table.Decimal{}
	}
	at := share.Times(o.upTo[o.len()-1] - o.before(from) - 1)
	low := at.Floor()
	part := at.Sub(low)
	before := o.before(from) + low.Units(0, false) // how many numbers come before the lower of the two
	i := sort.Search(o.len(), func(i int) bool { return o.upTo[i] > before })
	switch {
	case i == o.len():
		return table.Decimal{}
	case part.Sign() == 0 || o.upTo[i] > before+1 || i == o.len()-1:
		return o.number(i)
	}
	return o.number(i).Add(o.number(i + 1).Sub(o.number(i)).Mul(part))
}

// mostUnitPlaces is how many digits after the point numbers have that can be told in units of the last of them.
const mostUnitPlaces = 18

// inOrder returns different numbers in ascending order.
func inOrder(numbers []weighed) *ordered {
	o := &ordered{upTo: make([]int64, len(numbers))}
	if sorted, scale, ok := inUnits(numbers); ok {
		o.units, o.scale = make([]int64, len(sorted)), scale
		for i, one := range sorted {
			o.units[i], o.upTo[i] = one.units, one.rows
		}
	} else {
		slices.SortFunc(numbers, func(a, b weighed) int { return a.number.Cmp(b.number) })
		o.numbers = make([]table.Decimal, len(numbers))
		for i, one := range numbers {
			o.numbers[i], o.upTo[i] = one.number, one.rows
		}
	}
	for i := 1; i < len(o.upTo); i++ {
		o.upTo[i] += o.upTo[i-1]
	}
	return o
}

// weighedUnits is a number in units with the rows it stands in.
type weighedUnits struct{ units, rows int64 }

// inUnits sorts numbers by how many units of 10^-scale they are; ok is false where one is too many for a machine word.
func inUnits(numbers []weighed) (sorted []weighedUnits, scale int, ok bool) {
	for i := range numbers {
		scale = max(scale, numbers[i].number.Places())
	}
	if scale > mostUnitPlaces {
		return nil, 0, false
	}
	sorted = make([]weighedUnits, len(numbers))
	for i := range numbers {
		units, ok := numbers[i].number.Scaled(scale)
		if !ok {
			return nil, 0, false
		}
		sorted[i] = weighedUnits{units, numbers[i].rows}
	}
	return sortUnits(sorted), scale, true
}

const (
	digitBits = 11  // of the digits that sortUnits sorts by
	fewUnits  = 256 // are sorted by comparing
)

// sortUnits returns numbers in ascending order: a radix sort from the last digit on (Knuth, The Art of Computer Programming 3,
// algorithm 5.2.5R), since there are tens of thousands in each of hundreds of columns.
func sortUnits(numbers []weighedUnits) []weighedUnits {
	if len(numbers) < fewUnits {
		slices.SortFunc(numbers, func(a, b weighedUnits) int { return cmp.Compare(a.units, b.units) })
		return numbers
	}
	least, most := numbers[0].units, numbers[0].units
	for _, one := range numbers {
		least, most = min(least, one.units), max(most, one.units)
	}
	sorted := make([]weighedUnits, len(numbers))
	for shift := 0; shift < bits.Len64(uint64(most)-uint64(least)); shift += digitBits {
		var starts [1 << digitBits]int
		digit := func(one *weighedUnits) int {
			return int((uint64(one.units) - uint64(least)) >> shift & (1<<digitBits - 1))
		}
		for i := range numbers {
			starts[digit(&numbers[i])]++
		}
		start := 0
		for d, n := range starts {
			starts[d], start = start, start+n
		}
		for i := range numbers {
			d := digit(&numbers[i])
			sorted[starts[d]] = numbers[i]
			starts[d]++
		}
		numbers, sorted = sorted, numbers
	}
	return numbers
}

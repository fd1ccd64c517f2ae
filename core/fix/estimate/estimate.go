// Package estimate fills gaps of a column from rows that are alike.
//
// Donors are rows in which the value is there. They are gathered in one pass, a capped number of them, so that the time per
// gap and the memory do not grow with the table; which of them are kept depends on the seed and the rows alone. A Method is
// built from them, and asked for the estimate of each gap. It draws from a source that is seeded by the row and the number of
// the draw: the same on any number of workers, in whatever order the gaps are asked for.
//
// Estimates have an uncertainty of their own, which one filled table hides. Several draws show it: Pool tells what they say
// of a mean or a sum together.
package estimate

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
)

// Most draws that a method makes of each gap.
const MostDraws = 50

// Record is what is known of a row beside the value itself: NaN and an empty text stand for what is missing. The records of
// one table are of one length.
type Record struct {
	Numbers []float64
	Codes   []string
}

// Donor is a row in which the value is there.
type Donor struct {
	Row   int64   // from 0
	Value float64 // as a number; NaN where it is a code
	Text  string  // as it is written, which a gap takes over
	Record
}

// Estimate is what a method puts into a gap.
type Estimate struct {
	Value float64
	// Donor is the place of the row among the donors whose value it is; -1 where it is the value of none.
	Donor int
}

// Method estimates the values of gaps. It may be asked by several goroutines at once.
type Method interface {
	// Estimate returns the value for the gap of a row in a draw, counted from 0, the same whenever it is asked for. It is
	// false where the method has nothing to go by, and the gap stays one.
	Estimate(row int64, of Record, draw int) (Estimate, bool)
}

// ErrTooFew is the error of a method that has too few donors; errors that say how many it needs match it.
var ErrTooFew = errors.New("too few rows have a value")

func enough(donors []Donor, needed int) error {
	if len(donors) < needed {
		return fmt.Errorf("%w: %d, and %d are needed", ErrTooFew, len(donors), needed)
	}
	return nil
}

// source returns the source of what is drawn for a row in a draw.
func source(seed uint64, row int64, draw int) *rand.Rand {
	return rand.New(rand.NewPCG(seed, mix(uint64(row), uint64(draw)+1)))
}

// mix spreads two numbers over 64 bits: the finaliser of SplitMix64 (Steele, Lea and Flood, "Fast splittable pseudorandom
// number generators", 2014), once for each.
func mix(a, b uint64) uint64 { return finalise(finalise(a) + b*0x9e3779b97f4a7c15) }

func finalise(z uint64) uint64 {
	z += 0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

func finite(x float64) bool { return !math.IsNaN(x) && !math.IsInf(x, 0) }

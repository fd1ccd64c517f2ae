package profile

import (
	"cmp"
	"math"
	"slices"

	"proudsieve/core/table"
)

// What is known of a column can come from an engine that counts where the table lies: each text with its rows where there are few, and
// what is said here where there are many.

// DistinctCap is how many different texts of a column are counted exactly.
const DistinctCap = distinctCap

// Outstanding returns in how many rows a text must stand, of a column with so many filled cells whose texts are not all counted, to
// be shown as frequent.
func Outstanding(filled int64) int64 { return max(filled/outstanding, 2) }

// FrequentShown is how many frequent texts of a column are shown.
const FrequentShown = frequentShown

// Told is what an engine says of a column with too many different texts to tell them all.
type Told struct {
	Filled, Missing int64
	Marks           map[string]int64 // how often each text stands for missing
	Distinct        int64
	DistinctError   float64     // relative standard error; 0 where Distinct is exact
	Frequent        []Frequency // in any order; those that stand in fewer rows than Outstanding are left out
	Mistyped        int64
	Exceptions      map[string]int64
	// Lowest and Highest are of the values that are no numbers; missing for none.
	Lowest, Highest   table.Value
	Shortest, Longest int
	Spaces            Spaces
	Shapes            map[string]int64
	MoreShapes        bool
	Days              map[int64]int64 // since 1970-01-01, of the dates or of the moments
	Numbers           *ToldNumbers    // nil for none
}

// ToldNumbers is what an engine says of numbers.
type ToldNumbers struct {
	Count           int64
	Sum             table.Decimal
	Lowest, Highest table.Decimal
	Fractions       bool // one at least is not whole
	// Deviation and Skewness are NaN where there are none.
	Deviation, Skewness float64
	// Buckets counts the numbers by the first BucketBits bits of them as IEEE 754 double precision numbers, -0 being 0.
	Buckets map[uint32]int64
}

// BucketBits is how many of the first bits of a number its bucket has.
const BucketBits = 64 - bucketShift

// Tell makes the summary what an engine says of the column.
func (s *Summary) Tell(t *Told) {
	*s = Summary{facts: facts{filled: t.Filled, missing: t.Missing, marks: t.Marks, mistyped: t.Mistyped, exceptions: t.Exceptions, spaces: t.Spaces,
		shortest: t.Shortest, longest: t.Longest, lowest: t.Lowest, highest: t.Highest, shapes: t.Shapes, moreShapes: t.MoreShapes}}
	for day, rows := range t.Days {
		s.dates.add(day, rows)
	}
	if n := t.Numbers; n != nil {
		s.numbers = Numbers{count: n.Count, fractions: n.Fractions, told: n}
		for at, rows := range n.Buckets {
			for ; rows > math.MaxUint32; rows -= math.MaxUint32 {
				s.numbers.buckets.count(bucket(at), math.MaxUint32)
			}
			s.numbers.buckets.count(bucket(at), uint32(rows))
		}
	}
	frequent := slices.Clone(t.Frequent)
	slices.SortFunc(frequent, moreFrequent)
	s.counts = counts{over: true, told: &toldCounts{t.Distinct, t.DistinctError, frequent}}
}

// toldCounts is what an engine says of the texts of a column.
type toldCounts struct {
	distinct int64
	relative float64
	frequent []Frequency
}

// List makes the summary one of a column whose different texts are all told, each with what it stands for and its rows.
func (s *Summary) List(cells func(each func(cell *Cell, rows int64))) {
	*s = Summary{}
	shard := &Shard{}
	cells(func(cell *Cell, rows int64) {
		for ; rows > math.MaxInt32; rows -= math.MaxInt32 {
			shard.Add(cell, math.MaxInt32)
		}
		shard.Add(cell, uint32(rows))
	})
	shard.End()
	s.Take(shard)
}

// ShapeOf returns the shape of a text.
func ShapeOf(text string) string {
	shard := &Shard{}
	shard.countShape(text, 1)
	shapes := map[string]int64{}
	shard.shapeCounts.into(&shapes)
	for shape := range shapes {
		return shape
	}
	return ""
}

// SpacesOf counts the stray spaces of a text that stands in so many rows.
func SpacesOf(text string, rows int64) Spaces { return spacesOf(text, rows) }

// Plus adds the counts of others.
func (s *Spaces) Plus(o Spaces) { s.add(o) }

// first returns the frequent texts that stand in as many rows as asked for.
func (t *toldCounts) first(shown int, least int64) []Frequency {
	at, _ := slices.BinarySearchFunc(t.frequent, least, func(f Frequency, least int64) int {
		return cmp.Or(cmp.Compare(least, f.Rows), -1)
	})
	return slices.Clone(t.frequent[:min(at, shown)])
}

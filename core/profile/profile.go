// Package profile describes columns without any rulebook: what they hold, how often,
// from where to where. A Shard gathers one stretch of a column, a Summary the shards of
// a column in file order, so that the result depends on the bytes alone.
package profile

import (
	"math"
	"slices"
	"strings"

	"proudsieve/core/table"
)

// Column is the description of one column.
type Column struct {
	Filled  int64 `json:"filled"`
	Missing int64 `json:"missing"`
	// how often each text stands for missing; "" is the empty cell
	MissingMarks map[string]int64 `json:"missing_marks,omitempty"`
	Distinct     int64            `json:"distinct"`
	// relative standard error where Distinct is estimated
	DistinctError float64     `json:"distinct_error,omitempty"`
	Mistyped      int64       `json:"mistyped,omitempty"`   // filled cells that are not of the column's type
	Exceptions    []Frequency `json:"exceptions,omitempty"` // the most frequent of them
	Lowest        string      `json:"lowest,omitempty"`     // of the values of the column's type
	Highest       string      `json:"highest,omitempty"`
	Sum           string      `json:"sum,omitempty"`  // exact
	Mean          string      `json:"mean,omitempty"` // to 16 significant digits or more
	Numbers       *Spread     `json:"numbers,omitempty"`
	Dates         *Calendar   `json:"dates,omitempty"`
	Spaces        Spaces      `json:"spaces"`
	Shortest      int         `json:"shortest"` // in characters, of the filled cells
	Longest       int         `json:"longest"`
	// of texts: a run of digits as 9, of capital letters as A, of other letters as a
	Shapes     []Frequency `json:"shapes,omitempty"`
	MoreShapes bool        `json:"more_shapes,omitempty"`
	Frequent   []Frequency `json:"frequent"`
	Rare       []Frequency `json:"rare,omitempty"`
	// every text with its rows, where there are more than Frequent holds and at most valuesListed
	Values []Frequency `json:"values,omitempty"`
	// the rows of Frequent are the least they can be, since not all texts are counted
	AtLeast bool `json:"at_least,omitempty"`
}

// Spaces counts the cells with spaces where there should be none.
type Spaces struct {
	Any       int64 `json:"any"` // cells with any of the following
	Leading   int64 `json:"leading"`
	Trailing  int64 `json:"trailing"`
	Doubled   int64 `json:"doubled"`   // inside
	Invisible int64 `json:"invisible"` // characters that look like nothing, or like a plain space
}

func (s *Spaces) add(o Spaces) {
	s.Any += o.Any
	s.Leading += o.Leading
	s.Trailing += o.Trailing
	s.Doubled += o.Doubled
	s.Invisible += o.Invisible
}

const (
	shapesKept      = 256
	shapesShown     = 8
	exceptionsKept  = 4096
	exceptionsShown = 12
	valuesListed    = 500
)

// facts is what is gathered of a stretch and of a whole column alike.
type facts struct {
	filled, missing   int64
	marks             map[string]int64
	mistyped          int64
	exceptions        map[string]int64
	spaces            Spaces
	shortest, longest int
	numbers           Numbers
	dates             days
	lowest, highest   table.Value
	shapes            map[string]int64
	moreShapes        bool
}

func (f *facts) merge(o *facts) {
	if o.filled > 0 {
		if f.filled == 0 || o.shortest < f.shortest {
			f.shortest = o.shortest
		}
		f.longest = max(f.longest, o.longest)
	}
	f.filled += o.filled
	f.missing += o.missing
	f.mistyped += o.mistyped
	mergeCounts(&f.marks, o.marks, math.MaxInt)
	mergeCounts(&f.exceptions, o.exceptions, exceptionsKept)
	f.moreShapes = mergeCounts(&f.shapes, o.shapes, shapesKept) || f.moreShapes || o.moreShapes
	f.spaces.add(o.spaces)
	f.numbers.Merge(&o.numbers)
	f.dates.merge(&o.dates)
	if o.lowest.Kind != table.Missing {
		f.extend(o.lowest)
		f.extend(o.highest)
	}
}

// mergeCounts adds counts in the order of their texts, since not all may find room.
func mergeCounts(to *map[string]int64, from map[string]int64, room int) (full bool) {
	if len(from) == 0 {
		return false
	}
	if *to == nil {
		*to = map[string]int64{}
	}
	texts := make([]string, 0, len(from))
	for text := range from {
		texts = append(texts, text)
	}
	slices.Sort(texts)
	for _, text := range texts {
		full = countIn(*to, text, from[text], room) || full
	}
	return full
}

func countIn(to map[string]int64, text string, rows int64, room int) (full bool) {
	if _, known := to[text]; !known {
		if len(to) >= room {
			return true
		}
		text = strings.Clone(text)
	}
	to[text] += rows
	return false
}

func (f *facts) extend(v table.Value) {
	if f.lowest.Kind == table.Missing || table.Compare(v, f.lowest) < 0 {
		f.lowest = v
	}
	if f.highest.Kind == table.Missing || table.Compare(v, f.highest) > 0 {
		f.highest = v
	}
}

// recentTallies is how many texts met last are looked through for one that comes again, in
// a column where most do not. A text that did come again keeps its place for as many others
// as patience times its rows.
const (
	recentTallies = 256
	patience      = 64
)

// Summary gathers the shards of a column. The zero value is empty.
type Summary struct {
	facts
	counts counts
}

// Take merges a shard, the next one in file order.
func (s *Summary) Take(shard *Shard) {
	s.merge(&shard.facts)
	for _, h := range shard.hashes {
		s.counts.sketch.add(h)
	}
	long, texts, base := shard.long, shard.texts, uint32(0)
	own := s.counts.adopts(shard)
	if own {
		base = s.counts.texts.adopt(&shard.texts)
		texts = s.counts.texts // as it is now, since the table may let go of it
	}
	var hashes [talliesAtOnce]uint64
	for _, chunk := range shard.tallies.chunks[:shard.tallies.used] {
		for some := range slices.Chunk(chunk, talliesAtOnce) {
			for i := range some {
				hashes[i] = hashOf(some[i].token)
			}
			s.counts.expect(hashes[:len(some)])
			for i := range some {
				t, place := &some[i], placedText{}
				if !t.token.Inline() {
					place, long = placedText{&texts, base + long[0], own && !s.counts.over}, long[1:]
				}
				s.counts.add(t.token, hashes[i], place, t.rows)
			}
		}
	}
}

// talliesAtOnce is how many tallies are looked up together.
const talliesAtOnce = 64

// Estimated returns the hash from which on texts are of no use to the estimate of how many
// there are, and 0 as long as all of them are counted.
func (s *Summary) Estimated() uint64 {
	if !s.counts.over {
		return 0
	}
	if s.counts.sketch.bound == 0 {
		return math.MaxUint64
	}
	return s.counts.sketch.bound
}

// Counted returns how many texts are being counted, which take some fifty bytes each, and their length.
func (s *Summary) Counted() int { return s.counts.count }

// Crowd makes room for the texts of other columns: from now on the number of different ones
// is estimated, and only the most frequent of them are counted.
func (s *Summary) Crowd() { s.counts.crowd() }

// Facts are what is known of a column before it is described.
type Facts struct {
	Filled, Mistyped  int64
	Shortest, Longest int  // in characters, of the filled cells
	Fractions         bool // a number is not whole
}

// Facts returns what is known of what was taken in.
func (s *Summary) Facts() Facts {
	return Facts{s.filled, s.mistyped, s.shortest, s.longest, s.numbers.fractions}
}

// Sum returns the exact sum of the column's numbers.
func (s *Summary) Sum() table.Decimal { return s.numbers.Sum() }

// NumberReader reads a text as its column's number; text is empty where the token holds it.
type NumberReader func(t table.Token, text string) (table.Decimal, bool)

// Column returns the description of what was taken in.
func (s *Summary) Column(number NumberReader) Column {
	c := Column{Filled: s.filled, Missing: s.missing, MissingMarks: s.marks, Mistyped: s.mistyped,
		Exceptions: top(s.exceptions, exceptionsShown),
		Spaces:     s.spaces, Shortest: s.shortest, Longest: s.longest, Shapes: top(s.shapes, shapesShown),
		MoreShapes: s.moreShapes || len(s.shapes) > shapesShown,
		Lowest:     s.lowest.Standard(), Highest: s.highest.Standard()}
	c.Distinct, c.DistinctError = s.counts.distinct()
	c.Distinct = min(c.Distinct, c.Filled) // an estimate may be beyond what is possible
	c.Frequent = s.counts.most(frequentShown, s.filled)
	if c.Distinct > frequentShown {
		c.Rare = s.counts.least(frequentShown)
	}
	if c.Distinct > frequentShown && c.Distinct <= valuesListed && !s.counts.over {
		c.Values = s.counts.most(valuesListed, s.filled)
	}
	c.AtLeast = s.counts.over
	if n := s.numbers.Count(); n > 0 {
		low, high, _ := s.numbers.extremes()
		c.Lowest, c.Highest = low.String(), high.String()
		sum := s.numbers.Sum()
		c.Sum = sum.Shortest()
		mean, _ := sum.Div(table.DecimalOf(n, 0))
		c.Mean = mean.Shortest()
		c.Numbers = s.spread(number)
	}
	c.Dates = s.dates.calendar()
	return c
}

// All returns every text of the column with its rows; ok is false where they are not all listed.
func (c *Column) All() (texts []Frequency, ok bool) {
	if c.Values != nil {
		return c.Values, true
	}
	return c.Frequent, !c.AtLeast && c.Distinct == int64(len(c.Frequent))
}

func top(counts map[string]int64, shown int) []Frequency {
	out := make([]Frequency, 0, len(counts))
	for text, rows := range counts {
		out = append(out, Frequency{text, rows})
	}
	slices.SortFunc(out, moreFrequent)
	return out[:min(len(out), shown)]
}

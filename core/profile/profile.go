// Package profile describes columns without any rulebook: what they hold, how
// often, from where to where. Summaries take distinct values with their counts,
// batch by batch in file order, so that the result depends on the bytes alone.
package profile

import (
	"cmp"
	"container/heap"
	"maps"
	"math"
	"slices"
	"unicode/utf8"

	"github.com/zeebo/xxh3"

	"proudsieve/core/table"
)

const (
	// distinctCap is how many distinct texts of a column are counted exactly.
	distinctCap = 1 << 17
	// sketchSize is the number of least hashes kept for the estimate beyond that;
	// its relative standard error is 1/sqrt(sketchSize-2), 1.6%.
	sketchSize    = 4096
	frequentShown = 12
)

// Column is the description of one column.
type Column struct {
	Filled        int64            `json:"filled"`
	Missing       int64            `json:"missing"`
	MissingMarks  map[string]int64 `json:"missing_marks,omitempty"` // how often each text stands for missing; "" is the empty cell
	Distinct      int64            `json:"distinct"`
	DistinctError float64          `json:"distinct_error,omitempty"` // relative standard error where Distinct is estimated
	Lowest        string           `json:"lowest,omitempty"`         // of the values of the column's type
	Highest       string           `json:"highest,omitempty"`
	Numbers       int64            `json:"numbers,omitempty"` // how many values Sum and Mean speak of
	Sum           string           `json:"sum,omitempty"`     // exact
	Mean          string           `json:"mean,omitempty"`    // to 16 significant digits or more
	Spaced        int64            `json:"spaced"`            // values with stray spaces before, after or doubled inside
	Shortest      int              `json:"shortest"`          // in characters, of the filled cells
	Longest       int              `json:"longest"`
	Frequent      []Frequency      `json:"frequent"`
}

// Frequency is how often a text occurs.
type Frequency struct {
	Text string `json:"text"`
	Rows int64  `json:"rows"`
}

// Summary gathers a column. The zero value is empty.
type Summary struct {
	column          Column
	counts          map[string]int64
	over            bool // more distinct texts than distinctCap; counts takes no new ones
	sketch          sketch
	sum             table.Decimal
	lowest, highest table.Value
}

// Add takes in a text that occurs in rows cells. value is missing where the text
// is not of the column's type; missing says that the text stands for no value.
func (s *Summary) Add(text string, rows int64, missing bool, value table.Value) {
	c := &s.column
	if missing {
		if c.MissingMarks == nil {
			c.MissingMarks = map[string]int64{}
		}
		c.Missing += rows
		c.MissingMarks[text] += rows
		return
	}
	length := utf8.RuneCountInString(text)
	if c.Filled == 0 || length < c.Shortest {
		c.Shortest = length
	}
	c.Longest = max(c.Longest, length)
	c.Filled += rows
	if table.Trim(text) != text {
		c.Spaced += rows
	}
	if s.counts == nil {
		s.counts = map[string]int64{}
	}
	s.count(text, rows)
	if value.Kind == table.Missing {
		return
	}
	if s.lowest.Kind == table.Missing || table.Compare(value, s.lowest) < 0 {
		s.lowest = value
	}
	if s.highest.Kind == table.Missing || table.Compare(value, s.highest) > 0 {
		s.highest = value
	}
	if value.Kind == table.Number {
		c.Numbers += rows
		s.sum = s.sum.Add(value.Number.Times(rows))
	}
}

// count counts a text; with the first one beyond distinctCap the estimate takes over.
func (s *Summary) count(text string, rows int64) {
	if _, known := s.counts[text]; known || len(s.counts) < distinctCap {
		s.counts[text] += rows
		return
	}
	if !s.over {
		s.over = true
		for counted := range s.counts {
			s.sketch.add(xxh3.HashString(counted))
		}
	}
	s.sketch.add(xxh3.HashString(text))
}

// Sum returns the exact sum of the column's numbers.
func (s *Summary) Sum() table.Decimal { return s.sum }

// Column returns the description of what was added.
func (s *Summary) Column() Column {
	c := s.column
	c.Distinct = int64(len(s.counts))
	if s.over {
		c.Distinct = s.sketch.estimate()
		c.DistinctError = math.Round(1e4/math.Sqrt(sketchSize-2)) / 1e4
	}
	c.Lowest, c.Highest = s.lowest.Standard(), s.highest.Standard()
	if c.Numbers > 0 {
		c.Sum = s.sum.Shortest()
		mean, _ := s.sum.Div(table.DecimalOf(c.Numbers, 0))
		c.Mean = mean.Shortest()
	}
	c.Frequent = s.frequent()
	return c
}

func (s *Summary) frequent() []Frequency {
	shown := make([]Frequency, 0, frequentShown+1)
	for text, rows := range s.counts {
		one := Frequency{text, rows}
		if len(shown) == frequentShown && moreFrequent(one, shown[frequentShown-1]) > 0 {
			continue
		}
		at, _ := slices.BinarySearchFunc(shown, one, moreFrequent)
		if shown = slices.Insert(shown, at, one); len(shown) > frequentShown {
			shown = shown[:frequentShown]
		}
	}
	return shown
}

// moreFrequent orders by falling frequency, equals by their text.
func moreFrequent(a, b Frequency) int {
	return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Text, b.Text))
}

// Counts returns how often each text occurs, and whether all of them are counted.
func (s *Summary) Counts() (counts map[string]int64, all bool) { return maps.Clone(s.counts), !s.over }

// sketch keeps the sketchSize least of the hashes it is given (k minimum values,
// Bar-Yossef et al. 2002), from which the number of different ones is estimated.
type sketch struct {
	least greatestFirst
	known map[uint64]bool
}

func (s *sketch) add(h uint64) {
	if len(s.least) == sketchSize && h >= s.least[0] {
		return
	}
	if s.known == nil {
		s.known = map[uint64]bool{}
	}
	if s.known[h] {
		return
	}
	s.known[h] = true
	heap.Push(&s.least, h)
	if len(s.least) > sketchSize {
		delete(s.known, heap.Pop(&s.least).(uint64))
	}
}

func (s *sketch) estimate() int64 {
	if len(s.least) < sketchSize {
		return int64(len(s.least))
	}
	return int64((sketchSize - 1) / (float64(s.least[0]) / math.MaxUint64))
}

type greatestFirst []uint64

func (h greatestFirst) Len() int           { return len(h) }
func (h greatestFirst) Less(i, j int) bool { return h[i] > h[j] }
func (h greatestFirst) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *greatestFirst) Push(x any)        { *h = append(*h, x.(uint64)) }
func (h *greatestFirst) Pop() any {
	old := *h
	last := old[len(old)-1]
	*h = old[:len(old)-1]
	return last
}

package profile

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

const (
	// distinctCap is how many distinct texts of a column are counted exactly.
	distinctCap = 1 << 16
	// sketchSize is the number of least hashes kept for the estimate beyond that;
	// its relative standard error is 1/sqrt(sketchSize-2), 1.6%.
	sketchSize    = 1 << 12
	frequentShown = 12
)

// Frequency is how often a text occurs.
type Frequency struct {
	Text string `json:"text"`
	Rows int64  `json:"rows"`
}

// counts counts texts: all of them exactly while they are few enough. Beyond that the
// number of distinct ones is estimated from their hashes, and only those that are met
// more than once at a time are counted on, from then on: their counts are the least
// that they can be.
type counts struct {
	tallied
	over   bool
	room   int         // how many texts are counted; 0 means distinctCap
	told   *toldCounts // what an engine counted instead; nil where it was done here
	sketch sketch
}

// crowdedRoom is how many texts are counted of a column that had to make room for others.
const crowdedRoom = 1 << 10

func (c *counts) limit() int {
	if c.room > 0 {
		return c.room
	}
	return distinctCap
}

// beyond stops counting all texts.
func (c *counts) beyond() {
	if c.over {
		return
	}
	c.over = true
	// Hashes are spread evenly, so that half as many again as are kept lie below this.
	bound := uint64(math.MaxUint64)
	if n := uint64(c.count); n > sketchSize*3/2 {
		bound = bound / n * (sketchSize * 3 / 2)
	}
	c.each(func(one *counted) {
		if h := hashOf(one.token); h < bound {
			c.sketch.add(h)
		}
	})
	if c.sketch.settle(); c.count >= sketchSize && len(c.sketch.least) < sketchSize {
		c.each(func(one *counted) { c.sketch.add(hashOf(one.token)) })
	}
}

// crowd makes room for other columns: only the most frequent texts are counted from now on.
func (c *counts) crowd() {
	c.beyond()
	c.room = crowdedRoom
	c.prune()
}

// add counts a text that stands in so many rows; h is its hash.
func (c *counts) add(t table.Token, h uint64, long placedText, rows uint32) {
	if c.over {
		c.sketch.add(h)
		if rows == 1 {
			return
		}
	}
	if one := c.find(t, h, long); one != nil {
		one.rows += rows
		return
	}
	if c.count >= c.limit() {
		if !c.over {
			c.beyond()
			c.sketch.add(h)
		}
		c.prune()
		long.own = false // what was adopted was given up with the rest
	}
	c.put(t, h, long, rows)
}

// adoptedFrom is how many long texts are worth being taken over together.
const adoptedFrom = 1 << 10

// adopts reports whether the texts of a shard are many, and all but a few of them new, by the first ones; then they are taken over
// as they stand, and not copied.
func (c *counts) adopts(shard *Shard) bool {
	if c.over || len(shard.long) < adoptedFrom {
		return false
	}
	seen, known := 0, 0
	for _, t := range shard.tallies.chunks[0] {
		if t.token.Inline() {
			continue
		}
		if c.find(t.token, hashOf(t.token), placedText{texts: &shard.texts, at: shard.long[seen]}) != nil {
			known++
		}
		if seen++; seen == talliesAtOnce {
			break
		}
	}
	return known*8 < seen
}

// prune keeps the most frequent quarter of as many as there is room for.
func (c *counts) prune() {
	if c.count < c.limit()/4 {
		return
	}
	sorted := make([]uint32, 0, c.count)
	c.each(func(one *counted) { sorted = append(sorted, one.rows) })
	slices.Sort(sorted)
	least := sorted[len(sorted)-c.limit()/4]
	old := c.tallied
	c.tallied = tallied{}
	old.each(func(one *counted) {
		if one.rows > least {
			c.put(one.token, hashOf(one.token), placedText{texts: &old.texts, at: one.at}, one.rows)
		}
	})
}

// distinct returns the number of different texts, and the relative standard error of an estimate.
func (c *counts) distinct() (n int64, relativeError float64) {
	if c.told != nil {
		return c.told.distinct, c.told.relative
	}
	if c.over {
		return c.sketch.estimate(), math.Round(1e4/math.Sqrt(sketchSize-2)) / 1e4
	}
	return int64(c.count), 0
}

// outstanding is the share of the filled cells, one in so many, that a text of a column
// whose texts are not all counted must stand in to be shown as frequent.
const outstanding = 2000

// most returns the most frequent texts of a column with so many filled cells.
func (c *counts) most(shown int, filled int64) []Frequency {
	least := int64(0)
	if c.over {
		least = Outstanding(filled)
	}
	if c.told != nil {
		return c.told.first(shown, least)
	}
	return c.first(shown, moreFrequent, func(rows int64) bool { return rows >= least })
}

// least returns the least frequent texts, none where not all are counted.
func (c *counts) least(shown int) []Frequency {
	if c.over {
		return []Frequency{}
	}
	return c.first(shown, func(a, b Frequency) int {
		return cmp.Or(cmp.Compare(a.Rows, b.Rows), cmp.Compare(a.Text, b.Text))
	}, func(int64) bool { return true })
}

// first returns the texts that come first in an order by their rows and then by themselves, of those with rows that count.
func (c *counts) first(shown int, order func(a, b Frequency) int, count func(rows int64) bool) []Frequency {
	out := make([]Frequency, 0, shown+1)
	last := table.Token{} // of the last text shown
	c.each(func(one *counted) {
		rows := int64(one.rows)
		if !count(rows) {
			return
		}
		if len(out) == shown {
			// Most texts stand in as many rows as others, and need not be made to be told apart.
			end := &out[shown-1]
			if rows == end.Rows && one.token.Inline() && last.Inline() && !one.token.Before(last) ||
				rows != end.Rows && order(Frequency{Rows: rows}, Frequency{Rows: end.Rows}) > 0 {
				return
			}
		}
		found := Frequency{c.text(one), rows}
		if len(out) == shown && order(found, out[shown-1]) > 0 {
			return
		}
		at, _ := slices.BinarySearchFunc(out, found, order)
		if out = slices.Insert(out, at, found); len(out) > shown {
			out = out[:shown]
		}
		last = table.TokenOf(out[len(out)-1].Text)
	})
	return out
}

// moreFrequent orders by falling frequency, equals by their text.
func moreFrequent(a, b Frequency) int {
	return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Text, b.Text))
}

// sketch keeps the sketchSize least of the hashes it is given (k minimum values,
// Bar-Yossef et al. 2002), from which the number of different ones is estimated.
type sketch struct {
	least []uint64 // some of them more than once, and up to twice as many as are kept
	bound uint64   // hashes from here on are of no use; 0 for none yet, else the first sketchSize of least are in order
}

// hashOf is the hash that stands for a text in a sketch.
func hashOf(t table.Token) uint64 { return table.With(table.Hash{}, t).Hi }

func (s *sketch) add(h uint64) {
	if s.bound > 0 && (h >= s.bound || s.knows(h)) {
		return
	}
	if s.least = append(s.least, h); len(s.least) == 2*sketchSize {
		s.settle()
	}
}

// knows reports whether a hash is one of those in order. They are spread evenly, so that it is looked for where it should stand.
func (s *sketch) knows(h uint64) bool {
	const stride = 32 // as far as most of them stand from there
	hi, _ := bits.Mul64(h, math.MaxUint64/(s.bound>>12+1))
	first := min(int(hi), sketchSize-1)
	last := first
	for first > 0 && s.least[first] > h {
		first = max(first-stride, 0)
	}
	for last < sketchSize-1 && s.least[last] < h {
		last = min(last+stride, sketchSize-1)
	}
	_, known := slices.BinarySearch(s.least[first:last+1], h)
	return known
}

// settle leaves the least hashes, each once and in order.
func (s *sketch) settle() {
	slices.Sort(s.least)
	s.least = slices.Compact(s.least)
	if len(s.least) >= sketchSize {
		s.least = s.least[:sketchSize]
		s.bound = s.least[sketchSize-1]
	}
}

func (s *sketch) estimate() int64 {
	s.settle()
	if len(s.least) < sketchSize {
		return int64(len(s.least))
	}
	return int64((sketchSize - 1) / (float64(s.least[sketchSize-1]) / math.MaxUint64))
}

package profile

import (
	"strings"

	"proudsieve/core/table"
)

// Counted counts the values of one kind that a group of rows has: exactly, until Estimate is called, and from then on its
// quantiles are off by bucketError of themselves at most, and how many there are is an estimate.
type Counted struct {
	words   map[word]int64   // numbers and dates that fit a machine word
	texts   map[string]int64 // by what they are identified by
	numbers map[string]table.Decimal
	count   int64 // of numbers
	buckets *buckets
	sketch  sketch
}

// word is a number with its trailing zeros taken off, or a day or moment, whose scale is -1.
type word struct {
	coefficient int64
	scale       int8
}

const momentScale = -1

func wordOf(v *table.Value) (word, bool) {
	switch v.Kind {
	case table.Date, table.Instant:
		return word{v.When, momentScale}, true
	case table.Number:
		c, scale, ok := v.Number.ShortestWord()
		return word{c, int8(scale)}, ok
	}
	return word{}, false
}

// Add takes in a value that so many rows have; it must not be missing.
func (c *Counted) Add(v *table.Value, rows int64) {
	if v.Kind == table.Number {
		c.count += rows
	}
	if c.buckets != nil {
		c.estimate(v, rows)
		return
	}
	if w, ok := wordOf(v); ok {
		if c.words == nil {
			c.words = map[word]int64{}
		}
		c.words[w] += rows
		return
	}
	if c.texts == nil {
		c.texts = map[string]int64{}
	}
	identity := v.Identity()
	if _, known := c.texts[identity]; !known {
		identity = strings.Clone(identity) // it may stand in the bytes of a batch
	}
	c.texts[identity] += rows
	if v.Kind == table.Number {
		if c.numbers == nil {
			c.numbers = map[string]table.Decimal{}
		}
		c.numbers[identity] = v.Number
	}
}

// Len returns how many different values are held; 0 once they are estimated.
func (c *Counted) Len() int { return len(c.words) + len(c.texts) }

func (c *Counted) estimate(v *table.Value, rows int64) {
	c.sketch.add(hashOf(table.TokenOf(v.Identity())))
	if v.Kind == table.Number {
		c.buckets.add(v.Number.Float(), rows)
	}
}

// Estimate lets go of the single values.
func (c *Counted) Estimate() {
	if c.buckets != nil {
		return
	}
	held := *c
	c.buckets, c.words, c.texts, c.numbers = &buckets{}, nil, nil, nil
	held.each(func(v *table.Value, rows int64) { c.estimate(v, rows) })
}

// each calls f for every value held.
func (c *Counted) each(f func(v *table.Value, rows int64)) {
	for w, rows := range c.words {
		v := table.InstantValue(w.coefficient)
		if w.scale != momentScale {
			v = table.NumberValue(table.DecimalOf(w.coefficient, int(w.scale)))
		}
		f(&v, rows)
	}
	for identity, rows := range c.texts {
		v := table.TextValue(identity)
		if d, ok := c.numbers[identity]; ok {
			v = table.NumberValue(d)
		}
		f(&v, rows)
	}
}

// Merge takes in what another one counted.
func (c *Counted) Merge(o *Counted) {
	if o.buckets != nil { // what was held before is held no more
		c.Estimate()
		c.count += o.count
		c.buckets.merge(o.buckets)
		for _, h := range o.sketch.least {
			c.sketch.add(h)
		}
		return
	}
	o.each(func(v *table.Value, rows int64) { c.Add(v, rows) })
}

// Distinct returns how many different values there are, and whether that is exact.
func (c *Counted) Distinct() (n int64, exact bool) {
	if c.buckets != nil {
		return c.sketch.estimate(), false
	}
	return int64(c.Len()), true
}

// Quantile interpolates linearly between the numbers, as SQL's percentile_cont does; ok is false where there are none.
func (c *Counted) Quantile(share table.Decimal) (d table.Decimal, exact, ok bool) {
	if c.count == 0 {
		return d, false, false
	}
	if c.buckets != nil {
		return c.buckets.ascending().quantile(0, share), false, true
	}
	numbers := make([]weighed, 0, c.Len())
	c.each(func(v *table.Value, rows int64) {
		if v.Kind == table.Number {
			numbers = append(numbers, weighed{v.Number, rows})
		}
	})
	return inOrder(numbers).quantile(0, share), true, true
}

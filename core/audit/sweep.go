package audit

import (
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// sweep judges and describes the cells of a column of nearly nothing but different texts,
// each of which has a code of its own. Only those that need a closer look are met one by one.
func (c *stretchColumn) sweep(j *judge, p *plan, at int, d *table.Dictionary) {
	n := len(d.Tokens)
	for len(c.ones) < n {
		c.ones = append(c.ones, 1)
	}
	c.know(n, want{p.valued[at], p.keyed[at], j.cells.Open})
	for first := 0; first < n; first += sweptAtOnce {
		last := min(first+sweptAtOnce, n)
		switch j.sweep {
		case sweepNumbers:
			c.sweepNumbers(j, p, at, d, first, last)
		case sweepTexts:
			c.sweepTexts(j, p, at, d, first, last)
		case sweepDates:
			c.sweepDates(j, p, at, d, first, last)
		default:
			for code := first; code < last; code++ {
				c.look(j, d, code)
			}
		}
	}
	c.countEmpty()
}

// sweptAtOnce is how many cells are taken through all that is done to them, so that they
// are still in the processor's first cache.
const sweptAtOnce = 512

// lack judges an empty cell.
func (c *stretchColumn) lack(j *judge, code int) {
	c.missing[code], c.broken[code] = true, j.lacking
	c.anyBroken |= j.lacking
	if len(c.values) > code {
		c.values[code] = table.Value{}
	}
	if len(c.identities) > code {
		c.identities[code] = table.Token{}
	}
	c.empty++
}

// countEmpty describes the empty cells met.
func (c *stretchColumn) countEmpty() {
	if c.empty == 0 {
		return
	}
	c.anyMissing = true
	if len(c.looks) > 0 {
		c.census.add(0, c.empty)
	}
	c.shard.AddEmpty(c.empty)
	c.empty = 0
}

// look judges and describes a single cell.
func (c *stretchColumn) look(j *judge, d *table.Dictionary, code int) {
	text := d.Text(uint32(code))
	cell := c.meet(j, d, code, text)
	if len(c.looks) > code {
		c.census.add(c.looks[code], 1)
	}
	c.describe(d, code, text, &cell.Value, cell.Missing, 1)
}

func (c *stretchColumn) sweepNumbers(j *judge, p *plan, at int, d *table.Dictionary, first, last int) {
	tokens, coefficients, scales := d.Tokens[first:last], c.coefficients[:last-first], c.scales[:last-first]
	regular := true
	if j.cells.PlainNumbers() {
		mostPlaces, open := table.InlineLength, j.cells.Open
		if j.cells.Type == table.TypeInteger {
			mostPlaces = 0
		}
		for i, t := range tokens {
			coefficient, scale, ok := t.Number()
			coefficients[i], scales[i] = coefficient, uint8(scale)
			if !ok || scale > mostPlaces || j.cells.MayBeMissing(t) || open && t.ZeroPadded() {
				scales[i], regular = irregular, false
			}
		}
	} else {
		for i, t := range tokens {
			_, coefficient, scale, ok := j.cells.Number(t)
			if coefficients[i], scales[i] = coefficient, uint8(scale); !ok {
				scales[i], regular = irregular, false
			}
		}
	}
	if j.units != nil {
		for i, scale := range scales {
			if scale != irregular && j.units.outOfRange(coefficients[i], scale) {
				c.broken[first+i] = j.units.bit
				c.anyBroken |= j.units.bit
			}
		}
	}
	if p.valued[at] {
		values := c.values[first:last]
		for i, scale := range scales {
			values[i] = table.NumberValue(table.DecimalOf(coefficients[i], int(scale)))
		}
	}
	if p.keyed[at] {
		identities := c.identities[first:last]
		for i, t := range tokens {
			if identities[i] = t; scales[i] != irregular {
				plain, _, _, _ := j.cells.Number(t)
				identities[i] = plain.Shortest(int(scales[i]))
			}
		}
	}
	if !regular {
		n, late := 0, &c.beside
		for i, t := range tokens {
			switch {
			case scales[i] != irregular:
				c.swept[n], coefficients[n], scales[n] = t, coefficients[i], scales[i]
				n++
			case t.Hi == 0:
				c.lack(j, first+i)
			case !c.sweepNumber(j, p, at, d, first+i, late):
				late.into(&c.shard)
				c.look(j, d, first+i)
			}
		}
		late.into(&c.shard)
		tokens, coefficients, scales = c.swept[:n], coefficients[:n], scales[:n]
	}
	c.shard.AddNumbers(tokens, coefficients, scales)
}

// numbersBeside are numbers that are longer than a token holds or have an exponent.
type numbersBeside struct {
	coefficients []int64
	scales       []uint8
}

// into adds them to a shard.
func (n *numbersBeside) into(shard *profile.Shard) {
	shard.AddEachNumber(n.coefficients, n.scales)
	n.coefficients, n.scales = n.coefficients[:0], n.scales[:0]
}

// sweepNumber judges and describes a number that is longer than a token holds or has an exponent, and leaves the number itself in
// beside; it reports false where the cell needs a closer look.
func (c *stretchColumn) sweepNumber(j *judge, p *plan, at int, d *table.Dictionary, code int, beside *numbersBeside) bool {
	t := d.Tokens[code]
	if !j.cells.PlainNumbers() || len(d.Flawed) > 0 {
		return false
	}
	long, number := "", ""
	if t.Inline() {
		var raw [16]byte
		number = string(t.Bytes(&raw)) // which is kept nowhere
	} else {
		long = d.Glance(uint32(code))
		number = long
	}
	if j.cells.MayStandForNothing(number) || j.cells.Open && table.ZeroPadded(number) {
		return false
	}
	coefficient, scale, ok := table.ParseWord(number)
	if !ok || j.cells.Type == table.TypeInteger && !table.DecimalOf(coefficient, scale).IsWhole() {
		return false
	}
	if j.units != nil && j.units.outOfRange(coefficient, uint8(scale)) {
		c.broken[code] = j.units.bit
		c.anyBroken |= j.units.bit
	}
	if p.valued[at] {
		c.values[code] = table.NumberValue(table.DecimalOf(coefficient, scale))
	}
	if p.keyed[at] {
		c.identities[code] = table.TokenOf(table.DecimalOf(coefficient, scale).Shortest())
	}
	c.shard.AddNumberText(t, long)
	beside.coefficients, beside.scales = append(beside.coefficients, coefficient), append(beside.scales, uint8(scale))
	return true
}

// irregular stands for the scale of a cell that needs a closer look.
const irregular = 0xFF

func (c *stretchColumn) sweepTexts(j *judge, p *plan, at int, d *table.Dictionary, first, last int) {
	valued, keyed := p.valued[at], p.keyed[at]
	n := 0
	for code := first; code < last; code++ {
		t, broken, swept := d.Tokens[code], uint16(0), false
		switch {
		case t.Plain():
			if broken, swept = c.ofPlainText(j, t); swept {
				c.swept[n] = t
				n++
			}
		case t.Hi == 0:
			c.lack(j, code)
			continue
		case len(d.Flawed) > 0:
		case t.Inline():
			if broken, swept = c.ofShortText(j, t); swept {
				c.shard.AddShort(t)
			}
		default:
			text := d.Glance(uint32(code))
			if broken, swept = j.ofText(text); swept {
				c.shard.AddText(t, text)
			}
		}
		if !swept {
			c.look(j, d, code)
			continue
		}
		if broken != 0 {
			c.broken[code] = broken
			c.anyBroken |= broken
		}
		if valued {
			c.values[code] = table.TextValue(d.Text(uint32(code)))
		}
		if keyed {
			c.identities[code] = t
		}
	}
	c.shard.AddPlain(c.swept[:n])
}

// ofText judges a text of any kind; swept says that there is nothing else to say of it.
func (j *judge) ofText(text string) (broken uint16, swept bool) {
	if text == "" || j.cells.MayStandForNothing(text) || j.cells.Open && j.cells.LooksLike(text) != 0 {
		return 0, false
	}
	return j.breaks(text), true
}

// breaks says which rules on values a text breaks that is its own value.
func (j *judge) breaks(text string) (broken uint16) {
	if len(j.values) == 0 {
		return 0
	}
	return j.breaksAs(table.TextValue(text), text)
}

// breaksAs says which rules on values the text of a value breaks.
func (j *judge) breaksAs(value table.Value, text string) (broken uint16) {
	cell := rulebook.Cell{Value: value}
	for i := range j.values {
		if one := &j.values[i]; one.rule.Breaks(cell, text) {
			broken |= one.bit
		}
	}
	return broken
}

// alike is what is known of the texts that differ in nothing but their digits.
type alike struct {
	text   table.Token // with every digit made a 9
	broken uint16      // by each of them
	swept  bool        // none of them stands for nothing, or looks like a number or a date
}

// alikeBits says of how many kinds of texts that differ in nothing but their digits, as a power of two, is remembered
// what is known of them.
const alikeBits = 7

// ofPlainText judges a text, or remembers how one like it was judged.
func (c *stretchColumn) ofPlainText(j *judge, t table.Token) (broken uint16, swept bool) {
	if j.cells.MayBeMissing(t) {
		return 0, false
	}
	if !j.cells.Open && !j.digitsAlike {
		return j.ofPlainText(t), true
	}
	known := c.whatIsAlike(j, t)
	switch {
	case !known.swept:
		return 0, false
	case j.digitsAlike:
		return known.broken, true
	}
	return j.ofPlainText(t), true
}

// ofShortText is ofPlainText for a text of any characters that its token holds.
func (c *stretchColumn) ofShortText(j *judge, t table.Token) (broken uint16, swept bool) {
	known := c.whatIsAlike(j, t)
	switch {
	case !known.swept:
		return 0, false
	case j.digitsAlike || len(j.values) == 0:
		return known.broken, true
	}
	return j.breaks(t.Text("")), true
}

// whatIsAlike returns what is known of the texts that differ from a short one in nothing but their digits.
func (c *stretchColumn) whatIsAlike(j *judge, t table.Token) *alike {
	if c.alike == nil {
		c.alike = make([]alike, 1<<alikeBits)
	}
	like := t.DigitsAlike()
	known := &c.alike[like.Spread(alikeBits)]
	if known.text == like {
		return known
	}
	*known = alike{text: like, swept: !j.cells.Open || !j.cells.MayLookLike(like)}
	if !like.Plain() && known.swept {
		known.swept = !j.cells.MayStandForNothing(like.Text(""))
	}
	if known.swept && j.digitsAlike {
		known.broken = j.breaks(t.Text(""))
	}
	return known
}

// sweepDates judges cells of a column of dates or datetimes.
func (c *stretchColumn) sweepDates(j *judge, p *plan, at int, d *table.Dictionary, first, last int) {
	timed := j.cells.Type == table.TypeDateTime
	valued, keyed := p.valued[at], p.keyed[at]
	for code := first; code < last; code++ {
		t, text := d.Tokens[code], ""
		micros, standard, ok := int64(0), false, false
		length := t.Len()
		switch {
		case t.Hi == 0:
			c.lack(j, code)
			continue
		case !t.Inline():
			text = d.Glance(uint32(code))
			if length = len(text); !j.cells.MayStandForNothing(text) {
				micros, standard, ok = j.dateOf(text)
			}
		case !j.cells.MayBeMissing(t):
			var raw [16]byte
			micros, standard, ok = j.dateOf(string(t.Bytes(&raw)))
		}
		value := table.InstantValue(micros)
		day := value.Day()
		if !timed {
			value, ok = table.DateValue(day), ok && micros%microsOfDay == 0
		}
		if !ok {
			c.look(j, d, code)
			continue
		}
		if len(j.values) > 0 {
			if broken := j.breaksAs(value, d.Glance(uint32(code))); broken != 0 {
				c.broken[code] = broken
				c.anyBroken |= broken
			}
		}
		if timed {
			c.shard.AddPlainInstant(t, text, length, micros, day)
		} else {
			c.shard.AddPlainDate(t, text, length, day)
		}
		if valued {
			c.values[code] = value
		}
		if keyed {
			if c.identities[code] = t; !standard {
				c.identities[code] = table.TokenOf(value.Identity())
			}
		}
	}
}

const microsOfDay = 86_400_000_000

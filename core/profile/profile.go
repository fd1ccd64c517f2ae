// Package profile describes columns without any rulebook: what they hold, how often,
// from where to where. A Shard gathers one stretch of a column, a Summary the shards of
// a column in file order, so that the result depends on the bytes alone.
package profile

import (
	"math"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

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

// Cell is a text with what it stands for in its column.
type Cell struct {
	Token   table.Token
	Text    string
	Missing bool        // the text stands for no value
	Value   table.Value // missing where the text is not of the column's type
}

// Shard gathers one stretch of a column. Its zero value is empty.
type Shard struct {
	facts
	// tallies count the texts; where estimated is set only those that were met more than once
	// at a time.
	tallies []tally
	recent  [recentTallies]tally // those not in tallies yet, by a part of their hash
	// recentLong are those of texts that their tokens do not hold; nil until there is one
	recentLong []longTally
	long       []string // the texts of tallies whose tokens do not hold them
	// estimated is the hash from which on texts are of no use to the estimate of how many
	// there are, and hashes the ones below; 0 where all texts are counted.
	estimated uint64
	hashes    []uint64
	lengths   uint16 // of texts held by their tokens, a bit for each
	shape     []byte
	// the least and the greatest text added as plain; empty where none was
	plainLeast, plainMost table.Token
	// the shape met last, and how many rows have not been counted under it yet
	lastShape     string
	lastShapeRows int64
	lastAlike     table.Token // the plain text met last, with its digits alike
}

// recentTallies is how many texts met last are looked through for one that comes again, in
// a column where most do not. A text that did come again keeps its place for as many others
// as patience times its rows.
const (
	recentTallies = 256
	patience      = 64
)

// tally counts a text.
type tally struct {
	token  table.Token
	rows   uint32
	missed uint32 // others that wanted its place in recent
}

// keeps reports whether a recent text keeps its place when another one wants it.
func (t *tally) keeps(other uint32) bool {
	if t.rows > 1 && other == 1 && t.missed < t.rows*patience {
		t.missed++
		return true
	}
	return false
}

// longTally counts a text that its token does not hold.
type longTally struct {
	tally
	text string
}

// Begin says from which hash on texts need not be told to the summary that the shard goes
// into (Summary.Estimated); 0 where all of them must be.
func (s *Shard) Begin(estimated uint64) { s.estimated = estimated }

// tally counts a short text.
func (s *Shard) tally(t table.Token, rows uint32) {
	h := hashOf(t)
	recent := &s.recent[h%recentTallies]
	if recent.token == t {
		recent.rows += rows
		return
	}
	s.estimate(h)
	s.replace(recent, tally{token: t, rows: rows})
}

// replace makes a text one of the recent ones.
func (s *Shard) replace(recent *tally, one tally) {
	if !recent.keeps(one.rows) {
		one, *recent = *recent, one
	}
	s.put(&one)
}

// tallyEach counts short texts that stand in one row each.
func (s *Shard) tallyEach(tokens []table.Token) {
	lengths, estimated := s.lengths, s.estimated
	for _, t := range tokens {
		lengths |= 1 << (t.Len() % 16)
		h := hashOf(t)
		switch recent := &s.recent[h%recentTallies]; {
		case recent.token == t:
			recent.rows++
		case recent.rows == 1 && estimated > 0: // most are met once, and leave nothing behind but this
			recent.token = t
			s.estimate(h)
		default:
			s.estimate(h)
			s.replace(recent, tally{token: t, rows: 1})
		}
	}
	s.lengths = lengths
	s.filled += int64(len(tokens))
}

// put keeps a tally, unless the text was met once and is only estimated.
func (s *Shard) put(t *tally) bool {
	if t.rows == 0 || t.rows == 1 && s.estimated > 0 {
		return false
	}
	if len(s.tallies) == cap(s.tallies) {
		s.tallies = slices.Grow(s.tallies, max(len(s.tallies), recentTallies)) // append alone would copy more often
	}
	s.tallies = append(s.tallies, *t)
	return true
}

// estimate keeps the hash of a text for the estimate, where that is of use.
func (s *Shard) estimate(h uint64) {
	if h < s.estimated {
		s.hashes = append(s.hashes, h)
	}
}

// tallyLong counts a text that its token does not hold.
func (s *Shard) tallyLong(t table.Token, text string, rows uint32) {
	if s.recentLong == nil {
		s.recentLong = make([]longTally, recentTallies)
	}
	recent := &s.recentLong[t.Lo%recentTallies]
	if recent.token == t && recent.text == text {
		recent.rows += rows
		return
	}
	s.estimate(hashOf(t))
	one := longTally{tally{token: t, rows: rows}, text}
	if !recent.keeps(rows) {
		one, *recent = *recent, one
	}
	s.putLong(&one)
}

func (s *Shard) putLong(t *longTally) {
	if s.put(&t.tally) {
		s.long = append(s.long, t.text)
	}
}

// Reset empties the shard and keeps its memory.
func (s *Shard) Reset() {
	numbers := s.numbers
	numbers.reset()
	*s = Shard{facts: facts{numbers: numbers}, tallies: s.tallies[:0], recentLong: s.recentLong, hashes: s.hashes[:0],
		shape: s.shape}
}

// Add takes in a text that stands in so many rows of the stretch. The same text may be
// added several times.
func (s *Shard) Add(cell *Cell, rows uint32) {
	n := int64(rows)
	if cell.Missing {
		s.missing += n
		if s.marks == nil {
			s.marks = map[string]int64{}
		}
		countIn(s.marks, cell.Text, n, math.MaxInt)
		return
	}
	if cell.Token.Plain() {
		s.addPlain(cell.Token, rows)
	} else {
		s.addOdd(cell, rows)
	}
	switch cell.Value.Kind {
	case table.Number:
		s.numbers.Add(cell.Value.Number, n)
		return
	case table.Date:
		s.addDay(cell.Value.When, n)
		return
	case table.Instant:
		s.dates.add(cell.Value.Day(), n)
		s.extend(cell.Value)
		return
	case table.Missing:
		s.mistyped += n
		if s.exceptions == nil {
			s.exceptions = map[string]int64{}
		}
		countIn(s.exceptions, cell.Text, n, exceptionsKept)
	case table.Boolean:
		s.extend(cell.Value)
	case table.Text:
		s.extendText(cell.Value)
	}
	countShape(s, cell.Text, n)
}

// AddNumber is Add for a text whose token is Plain and that is read as a number.
func (s *Shard) AddNumber(t table.Token, number table.Decimal, rows uint32) {
	s.addPlain(t, rows)
	s.numbers.Add(number, int64(rows))
}

// AddDate is Add for a text whose token is Plain and that is read as a date, given as days
// since 1970-01-01.
func (s *Shard) AddDate(t table.Token, day int64, rows uint32) {
	s.addPlain(t, rows)
	s.addDay(day, int64(rows))
}

func (s *Shard) addPlain(t table.Token, rows uint32) {
	s.tally(t, rows)
	s.filled += int64(rows)
	s.lengths |= 1 << (t.Len() % 16)
}

// addOdd is addPlain for any other text.
func (s *Shard) addOdd(cell *Cell, rows uint32) {
	if cell.Token.Inline() {
		s.tally(cell.Token, rows)
	} else {
		s.tallyLong(cell.Token, cell.Text, rows)
	}
	s.filled += int64(rows)
	s.length(utf8.RuneCountInString(cell.Text))
	s.spaces.add(spacesOf(cell.Text, int64(rows)))
}

func (s *Shard) addDay(day, rows int64) {
	s.dates.add(day, rows)
	if s.lowest.Kind != table.Date || day < s.lowest.When || day > s.highest.When {
		s.extend(table.DateValue(day))
	}
}

// AddNumbers is Add for short texts that stand in one row each and were read as
// coefficient x 10^-scale.
func (s *Shard) AddNumbers(tokens []table.Token, coefficients []int64, scales []uint8) {
	s.tallyEach(tokens)
	s.numbers.addEach(coefficients, scales)
}

// AddPlain is Add for texts whose tokens are Plain, that are their own values and stand in
// one row each.
func (s *Shard) AddPlain(tokens []table.Token) {
	s.tallyEach(tokens)
	for _, t := range tokens {
		if alike := t.DigitsAlike(); alike == s.lastAlike {
			s.lastShapeRows++
		} else {
			var text [16]byte
			countShape(s, t.Bytes(&text), 1)
			s.lastAlike = alike
		}
		if t.Before(s.plainLeast) || s.plainLeast.Len() == 0 {
			s.plainLeast = t
		}
		if s.plainMost.Before(t) {
			s.plainMost = t
		}
	}
}

// length takes in the length of a text in characters.
func (s *Shard) length(length int) {
	if s.shortest == 0 || length < s.shortest {
		s.shortest = length
	}
	s.longest = max(s.longest, length)
}

// extendText is extend for texts, which are only kept where they have to be.
func (s *Shard) extendText(v table.Value) {
	if s.lowest.Kind == table.Missing {
		s.lowest, s.highest = v, v
		return
	}
	if v.Text < s.lowest.Text {
		s.lowest = v
	} else if v.Text > s.highest.Text {
		s.highest = v
	}
}

// End is called when everything is added.
func (s *Shard) End() {
	s.flushShape()
	s.lastAlike = table.Token{}
	for i := range s.recent {
		s.put(&s.recent[i])
	}
	for i := range s.recentLong {
		s.putLong(&s.recentLong[i])
	}
	s.recent = [recentTallies]tally{}
	clear(s.recentLong)
	for lengths := s.lengths; lengths != 0; lengths &= lengths - 1 {
		s.length(bits.TrailingZeros16(lengths))
	}
	s.lengths = 0
	if s.plainLeast.Len() > 0 {
		var text [16]byte
		s.extendText(table.TextValue(string(s.plainLeast.Bytes(&text))))
		s.extendText(table.TextValue(string(s.plainMost.Bytes(&text))))
		s.plainLeast, s.plainMost = table.Token{}, table.Token{}
	}
}

func countShape[T string | []byte](s *Shard, text T, rows int64) {
	s.lastAlike = table.Token{}
	s.shape = appendShape(s.shape[:0], text)
	if string(s.shape) == s.lastShape {
		s.lastShapeRows += rows
		return
	}
	s.flushShape()
	s.lastShape, s.lastShapeRows = string(s.shape), rows
}

// flushShape counts the shape met last.
func (s *Shard) flushShape() {
	if s.lastShapeRows == 0 {
		return
	}
	if s.shapes == nil {
		s.shapes = map[string]int64{}
	}
	s.moreShapes = countIn(s.shapes, s.lastShape, s.lastShapeRows, shapesKept) || s.moreShapes
	s.lastShape, s.lastShapeRows = "", 0
}

// shapeLimit is the length in bytes at which a shape is cut.
const shapeLimit = 40

// classes are the letters that stand for ASCII characters in a shape.
var classes = func() (c [utf8.RuneSelf]byte) {
	for i := range c {
		switch b := byte(i); {
		case b >= '0' && b <= '9':
			c[i] = '9'
		case b >= 'A' && b <= 'Z':
			c[i] = 'A'
		case b >= 'a' && b <= 'z':
			c[i] = 'a'
		default:
			c[i] = b
		}
	}
	return c
}()

// appendShape writes the shape of a text: runs of digits, capital letters and other
// letters become 9, A and a; everything else stands for itself.
func appendShape[T string | []byte](shape []byte, text T) []byte {
	last := rune(0)
	for i := 0; i < len(text); {
		c, size := rune(0), 1
		if b := text[i]; b < utf8.RuneSelf {
			c = rune(classes[b])
		} else {
			c, size = utf8.DecodeRuneInString(string(text[i:min(i+utf8.UTFMax, len(text))]))
			c = classOf(c)
		}
		i += size
		if c == last && (c == '9' || c == 'A' || c == 'a') {
			continue
		}
		if len(shape) >= shapeLimit {
			return append(shape, "…"...)
		}
		if last = c; c < utf8.RuneSelf {
			shape = append(shape, byte(c))
		} else {
			shape = utf8.AppendRune(shape, c)
		}
	}
	return shape
}

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
	long := shard.long
	for tallies := shard.tallies; len(tallies) > 0; {
		some := tallies[:min(len(tallies), talliesAtOnce)]
		tallies = tallies[len(some):]
		s.counts.expect(some)
		for _, t := range some {
			text := ""
			if !t.token.Inline() {
				text, long = long[0], long[1:]
			}
			s.counts.add(t.token, text, int64(t.rows))
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

// Counted returns how many texts are being counted, which take some hundred bytes each.
func (s *Summary) Counted() int { return len(s.counts.rows) }

// Crowd makes room for the texts of other columns: from now on the number of different ones
// is estimated, and only the most frequent of them are counted.
func (s *Summary) Crowd() { s.counts.crowd() }

// Sum returns the exact sum of the column's numbers.
func (s *Summary) Sum() table.Decimal { return s.numbers.Sum() }

// Column returns the description of what was taken in. number reads a text as the
// column's number.
func (s *Summary) Column(number func(text string) (table.Decimal, bool)) Column {
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

// Package profile describes columns without any rulebook: what they hold, how often,
// from where to where. A Shard gathers one stretch of a column, a Summary the shards of
// a column in file order, so that the result depends on the bytes alone.
package profile

import (
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// Column is the description of one column.
type Column struct {
	Filled        int64            `json:"filled"`
	Missing       int64            `json:"missing"`
	MissingMarks  map[string]int64 `json:"missing_marks,omitempty"` // how often each text stands for missing; "" is the empty cell
	Distinct      int64            `json:"distinct"`
	DistinctError float64          `json:"distinct_error,omitempty"` // relative standard error where Distinct is estimated
	Mistyped      int64            `json:"mistyped,omitempty"`       // filled cells that are not of the column's type
	Exceptions    []Frequency      `json:"exceptions,omitempty"`     // the most frequent of them
	Lowest        string           `json:"lowest,omitempty"`         // of the values of the column's type
	Highest       string           `json:"highest,omitempty"`
	Sum           string           `json:"sum,omitempty"`  // exact
	Mean          string           `json:"mean,omitempty"` // to 16 significant digits or more
	Numbers       *Spread          `json:"numbers,omitempty"`
	Dates         *Calendar        `json:"dates,omitempty"`
	Spaces        Spaces           `json:"spaces"`
	Shortest      int              `json:"shortest"` // in characters, of the filled cells
	Longest       int              `json:"longest"`
	Shapes        []Frequency      `json:"shapes,omitempty"` // of texts: a run of digits as 9, of capital letters as A, of other letters as a
	MoreShapes    bool             `json:"more_shapes,omitempty"`
	Frequent      []Frequency      `json:"frequent"`
	Rare          []Frequency      `json:"rare,omitempty"`
	Values        []Frequency      `json:"values,omitempty"`   // every text with its rows, where there are more than Frequent holds and at most valuesListed
	AtLeast       bool             `json:"at_least,omitempty"` // the rows of Frequent are the least they can be, since not all texts are counted
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
	tallies []tally
	recent  [recentTallies]uint32 // places in tallies
	long    []string              // the texts of tallies whose tokens do not hold them
	shape   []byte
	// the least and the greatest text added as plain; empty where none was
	plainLeast, plainMost table.Token
	// the shape met last, and how many rows have not been counted under it yet
	lastShape     string
	lastShapeRows int64
}

// recentTallies is how many of the tallies made last are looked through for a text that
// comes again, in a column where most do not.
const recentTallies = 256

// tally counts a text.
func (s *Shard) tally(t table.Token, text string, rows uint32) {
	place := &s.recent[t.Mixed()>>56]
	if at := *place; int(at) < len(s.tallies) && s.tallies[at].token == t && t.Inline() {
		s.tallies[at].rows += rows
		return
	}
	*place = uint32(len(s.tallies))
	s.tallies = append(s.tallies, tally{t, rows})
	if !t.Inline() {
		s.long = append(s.long, text)
	}
}

type tally struct {
	token table.Token
	rows  uint32
}

// Reset empties the shard and keeps its memory.
func (s *Shard) Reset() {
	numbers := s.numbers
	numbers.reset()
	*s = Shard{facts: facts{numbers: numbers}, tallies: s.tallies[:0], shape: s.shape}
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
	s.tally(cell.Token, cell.Text, rows)
	length := len(cell.Text)
	if !cell.Token.Plain() {
		length = utf8.RuneCountInString(cell.Text)
		s.spaces.add(spacesOf(cell.Text, n))
	}
	s.length(length, n)
	switch cell.Value.Kind {
	case table.Number:
		s.numbers.Add(cell.Value.Number, n)
		return
	case table.Date, table.Instant:
		s.dates.add(cell.Value, n)
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

// AddNumber is Add for a short text that was read as coefficient x 10^-scale.
func (s *Shard) AddNumber(t table.Token, coefficient int64, scale int, rows uint32) {
	s.tally(t, "", rows)
	s.length(t.Len(), int64(rows))
	s.numbers.count += int64(rows)
	s.numbers.addWord(coefficient, scale, int64(rows))
}

// AddPlain is Add for a text whose token is Plain and that is its own value.
func (s *Shard) AddPlain(t table.Token, rows uint32) {
	s.tally(t, "", rows)
	s.length(t.Len(), int64(rows))
	if s.plainLeast.Len() == 0 {
		s.plainLeast, s.plainMost = t, t
	}
	if t.Before(s.plainLeast) {
		s.plainLeast = t
	} else if s.plainMost.Before(t) {
		s.plainMost = t
	}
	var text [16]byte
	countShape(s, t.Bytes(&text), int64(rows))
}

func (s *Shard) length(length int, rows int64) {
	if s.filled == 0 || length < s.shortest {
		s.shortest = length
	}
	s.longest = max(s.longest, length)
	s.filled += rows
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
	if s.plainLeast.Len() > 0 {
		var text [16]byte
		s.extendText(table.TextValue(string(s.plainLeast.Bytes(&text))))
		s.extendText(table.TextValue(string(s.plainMost.Bytes(&text))))
		s.plainLeast, s.plainMost = table.Token{}, table.Token{}
	}
}

func countShape[T string | []byte](s *Shard, text T, rows int64) {
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
	long := shard.long
	for _, t := range shard.tallies {
		text := ""
		if !t.token.Inline() {
			text, long = long[0], long[1:]
		}
		s.counts.add(t.token, text, int64(t.rows))
	}
}

// Sum returns the exact sum of the column's numbers.
func (s *Summary) Sum() table.Decimal { return s.numbers.Sum() }

// Column returns the description of what was taken in. number reads a text as the
// column's number.
func (s *Summary) Column(number func(text string) (table.Decimal, bool)) Column {
	c := Column{Filled: s.filled, Missing: s.missing, MissingMarks: s.marks, Mistyped: s.mistyped, Exceptions: top(s.exceptions, exceptionsShown),
		Spaces: s.spaces, Shortest: s.shortest, Longest: s.longest, Shapes: top(s.shapes, shapesShown), MoreShapes: s.moreShapes || len(s.shapes) > shapesShown,
		Lowest: s.lowest.Standard(), Highest: s.highest.Standard()}
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

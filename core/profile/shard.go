package profile

import (
	"math"
	"math/bits"
	"unicode/utf8"

	"proudsieve/core/table"
)

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
	tallies tallyLog
	recent  [recentTallies]tally // those not in tallies yet, by a part of their hash
	// recentLong are those of texts that their tokens do not hold; nil until there is one
	recentLong []longTally
	long       []uint32 // where the texts of tallies stand whose tokens do not hold them
	texts      arena
	// estimated is the hash from which on texts are of no use to the estimate of how many
	// there are, and hashes the ones below; 0 where all texts are counted.
	estimated uint64
	hashes    []uint64
	lengths   uint16 // of texts held by their tokens, a bit for each
	// the least and the greatest text added as a token that holds it; empty where none was
	shortLeast, shortMost table.Token
	anyInstant, anyText   bool
	// of the instants of fixed length, where there is any
	firstInstant, lastInstant int64
	leastText, mostText       []byte // of the other texts, where there is any
	shapeCounts
}

// tally counts a text.
type tally struct {
	token  table.Token
	rows   uint32
	missed uint32 // others that wanted its place in recent
}

// tallyLog has tallies in the order in which they came, in chunks of chunkSize, so that none is copied when there are more of them.
type tallyLog struct {
	chunks [][]tally
	used   int // chunks; those after them are empty
}

func (l *tallyLog) add(t *tally) {
	if l.used == 0 || len(l.chunks[l.used-1]) == chunkSize {
		if l.used == len(l.chunks) {
			l.chunks = append(l.chunks, nil)
		}
		l.used++
	}
	last := &l.chunks[l.used-1]
	if cap(*last) == 0 && l.used > 1 { // the first one grows, since a table may have thousands of columns
		*last = make([]tally, 0, chunkSize)
	}
	*last = append(*last, *t)
}

// reset empties the log and keeps its memory.
func (l *tallyLog) reset() {
	for i := range l.used {
		l.chunks[i] = l.chunks[i][:0]
	}
	l.used = 0
}

// keeps reports whether a recent text keeps its place when another one wants it.
func (t *tally) keeps(other uint32) bool {
	if t.rows > 1 && other == 1 && t.missed < t.rows*patience {
		t.missed++
		return true
	}
	return false
}

// longTally counts a text that its token does not hold. It is kept only if the tally is.
type longTally struct {
	tally
	kept bool
	at   uint32 // in texts
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
	s.tallies.add(t)
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
	if recent.token == t && (!recent.kept || s.texts.text(recent.at) == text) {
		if recent.rows += rows; !recent.kept {
			recent.kept, recent.at = true, s.texts.keep(text)
		}
		return
	}
	s.estimate(hashOf(t))
	one := longTally{tally: tally{token: t, rows: rows}}
	if rows > 1 || s.estimated == 0 { // otherwise it leaves nothing behind, unless it comes again
		one.kept, one.at = true, s.texts.keep(text)
	}
	if !recent.keeps(rows) {
		one, *recent = *recent, one
	}
	s.putLong(&one)
}

func (s *Shard) putLong(t *longTally) {
	if s.put(&t.tally) {
		s.long = append(s.long, t.at)
	}
}

// Reset empties the shard, which has ended, and keeps its memory.
func (s *Shard) Reset() {
	s.numbers.reset()
	s.shapeCounts.reset()
	s.texts.reset()
	s.tallies.reset()
	s.filled, s.missing, s.marks, s.mistyped, s.exceptions = 0, 0, nil, 0, nil
	s.spaces, s.shortest, s.longest, s.dates = Spaces{}, 0, 0, days{}
	s.lowest, s.highest, s.shapes, s.moreShapes = table.Value{}, table.Value{}, nil, false
	s.hashes, s.long, s.leastText, s.mostText = s.hashes[:0], s.long[:0], s.leastText[:0], s.mostText[:0]
	s.estimated = 0
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
	switch {
	case cell.Token.Plain():
		s.addPlain(cell.Token, rows)
	case cell.Value.Kind == table.Text && cell.Value.Text == cell.Text:
		s.addText(cell.Token, cell.Text, rows)
		return
	default:
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
		s.extendText(cell.Value.Text)
	}
	s.countShape(cell.Text, n)
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

// AddText is Add for a text that is its own value and stands in one row.
func (s *Shard) AddText(t table.Token, text string) { s.addText(t, text, 1) }

func (s *Shard) addText(t table.Token, text string, rows uint32) {
	s.tallyText(t, text, rows)
	s.filled += int64(rows)
	told := s.survey(text, int64(rows))
	s.length(int(told.length))
	if told.stray {
		s.spaces.add(spacesOf(text, int64(rows)))
	}
	s.extendText(text)
}

// AddShort is AddText for a text that its token holds.
func (s *Shard) AddShort(t table.Token) {
	s.tally(t, 1)
	s.filled++
	told := s.surveyShort(t)
	s.length(int(told.length))
	if told.stray {
		s.spaces.add(spacesOf(t.Text(""), 1))
	}
	s.extendShort(t)
}

// AddNumberText is Add for the text of a number, of ASCII characters without stray spaces, that stands in one row; the text is not
// looked at where its token holds it. The number itself is added by AddEachNumber.
func (s *Shard) AddNumberText(t table.Token, text string) {
	s.tallyText(t, text, 1)
	s.filled++
	if t.Inline() {
		s.length(t.Len())
	} else {
		s.length(len(text))
	}
}

// AddEachNumber adds numbers, coefficients x 10^-scales, whose texts are added by AddNumberText.
func (s *Shard) AddEachNumber(coefficients []int64, scales []uint8) {
	s.numbers.addEach(coefficients, scales)
}

// AddEmpty is Add for so many empty cells.
func (s *Shard) AddEmpty(cells int64) {
	s.missing += cells
	if s.marks == nil {
		s.marks = map[string]int64{}
	}
	s.marks[""] += cells
}

// tallyText counts a text in so many rows.
func (s *Shard) tallyText(t table.Token, text string, rows uint32) {
	if t.Inline() {
		s.tally(t, rows)
	} else {
		s.tallyLong(t, text, rows)
	}
}

// AddPlainDate is Add for a date in a text of so many ASCII characters, without stray spaces, that stands in one row; the
// text is not looked at where its token holds it.
func (s *Shard) AddPlainDate(t table.Token, text string, length int, day int64) {
	s.tallyText(t, text, 1)
	s.filled++
	s.length(length)
	s.addDay(day, 1)
}

// AddPlainInstant is AddPlainDate for a datetime, in microseconds since 1970-01-01.
func (s *Shard) AddPlainInstant(t table.Token, text string, length int, micros, day int64) {
	s.tallyText(t, text, 1)
	s.filled++
	s.length(length)
	s.dates.add(day, 1)
	switch {
	case !s.anyInstant:
		s.anyInstant, s.firstInstant, s.lastInstant = true, micros, micros
	case micros < s.firstInstant:
		s.firstInstant = micros
	case micros > s.lastInstant:
		s.lastInstant = micros
	}
}

func (s *Shard) addPlain(t table.Token, rows uint32) {
	s.tally(t, rows)
	s.filled += int64(rows)
	s.lengths |= 1 << (t.Len() % 16)
}

// addOdd is addPlain for any other text.
func (s *Shard) addOdd(cell *Cell, rows uint32) {
	s.tallyText(cell.Token, cell.Text, rows)
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
		s.surveyShort(t)
		s.extendShort(t)
	}
}

// extendShort is extend for a text that its token holds.
func (s *Shard) extendShort(t table.Token) {
	if t.Before(s.shortLeast) || s.shortLeast.Len() == 0 {
		s.shortLeast = t
	}
	if s.shortMost.Before(t) {
		s.shortMost = t
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
func (s *Shard) extendText(text string) {
	if !s.anyText {
		s.anyText = true
		s.leastText, s.mostText = append(s.leastText[:0], text...), append(s.mostText[:0], text...)
		return
	}
	if text < string(s.leastText) {
		s.leastText = append(s.leastText[:0], text...)
	} else if text > string(s.mostText) {
		s.mostText = append(s.mostText[:0], text...)
	}
}

// End is called when everything is added.
func (s *Shard) End() {
	s.moreShapes = s.shapeCounts.into(&s.shapes) || s.moreShapes
	for i := range s.recent {
		s.put(&s.recent[i])
	}
	for i := range s.recentLong {
		s.putLong(&s.recentLong[i])
	}
	clear(s.recent[:])
	clear(s.recentLong)
	for lengths := s.lengths; lengths != 0; lengths &= lengths - 1 {
		s.length(bits.TrailingZeros16(lengths))
	}
	s.lengths = 0
	if s.shortLeast.Len() > 0 {
		var text [16]byte
		s.extendText(string(s.shortLeast.Bytes(&text)))
		s.extendText(string(s.shortMost.Bytes(&text)))
		s.shortLeast, s.shortMost = table.Token{}, table.Token{}
	}
	if s.anyInstant {
		s.extend(table.InstantValue(s.firstInstant))
		s.extend(table.InstantValue(s.lastInstant))
		s.anyInstant = false
	}
	if s.anyText {
		s.extend(table.TextValue(string(s.leastText)))
		s.extend(table.TextValue(string(s.mostText)))
		s.anyText = false
	}
}

package audit

import (
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// stretch is what one worker makes of a stretch of the table.
type stretch struct {
	plan         *plan
	dictionaries []*table.Dictionary
	columns      []stretchColumn
	rows         int64
	setAside     int64
	closing      []string // records at the end that are no rows
	defects      []table.Defect
	defectsN     int64
	checkpoints  []delimited.Checkpoint
	found        []partial           // per check
	met          []map[string]bool   // per column, the codes met, where that is asked
	hashed       []table.HashedRows  // per key, then whole rows
	climbs       []climb             // per key
	rules        []rulebook.RowJudge // per rule on rows of the plan
	together     together
	masks        []uint64 // per row of a batch, the missing columns
	hashes       []table.Hash
	lacking      []bool
}

// partial is what a stretch says of a check.
type partial struct {
	rows      []uint32
	impact    []table.Decimal  // per measure
	texts     map[string]int64 // that offend, of a check of a single column
	undecided int64
}

// stretchColumn is what is known of each text of a column's dictionary, which outlives the
// stretch: a text that comes again in a later one need not be judged again.
type stretchColumn struct {
	missing     []bool
	looks       []rulebook.Looks // of an open column
	census      census
	broken      []uint16
	values      []table.Value
	identities  []table.Token // by which it takes part in keys
	rows        []uint32      // of this stretch that it stands in
	met         []uint32      // the texts of this stretch, in the order in which they came
	coded       bool          // whether its texts should be codes
	begun       uint64        // how often the texts were begun anew
	anyBroken   uint16
	anyMissing  bool
	missingRows []uint32
	ones        []uint32
	shard       profile.Shard
	*sweeping
	empty int64   // cells, that are not described yet
	alike []alike // of a swept column of texts; nil until it is swept
}

// sweeping is room for the cells that are judged in passing, which the columns of a stretch use one after the other: a table may have
// thousands of them.
type sweeping struct {
	swept        [sweptAtOnce]table.Token
	coefficients [sweptAtOnce]int64
	scales       [sweptAtOnce]uint8
	beside       numbersBeside
}

const (
	// textsKnown is how many texts, of all columns, are kept from one stretch to the next.
	textsKnown = 1 << 17
	// bytesKnown is how many bytes they may take.
	bytesKnown = 8 << 20
)

func newStretch(p *plan) *stretch {
	s := &stretch{plan: p, columns: make([]stretchColumn, len(p.names)), found: make([]partial, len(p.checks)),
		met:    make([]map[string]bool, len(p.names)),
		hashed: make([]table.HashedRows, len(p.keys)+1), climbs: make([]climb, len(p.keys))}
	for c := range p.names {
		d := table.NewDictionary()
		d.Sparing, d.Apart = true, p.apart[c]
		s.dictionaries = append(s.dictionaries, d)
	}
	memory := condition.NewMemory(len(p.rows))
	for _, at := range p.rows {
		s.rules = append(s.rules, p.checks[at].Rule.(rulebook.RowRule).Judge(memory))
	}
	room := &sweeping{}
	for c := range s.columns {
		s.columns[c].sweeping = room
		s.columns[c].begun, s.columns[c].coded = 1, p.judges[c].cells.Codes() != nil
	}
	s.reset()
	return s
}

// reset empties the state and keeps its memory.
func (s *stretch) reset() {
	s.closing = nil
	s.rows, s.setAside, s.defects, s.defectsN, s.checkpoints = 0, 0, nil, 0, nil
	texts, bytes := 0, 0
	for _, d := range s.dictionaries {
		texts += len(d.Tokens)
		bytes += d.Held()
	}
	for c := range s.columns {
		s.columns[c].leave()
		if d := s.dictionaries[c]; d.Apart || texts > textsKnown || bytes > bytesKnown {
			s.columns[c].forget()
			d.Reset()
			d.Apart = s.plan.apart[c]
		}
	}
	for at := range s.found {
		s.found[at] = partial{rows: s.found[at].rows[:0], impact: make([]table.Decimal, len(s.plan.measures))}
	}
	for c, asked := range s.plan.met {
		if asked {
			s.met[c] = map[string]bool{}
		}
	}
	s.together = together{}
}

// leave drops what concerns the stretch alone.
func (c *stretchColumn) leave() {
	for _, code := range c.met {
		c.rows[code] = 0
	}
	c.met = c.met[:0]
	c.census = c.census[:0]
	c.missingRows = c.missingRows[:0]
	c.shard.Reset()
}

// forget drops what is known of the texts.
func (c *stretchColumn) forget() {
	clear(c.values)
	c.looks = c.looks[:0]
	c.missing, c.broken, c.values, c.identities, c.rows, c.met = c.missing[:0], c.broken[:0], c.values[:0],
		c.identities[:0], c.rows[:0], c.met[:0]
	c.anyBroken, c.anyMissing = 0, false
	c.begun++
}

// judge judges a batch.
func (s *stretch) judge(b *table.Batch) error {
	if b.Len() > 0 {
		s.checkpoints = append(s.checkpoints, delimited.Checkpoint{Offset: b.Offset, Row: b.Rows[0], Line: b.Lines[0]})
	}
	s.rows += int64(b.Len())
	s.setAside += b.SetAside
	s.closing = append(s.closing, b.Closing...)
	s.defectsN += int64(len(b.Defects))
	if room := defectsKept - len(s.defects); room > 0 {
		s.defects = append(s.defects, b.Defects[:min(room, len(b.Defects))]...)
	}
	start := make([]int, len(s.found)) // of this batch's rows
	for at := range s.found {
		start[at] = len(s.found[at].rows)
	}
	for c := range b.Columns {
		s.judgeColumn(b, c)
	}
	for i, at := range s.plan.rows {
		if s.plan.checks[at].unjudged == "" {
			s.judgeRows(b, i)
		}
	}
	s.findTogether(b)
	s.hashKeys(b)
	text := func(c, i int) string { return s.dictionaries[c].Text(b.Columns[c].Codes[i]) }
	for at := range s.found {
		found := &s.found[at]
		if fresh := found.rows[start[at]:]; len(fresh) > 0 {
			for m, sum := range s.plan.sums(b, text, fresh) {
				found.impact[m] = found.impact[m].Add(sum)
			}
		}
	}
	for c, d := range s.dictionaries {
		switch column := &s.columns[c]; {
		case d.Apart:
			for code := 0; s.met[c] != nil && code < len(d.Tokens); code++ {
				s.occurs(c, uint32(code))
			}
			s.countTexts(c, column.ones[:len(d.Tokens)])
			column.forget()
		case s.mostlyNew(c):
			s.describe(c)
			column.forget()
			d.Reset()
			d.Apart = true
		}
	}
	return nil
}

// daysInCalendars is how many different dates a column can have and is still one that repeats itself.
const daysInCalendars = 1 << 15

// mostlyNew reports whether hardly any text of a column comes again. Empty cells say nothing of that.
func (s *stretch) mostlyNew(c int) bool {
	texts := len(s.columns[c].met)
	if s.plan.judges[c].cells.Type == table.TypeDate && texts < daysInCalendars {
		return false
	}
	return table.MostlyNew(texts, int(s.rows)-len(s.columns[c].missingRows), len(s.columns))
}

// end describes the columns, once all of their texts are counted.
func (s *stretch) end() error {
	for c := range s.columns {
		s.describe(c)
		s.columns[c].shard.End()
	}
	return nil
}

// judgeColumn judges the texts met first, and finds and counts the rows they all stand in.
func (s *stretch) judgeColumn(b *table.Batch, c int) {
	column, judge, d := &s.columns[c], s.plan.judges[c], s.dictionaries[c]
	codes := b.Columns[c].Codes
	if d.Apart {
		column.sweep(judge, s.plan, c, d)
	} else {
		known := len(column.missing)
		column.know(len(d.Texts), want{values: true, identities: s.plan.keyed[c], looks: judge.cells.Open})
		for code := known; code < len(d.Texts); code++ {
			column.meet(judge, d, code, d.Text(uint32(code)))
		}
		rows := column.rows
		for _, code := range codes {
			if rows[code]++; rows[code] == 1 {
				column.met = append(column.met, code)
			}
		}
	}
	if column.anyMissing {
		for i, code := range codes {
			if column.missing[code] {
				column.missingRows = append(column.missingRows, b.Rows[i])
			}
		}
	}
	estimated := s.estimatedIn(b, c)
	if column.anyBroken == 0 && estimated == nil {
		return
	}
	for _, one := range judge.checks {
		lacks := estimated != nil && judge.lacking&one.bit != 0
		if column.anyBroken&one.bit == 0 && !lacks {
			continue
		}
		rows := s.found[one.check].rows
		for i, code := range codes {
			if column.broken[code]&one.bit != 0 || lacks && estimated.Contains(b.Rows[i]) {
				rows = append(rows, b.Rows[i])
			}
		}
		s.found[one.check].rows = rows
	}
}

// estimatedIn returns the rows of a column that count as missing though they have an estimate; nil where the batch has none.
func (s *stretch) estimatedIn(b *table.Batch, c int) *table.RowSet {
	set := s.plan.lacking(c)
	if set == nil || b.Len() == 0 {
		return nil
	}
	it := set.Iterator()
	if it.AdvanceIfNeeded(b.Rows[0]); !it.HasNext() || it.PeekNext() > b.Rows[b.Len()-1] {
		return nil
	}
	return set
}

// want says what is asked of a column's texts.
type want struct{ values, identities, looks bool }

// know makes room for what is known of so many texts.
func (c *stretchColumn) know(texts int, a want) {
	known := len(c.missing)
	more := texts - known
	c.missing = slices.Grow(c.missing, more)[:texts]
	c.broken = slices.Grow(c.broken, more)[:texts]
	c.rows = slices.Grow(c.rows, more)[:texts]
	clear(c.missing[known:])
	clear(c.broken[known:])
	clear(c.rows[known:])
	if a.values {
		c.values = slices.Grow(c.values, more)[:texts]
	}
	if a.looks {
		c.looks = slices.Grow(c.looks, more)[:texts]
	}
	if a.identities {
		c.identities = slices.Grow(c.identities, more)[:texts]
	}
}

// meet judges a text.
func (c *stretchColumn) meet(j *judge, d *table.Dictionary, code int, text string) rulebook.Cell {
	cell, broken := j.judge(text)
	c.missing[code], c.broken[code] = cell.Missing, broken
	c.anyBroken |= broken
	c.anyMissing = c.anyMissing || cell.Missing
	if len(c.values) > code {
		c.values[code] = cell.Value
		if cell.Unknown { // that it is no code is the fault; a condition would report it once more
			c.values[code] = table.Value{}
		}
	}
	if len(c.looks) > code {
		c.looks[code] = looksOf(j.cells, cell, text)
	}
	if len(c.identities) > code {
		t := d.Tokens[code]
		if k := cell.Value.Kind; cell.Spelling || k != table.Missing && k != table.Text {
			if _, scale, ok := t.Number(); ok && k == table.Number && j.cells.PlainNumbers() {
				t = t.Shortest(scale)
			} else {
				t = table.TokenOf(cell.Identity(""))
			}
		}
		c.identities[code] = t
	}
	return cell
}

// describe adds a text to the column's profile, with the rows it stands in.
func (c *stretchColumn) describe(d *table.Dictionary, code int, text string, value *table.Value, missing bool, rows uint32) {
	one := profile.Cell{Token: d.Tokens[code], Text: text, Missing: missing, Value: *value}
	if c.coded && value.Kind == table.Missing && !missing {
		one.Value = table.TextValue(one.Text)
	}
	if len(d.Flawed) > 0 {
		one.Token = table.TokenOf(one.Text)
	}
	c.shard.Add(&one, rows)
}

// describe adds the texts that a column showed in this stretch to its profile; those of a
// column whose cells stand apart have been added already.
func (s *stretch) describe(c int) {
	column, d := &s.columns[c], s.dictionaries[c]
	if len(column.looks) > 0 {
		for _, code := range column.met {
			column.census.add(column.looks[code], int64(column.rows[code]))
		}
	}
	for _, code := range column.met {
		t, value, rows := d.Tokens[code], &column.values[code], column.rows[code]
		switch plain := t.Plain(); {
		case plain && value.Kind == table.Number:
			column.shard.AddNumber(t, value.Number, rows)
		case plain && value.Kind == table.Date:
			column.shard.AddDate(t, value.When, rows)
		default:
			column.describe(d, int(code), d.Text(code), value, column.missing[code], rows)
			s.occurs(c, code)
		}
	}
	s.countTexts(c, column.rows)
}

// occurs notes that a code occurs, where that is asked.
func (s *stretch) occurs(c int, code uint32) {
	column := &s.columns[c]
	if s.met[c] == nil || column.missing[code] {
		return
	}
	// Texts that are no code do not count, and would be without bound.
	if text := column.values[code].Text; s.plan.judges[c].cells.Codes().Find(text) != nil {
		s.met[c][text] = true
	}
}

// countTexts counts the offending texts of a column's checks, up to a cap; rows are those that each text stands in.
func (s *stretch) countTexts(c int, rows []uint32) {
	column, d := &s.columns[c], s.dictionaries[c]
	for _, one := range s.plan.judges[c].checks {
		if column.anyBroken&one.bit == 0 {
			continue
		}
		if s.found[one.check].texts == nil {
			s.found[one.check].texts = map[string]int64{}
		}
		counts := s.found[one.check].texts
		for code, broken := range column.broken {
			if broken&one.bit == 0 || rows[code] == 0 {
				continue
			}
			text := d.Text(uint32(code))
			if _, known := counts[text]; known || len(counts) < textsKept {
				counts[text] += int64(rows[code])
			}
		}
	}
}

// sums adds up the measures over some rows of the batch, which are ascending. text
// returns the text of column c in row i of the batch.
func (p *plan) sums(b *table.Batch, text func(c, i int) string, rows []uint32) []table.Decimal {
	sums := make([]table.Decimal, len(p.measures))
	if len(sums) == 0 {
		return sums
	}
	i := 0
	for _, row := range rows {
		for b.Rows[i] != row {
			i++
		}
		for m, c := range p.measures {
			if v := p.judges[c].cells.Read(text(c, i)).Value; v.Kind == table.Number {
				sums[m] = sums[m].Add(v.Number)
			}
		}
	}
	return sums
}

package audit

import (
	"cmp"
	"maps"
	"math/bits"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/intake"
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
	defects      []table.Defect
	defectsN     int64
	marks        []intake.Mark
	broken       [][]uint32 // per check, row numbers
	impact       [][]table.Decimal
	texts        []map[string]int64 // per check of a single column: the offending texts
	undecided    []int64            // per check
	occurring    []map[string]bool  // per column, the codes met, where that is asked
	hashed       []table.HashedRows // per key, then whole rows
	climbs       []climb            // per key
	rules        []evaluators       // per rule of the plan
	patterns     patterns
	masks        []uint64 // per row of a batch, the missing columns
	hashes       []table.Hash
	lacking      []bool
}

// stretchColumn is what is known of each text of a column's dictionary, which outlives the
// stretch: a text that comes again in a later one need not be judged again.
type stretchColumn struct {
	missing     []bool
	broken      []uint16
	values      []table.Value
	identities  []table.Token // by which it takes part in keys
	rows        []uint32      // of this stretch that it stands in
	met         []uint32      // the texts of this stretch, in the order in which they came
	begun       uint64        // how often the texts were begun anew
	anyBroken   uint16
	anyMissing  bool
	missingRows []uint32
	ones        []uint32
	shard       profile.Shard
	// what is read of the numbers and texts that are judged in passing
	swept        []table.Token
	coefficients []int64
	scales       []uint8
	// the text judged last with its digits alike, and what is wrong with it
	like       table.Token
	likeBroken uint16
}

// textsKnown is how many texts, of all columns, are kept from one stretch to the next.
const textsKnown = 1 << 17

func newStretch(p *plan) *stretch {
	s := &stretch{plan: p, columns: make([]stretchColumn, len(p.names)), broken: make([][]uint32, len(p.checks)), impact: make([][]table.Decimal, len(p.checks)),
		texts: make([]map[string]int64, len(p.checks)), hashed: make([]table.HashedRows, len(p.keys)+1), climbs: make([]climb, len(p.keys)),
		undecided: make([]int64, len(p.checks)), occurring: make([]map[string]bool, len(p.names))}
	for range p.names {
		d := table.NewDictionary()
		d.Sparing = true
		s.dictionaries = append(s.dictionaries, d)
	}
	for _, at := range p.rules {
		s.rules = append(s.rules, evaluatorsOf(p.checks[at].rule))
	}
	for c := range s.columns {
		s.columns[c].begun = 1
	}
	s.reset()
	return s
}

// reset empties the state and keeps its memory.
func (s *stretch) reset() {
	s.rows, s.setAside, s.defects, s.defectsN, s.marks = 0, 0, nil, 0, nil
	texts := 0
	for _, d := range s.dictionaries {
		texts += len(d.Tokens)
	}
	for c := range s.columns {
		s.columns[c].leave()
		if d := s.dictionaries[c]; d.Apart || texts > textsKnown {
			s.columns[c].forget()
			d.Reset()
		}
	}
	for at := range s.broken {
		s.broken[at] = s.broken[at][:0]
		s.impact[at] = make([]table.Decimal, len(s.plan.measures))
		s.texts[at] = nil
	}
	clear(s.undecided)
	for c, at := range s.plan.occurring {
		if at >= 0 {
			s.occurring[c] = map[string]bool{}
		}
	}
	s.patterns = patterns{}
}

// leave drops what concerns the stretch alone.
func (c *stretchColumn) leave() {
	for _, code := range c.met {
		c.rows[code] = 0
	}
	c.met = c.met[:0]
	c.missingRows = c.missingRows[:0]
	c.shard.Reset()
}

// forget drops what is known of the texts.
func (c *stretchColumn) forget() {
	clear(c.values)
	c.missing, c.broken, c.values, c.identities, c.rows, c.met = c.missing[:0], c.broken[:0], c.values[:0], c.identities[:0], c.rows[:0], c.met[:0]
	c.anyBroken, c.anyMissing = 0, false
	c.begun++
}

// judge judges a batch.
func (s *stretch) judge(b *table.Batch) error {
	if b.Len() > 0 {
		s.marks = append(s.marks, intake.Mark{Offset: b.Offset, Row: b.Rows[0], Line: b.Lines[0]})
	}
	s.rows += int64(b.Len())
	s.setAside += b.SetAside
	s.defectsN += int64(len(b.Defects))
	if room := defectsKept - len(s.defects); room > 0 {
		s.defects = append(s.defects, b.Defects[:min(room, len(b.Defects))]...)
	}
	start := make([]int, len(s.broken)) // of this batch's rows
	for at := range s.broken {
		start[at] = len(s.broken[at])
	}
	for c := range b.Columns {
		s.judgeColumn(b, c)
	}
	for i, at := range s.plan.rules {
		if s.plan.checks[at].unjudged == "" {
			s.judgeRule(b, at, s.rules[i])
		}
	}
	for i := range s.plan.parents {
		s.judgeParents(b, &s.plan.parents[i])
	}
	s.findPatterns(b)
	s.hashKeys(b)
	text := func(c, i int) string { return s.dictionaries[c].Text(b.Columns[c].Codes[i]) }
	for at, rows := range s.broken {
		if fresh := rows[start[at]:]; len(fresh) > 0 {
			for m, sum := range s.plan.sums(b, text, fresh) {
				s.impact[at][m] = s.impact[at][m].Add(sum)
			}
		}
	}
	for c, d := range s.dictionaries {
		switch column := &s.columns[c]; {
		case d.Apart:
			for code := 0; s.occurring[c] != nil && code < len(d.Tokens); code++ {
				s.occurs(c, uint32(code))
			}
			s.countTexts(c, column.ones[:len(d.Tokens)])
			column.forget()
		case table.MostlyNew(len(column.met), int(s.rows)):
			s.describe(c)
			column.forget()
			d.Reset()
			d.Apart = true
		}
	}
	return nil
}

// evaluators work out a rule's conditions; when is nil where it applies to every row.
type evaluators struct{ when, condition *condition.Evaluator }

func evaluatorsOf(rule *rulebook.Rule) evaluators {
	e := evaluators{condition: rule.Condition.Evaluator()}
	if rule.When != nil {
		e.when = rule.When.Evaluator()
	}
	return e
}

// judgeRule finds the rows for which a condition is false where it applies.
func (s *stretch) judgeRule(b *table.Batch, at int, e evaluators) {
	rows := batchRows{s: s, b: b}
	if e.when != nil {
		some := []int{}
		for i, truth := range e.when.Evaluate(&rows) {
			if truth == condition.True {
				some = append(some, i)
			}
		}
		rows.some, rows.codes = some, make([][]uint32, len(b.Columns))
	}
	e.condition.EachNotTrue(&rows, func(i int, truth condition.Truth) {
		if truth == condition.Unknown {
			s.undecided[at]++
			return
		}
		if rows.some != nil {
			i = rows.some[i]
		}
		s.broken[at] = append(s.broken[at], b.Rows[i])
	})
}

// judgeParents finds the rows where a code does not stand beside its parent.
func (s *stretch) judgeParents(b *table.Batch, p *parentCheck) {
	codes, parents := &s.columns[p.code], &s.columns[p.parent]
	wanted := make([]string, len(codes.values)) // the parent of each text that has one
	for i := range wanted {
		if c := p.codes.Find(codes.values[i].Text); c != nil {
			wanted[i] = c.Parent
		}
	}
	beside := b.Columns[p.parent].Codes
	for i, code := range b.Columns[p.code].Codes {
		if wanted[code] == "" {
			continue
		}
		if v := parents.values[beside[i]]; v.Kind != table.Missing && v.Standard() != wanted[code] {
			s.broken[p.check] = append(s.broken[p.check], b.Rows[i])
		}
	}
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
		column.know(len(d.Texts), true, s.plan.keyed[c])
		for code := known; code < len(d.Texts); code++ {
			column.meet(judge, d, code)
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
	if column.anyBroken == 0 {
		return
	}
	for _, one := range judge.checks {
		if column.anyBroken&one.bit == 0 {
			continue
		}
		for i, code := range codes {
			if column.broken[code]&one.bit != 0 {
				s.broken[one.check] = append(s.broken[one.check], b.Rows[i])
			}
		}
	}
}

// know makes room for what is known of so many texts.
func (c *stretchColumn) know(texts int, valued, keyed bool) {
	known := len(c.missing)
	more := texts - known
	c.missing = slices.Grow(c.missing, more)[:texts]
	c.broken = slices.Grow(c.broken, more)[:texts]
	c.rows = slices.Grow(c.rows, more)[:texts]
	clear(c.missing[known:])
	clear(c.broken[known:])
	clear(c.rows[known:])
	if valued {
		c.values = slices.Grow(c.values, more)[:texts]
	}
	if keyed {
		c.identities = slices.Grow(c.identities, more)[:texts]
	}
}

// meet judges a text.
func (c *stretchColumn) meet(j *judge, d *table.Dictionary, code int) rulebook.Cell {
	cell, broken := j.judge(d.Text(uint32(code)))
	c.missing[code], c.broken[code] = cell.Missing, broken
	c.anyBroken |= broken
	c.anyMissing = c.anyMissing || cell.Missing
	if len(c.values) > code {
		c.values[code] = cell.Value
	}
	if len(c.identities) > code {
		t := d.Tokens[code]
		if k := cell.Value.Kind; k != table.Missing && k != table.Text {
			if _, scale, ok := t.Number(); ok && k == table.Number && j.cells.PlainNumbers() {
				t = t.Shortest(scale)
			} else {
				t = table.TokenOf(cell.Value.Identity())
			}
		}
		c.identities[code] = t
	}
	return cell
}

// sweep judges and describes the cells of a column of nearly nothing but different texts,
// each of which has a code of its own. Only those that need a closer look are met one by one.
func (c *stretchColumn) sweep(j *judge, p *plan, at int, d *table.Dictionary) {
	n := len(d.Tokens)
	for len(c.ones) < n {
		c.ones = append(c.ones, 1)
	}
	c.know(n, p.valued[at], p.keyed[at])
	for first := 0; first < n; first += sweptAtOnce {
		last := min(first+sweptAtOnce, n)
		switch j.sweep {
		case sweepNumbers:
			c.sweepNumbers(j, p, at, d, first, last)
		case sweepTexts:
			c.sweepTexts(j, p, at, d, first, last)
		default:
			for code := first; code < last; code++ {
				c.look(j, d, code)
			}
		}
	}
}

// sweptAtOnce is how many cells are taken through all that is done to them, so that they
// are still in the processor's first cache.
const sweptAtOnce = 512

// look judges and describes a single cell.
func (c *stretchColumn) look(j *judge, d *table.Dictionary, code int) {
	cell := c.meet(j, d, code)
	c.describe(d, code, &cell.Value, cell.Missing, 1)
}

func (c *stretchColumn) sweepNumbers(j *judge, p *plan, at int, d *table.Dictionary, first, last int) {
	if c.coefficients == nil {
		c.swept, c.coefficients, c.scales = make([]table.Token, sweptAtOnce), make([]int64, sweptAtOnce), make([]uint8, sweptAtOnce)
	}
	tokens, coefficients, scales := d.Tokens[first:last], c.coefficients[:last-first], c.scales[:last-first]
	regular, mostPlaces := true, table.InlineLength
	if j.cells.Type == table.TypeInteger {
		mostPlaces = 0
	}
	for i, t := range tokens {
		coefficient, scale, ok := t.Number()
		coefficients[i], scales[i] = coefficient, uint8(scale)
		if !ok || scale > mostPlaces || j.cells.MayBeMissing(t) {
			scales[i], regular = irregular, false
		}
	}
	if j.bounded {
		for i, scale := range scales {
			if scale != irregular && j.outOfRange(coefficients[i], scale) {
				c.broken[first+i] = brokenRange
				c.anyBroken |= brokenRange
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
				identities[i] = t.Shortest(int(scales[i]))
			}
		}
	}
	if !regular {
		n := 0
		for i, t := range tokens {
			if scales[i] == irregular {
				c.look(j, d, first+i)
				continue
			}
			c.swept[n], coefficients[n], scales[n] = t, coefficients[i], scales[i]
			n++
		}
		tokens, coefficients, scales = c.swept[:n], coefficients[:n], scales[:n]
	}
	c.shard.AddNumbers(tokens, coefficients, scales)
}

// irregular stands for the scale of a cell that needs a closer look.
const irregular = 0xFF

func (c *stretchColumn) sweepTexts(j *judge, p *plan, at int, d *table.Dictionary, first, last int) {
	if c.swept == nil {
		c.swept = make([]table.Token, sweptAtOnce)
	}
	valued, keyed := p.valued[at], p.keyed[at]
	n := 0
	for code := first; code < last; code++ {
		t := d.Tokens[code]
		if !t.Plain() || j.cells.MayBeMissing(t) {
			c.look(j, d, code)
			continue
		}
		c.swept[n] = t
		n++
		if broken := c.ofPlainText(j, t); broken != 0 {
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

// ofPlainText judges a text, or remembers how one like it was judged.
func (c *stretchColumn) ofPlainText(j *judge, t table.Token) uint16 {
	if !j.digitsAlike {
		return j.ofPlainText(t)
	}
	if like := t.DigitsAlike(); like != c.like {
		c.like, c.likeBroken = like, j.ofPlainText(t)
	}
	return c.likeBroken
}

// describe adds a text to the column's profile, with the rows it stands in.
func (c *stretchColumn) describe(d *table.Dictionary, code int, value *table.Value, missing bool, rows uint32) {
	one := profile.Cell{Token: d.Tokens[code], Text: d.Text(uint32(code)), Missing: missing, Value: *value}
	if len(d.Flawed) > 0 {
		one.Token = table.TokenOf(one.Text)
	}
	c.shard.Add(&one, rows)
}

// describe adds the texts that a column showed in this stretch to its profile; those of a
// column whose cells stand apart have been added already.
func (s *stretch) describe(c int) {
	column, d := &s.columns[c], s.dictionaries[c]
	for _, code := range column.met {
		t, value, rows := d.Tokens[code], &column.values[code], column.rows[code]
		switch plain := t.Plain(); {
		case plain && value.Kind == table.Number:
			column.shard.AddNumber(t, value.Number, rows)
		case plain && value.Kind == table.Date:
			column.shard.AddDate(t, value.When, rows)
		default:
			column.describe(d, int(code), value, column.missing[code], rows)
			s.occurs(c, code)
		}
	}
	s.countTexts(c, column.rows)
}

// occurs notes that a code occurs, where that is asked.
func (s *stretch) occurs(c int, code uint32) {
	if column := &s.columns[c]; s.occurring[c] != nil && !column.missing[code] && column.broken[code]&brokenCodes == 0 {
		s.occurring[c][column.values[code].Text] = true
	}
}

// countTexts counts the offending texts of a column's checks, up to a cap; rows are those that each text stands in.
func (s *stretch) countTexts(c int, rows []uint32) {
	column, d := &s.columns[c], s.dictionaries[c]
	for _, one := range s.plan.judges[c].checks {
		if column.anyBroken&one.bit == 0 {
			continue
		}
		if s.texts[one.check] == nil {
			s.texts[one.check] = map[string]int64{}
		}
		counts := s.texts[one.check]
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

// batchRows gives conditions the typed values of a batch.
type batchRows struct {
	s     *stretch
	b     *table.Batch
	some  []int      // only these rows, by their index; nil for all
	codes [][]uint32 // of some, per column, once they were asked for
}

// Len implements condition.Rows.
func (r *batchRows) Len() int {
	if r.some != nil {
		return len(r.some)
	}
	return r.b.Len()
}

// Values implements condition.Rows.
func (r *batchRows) Values(column string) ([]table.Value, []uint32) {
	at := slices.Index(r.s.plan.names, column)
	codes := r.b.Columns[at].Codes
	if r.some != nil {
		if r.codes[at] == nil {
			r.codes[at] = make([]uint32, len(r.some))
			for k, i := range r.some {
				r.codes[at][k] = codes[i]
			}
		}
		codes = r.codes[at]
	}
	return r.s.columns[at].values, codes
}

// Begun implements condition.LastingRows.
func (r *batchRows) Begun(column string) uint64 {
	at := slices.Index(r.s.plan.names, column)
	if r.s.dictionaries[at].Apart {
		return 0
	}
	return r.s.columns[at].begun
}

// hashKeys hashes the keys of every row, and the rows. A row with a missing part of a
// key is compared with none.
func (s *stretch) hashKeys(b *table.Batch) {
	if cap(s.hashes) < b.Len() {
		s.hashes, s.lacking = make([]table.Hash, b.Len()*5/4), make([]bool, b.Len()*5/4)
	}
	hashes, lacking := s.hashes[:b.Len()], s.lacking[:b.Len()]
	for k := len(s.plan.keys) - 1; k >= 0; k-- { // the first one last, for equal rows
		check := s.plan.checks[s.plan.keys[k]]
		if check.unjudged != "" {
			continue
		}
		clear(lacking)
		for _, c := range check.at {
			if column := &s.columns[c]; column.anyMissing {
				for i, code := range b.Columns[c].Codes {
					lacking[i] = lacking[i] || column.missing[code]
				}
			}
		}
		if climb := &s.climbs[k]; !climb.over {
			c := check.at[0]
			if climb.take(s.columns[c].identities, b.Columns[c].Codes, b.Rows, lacking) {
				continue
			}
			climb.over = true
		}
		clear(hashes)
		for _, c := range check.at {
			identities := s.columns[c].identities
			for i, code := range b.Columns[c].Codes {
				hashes[i] = table.With(hashes[i], identities[code])
			}
		}
		for i, h := range hashes {
			if !lacking[i] {
				s.hashed[k].Add(h, b.Rows[i])
			}
		}
	}
	if s.plan.equalRows < 0 {
		return
	}
	// Equal rows share their key, so that where there is one only rows without it are hashed here.
	via := s.plan.equalVia
	if via < 0 {
		clear(lacking)
	} else if !slices.Contains(lacking, true) {
		return
	}
	clear(hashes)
	for c := range b.Columns {
		tokens := s.dictionaries[c].Tokens
		for i, code := range b.Columns[c].Codes {
			hashes[i] = table.With(hashes[i], tokens[code])
		}
	}
	for i, cells := range b.Surplus {
		hashes[i] = withTexts(hashes[i], cells)
	}
	last := len(s.hashed) - 1
	for i, h := range hashes {
		if via < 0 || lacking[i] {
			s.hashed[last].Add(h, b.Rows[i])
		}
	}
}

func withTexts(h table.Hash, texts []string) table.Hash {
	for _, text := range texts {
		h = table.With(h, table.TokenOf(text))
	}
	return h
}

// HashRow hashes all the cells of row i as they stand, those beyond the header's too.
func HashRow(b *table.Batch, i int) table.Hash {
	var h table.Hash
	for c := range b.Columns {
		h = table.With(h, table.TokenOf(b.Columns[c].At(i)))
	}
	return withTexts(h, b.Surplus[i])
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

// findPatterns counts which columns miss together.
func (s *stretch) findPatterns(b *table.Batch) {
	words := (len(b.Columns) + 63) / 64
	if cap(s.masks) < b.Len()*words {
		s.masks = make([]uint64, b.Len()*words*5/4)
	}
	masks := s.masks[:b.Len()*words]
	clear(masks)
	any := false
	for c := range b.Columns {
		column := &s.columns[c]
		if !column.anyMissing {
			continue
		}
		any = true
		at, bit := c/64, uint64(1)<<(c%64)
		for i, code := range b.Columns[c].Codes {
			if column.missing[code] {
				masks[i*words+at] |= bit
			}
		}
	}
	if !any {
		s.patterns.add(make([]uint64, words), int64(b.Len()))
		return
	}
	if words == 1 {
		s.patterns.addAll(masks)
		return
	}
	for i := 0; i < len(masks); i += words {
		s.patterns.add(masks[i:i+words], 1)
	}
}

// patterns counts the sets of columns that miss together, up to a cap.
type patterns struct {
	counts map[string]int64
	more   bool
	key    []byte
}

const (
	patternsKept  = 4096
	patternsShown = 40
)

func (p *patterns) add(mask []uint64, rows int64) {
	p.key = p.key[:0]
	for _, w := range mask {
		for w := w; ; w >>= 8 {
			p.key = append(p.key, byte(w))
			if len(p.key)%8 == 0 {
				break
			}
		}
	}
	p.count(string(p.key), rows)
}

// addAll adds one row for each mask of a single word, those of one kind together.
func (p *patterns) addAll(masks []uint64) {
	var met [64]struct {
		mask uint64
		rows int64
	}
	for _, mask := range masks {
		m := &met[mask*0x9E3779B97F4A7C15>>58]
		if m.mask != mask && m.rows > 0 {
			p.add([]uint64{m.mask}, m.rows)
			m.rows = 0
		}
		m.mask = mask
		m.rows++
	}
	for _, m := range met {
		if m.rows > 0 {
			p.add([]uint64{m.mask}, m.rows)
		}
	}
}

func (p *patterns) count(key string, rows int64) {
	if p.counts == nil {
		p.counts = map[string]int64{}
	}
	if _, known := p.counts[key]; !known && len(p.counts) >= patternsKept {
		p.more = true
		return
	}
	p.counts[key] += rows
}

func (p *patterns) merge(o *patterns) {
	p.more = p.more || o.more
	for _, key := range slices.Sorted(maps.Keys(o.counts)) {
		p.count(key, o.counts[key])
	}
}

func (p *patterns) result(names []string) (out []Pattern, more bool) {
	out = []Pattern{}
	for key, rows := range p.counts {
		one := Pattern{Missing: []string{}, Rows: rows}
		for at := range len(key) {
			for w := key[at]; w != 0; w &= w - 1 {
				one.Missing = append(one.Missing, names[at*8+bits.TrailingZeros8(w)])
			}
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Pattern) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), slices.Compare(a.Missing, b.Missing))
	})
	return out[:min(len(out), patternsShown)], p.more || len(out) > patternsShown
}

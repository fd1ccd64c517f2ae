package inplace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/engine"
)

// listedMost is how many different texts of a column, or combinations of several columns, are listed. Tests lower it.
var listedMost = profile.DistinctCap

// never is a condition that no row fulfils.
const never = "(1 = 0)"

// column is a column of the table, and how its cells are said in SQL.
type column struct {
	at     int
	name   string
	ref    string // as SQL names it
	nature nature
	cells  *rulebook.Cells
	text   string // SQL; null for none
	// listed are its different texts, where there are few; nil otherwise.
	listed []listed
	// direct says that the engine holds values of the column's type.
	direct bool
	odd    string // of a direct one: where a cell is no value of the type all the same; empty for never
	// missing and mistyped are conditions that are never null.
	missing, mistyped string
	value             said // null where there is none
	valueUnsaid       error
	// missingTexts are the texts that stand for nothing, of a column that is not listed.
	missingTexts map[string]int64
	nulls        int64
	shapes       []shape // of a column that is not listed, where they were asked for
	shapesUnsaid error
	shapesAsked  bool
}

// listed is a text of a column.
type listed struct {
	text string
	null bool
	rows int64
	cell rulebook.Cell
}

// shape is what texts have in common that differ in nothing but their digits.
type shape struct {
	text string // with a 9 for each digit
	rows int64
}

// same is what two cells share that have the same text, in the way that is the least work for an engine.
func (c *column) same() string {
	switch c.nature.kind {
	case integer, dated, moment, textual, boolean:
		return c.ref
	case exact:
		if c.nature.scale >= 0 {
			return c.ref
		}
	}
	return c.text
}

// filled is where a cell is not missing.
func (c *column) filled() string { return "(NOT " + c.missing + ")" }

// valued is where a cell has a value of its type.
func (c *column) valued() string {
	if c.mistyped == never {
		return c.filled()
	}
	return "(NOT " + c.missing + " AND NOT " + c.mistyped + ")"
}

func (j *judgement) newColumn(at int, e *engine.Column) *column {
	c := &column{at: at, name: e.Name, ref: j.name(e.Name), nature: j.natureOf(e), cells: j.outline.Cells(at)}
	c.text = j.dialect.text(c.ref, c.nature)
	c.missing, c.mistyped = never, never
	c.value, c.odd, c.direct = j.dialect.direct(c.ref, c.nature, c.cells.Type)
	return c
}

// samples is how many rows are looked at first for columns of nearly nothing but different texts.
const samples = 200_000

// manyAmong finds columns that have too many different texts to be listed, at a glance.
func (j *judgement) manyAmong(ctx context.Context) (many []bool, err error) {
	var counts []string
	for _, c := range j.columns {
		sql, _ := j.distinct(c.same())
		counts = append(counts, j.asText(cmp.Or(sql, "count(DISTINCT "+c.same()+")")))
	}
	answer, err := j.all(ctx, "which columns have many different texts, by the first rows", fmt.Sprintf("SELECT %s FROM (SELECT * FROM %s LIMIT %d) AS sample",
		strings.Join(counts, ", "), j.from, samples))
	if err != nil {
		return nil, err
	}
	for i := range j.columns {
		n, err := answer[0][i].count()
		if err != nil {
			return nil, err
		}
		many = append(many, n > int64(listedMost))
	}
	return many, nil
}

// read finds out how the cells of a column are read.
func (j *judgement) read(ctx context.Context, c *column, many bool) error {
	if !many {
		if err := j.list(ctx, c); err != nil || c.listed != nil {
			return err
		}
	}
	return j.readMany(ctx, c)
}

// list lists the texts of a column, unless there are too many.
func (j *judgement) list(ctx context.Context, c *column) error {
	answer, err := j.all(ctx, "the texts of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s GROUP BY %s LIMIT %d", c.text, j.asText("count(*)"), j.from, c.same(), listedMost+2))
	if err != nil {
		return err
	}
	if len(answer) > listedMost+1 {
		return nil
	}
	c.listed = []listed{}
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return err
		}
		c.listed = append(c.listed, listed{row[0].text, row[0].null, n, c.cells.Read(row[0].text)})
	}
	slices.SortFunc(c.listed, func(a, b listed) int { return strings.Compare(a.text, b.text) })
	c.missing = j.amongListed(c, func(l *listed) bool { return l.cell.Missing })
	c.mistyped = j.amongListed(c, func(l *listed) bool { return l.cell.Mistyped })
	j.valueOfListed(c)
	return nil
}

// amongListed is a condition that the text of a listed column is one of some.
func (j *judgement) amongListed(c *column, is func(l *listed) bool) string {
	var texts []string
	null := false
	for i := range c.listed {
		if l := &c.listed[i]; is(l) {
			if null = null || l.null; !l.null {
				texts = append(texts, l.text)
			}
		}
	}
	return j.amongTexts(c.text, texts, null)
}

func (j *judgement) amongTexts(text string, texts []string, null bool) string {
	slices.Sort(texts)
	switch {
	case len(texts) == 0 && !null:
		return never
	case len(texts) == 0:
		return j.isNull(text)
	case null:
		return "(" + j.isNull(text) + " OR " + j.among(text, texts) + ")"
	}
	if texts[0] != "" {
		return j.among(text, texts)
	}
	return "(NOT " + j.isNull(text) + " AND " + j.among(text, texts) + ")"
}

// valueOfListed says the values of a listed column.
func (j *judgement) valueOfListed(c *column) {
	kind := c.cells.Type.Kind()
	if !c.direct && kind != table.Text {
		var from []string
		var to []table.Value
		for i := range c.listed {
			if l := &c.listed[i]; l.cell.Value.Kind != table.Missing {
				from, to = append(from, l.text), append(to, l.cell.Value)
			}
		}
		c.value, c.valueUnsaid = j.mapped(c.text, from, to, kind)
		return
	}
	if !c.direct {
		c.value = said{sql: c.text, kind: table.Text}
	}
	nothing := j.amongListed(c, func(l *listed) bool { return l.cell.Value.Kind == table.Missing || l.cell.Unknown })
	var spelled []string
	var codes []table.Value
	for i := range c.listed {
		if l := &c.listed[i]; l.cell.Spelling && !l.cell.Unknown {
			spelled, codes = append(spelled, l.text), append(codes, l.cell.Value)
		}
	}
	var when []string
	var then []said
	if nothing != never {
		when, then = append(when, nothing), append(then, j.none(c.value))
	}
	if len(spelled) > 0 {
		code, err := j.mapped(c.text, spelled, codes, table.Text)
		if err != nil {
			c.valueUnsaid = err
			return
		}
		when, then = append(when, "(NOT "+j.isNull(code.sql)+")"), append(then, code)
	}
	j.guard(c, when, then)
}

// guard has a column stand for other values in some cases.
func (j *judgement) guard(c *column, when []string, then []said) {
	if c.value.sure = len(when) == 0; len(when) > 0 {
		scale := c.value.scale
		c.value, c.valueUnsaid = j.choose(when, append(then, c.value))
		if c.value.scale < scale {
			c.value.scale = scale
		}
	}
}

// spaceClass are the characters that a person would take for a space, or not see at all, as table.IsSpace has them.
const spaceClass = `[\t-\r \x{85}\x{A0}\x{AD}\x{1680}\x{2000}-\x{200A}\x{200B}-\x{200D}\x{2028}\x{2029}\x{202F}\x{205F}\x{2060}\x{3000}\x{FEFF}]`

// readMany finds out how the cells of a column are read that has too many texts to list them.
func (j *judgement) readMany(ctx context.Context, c *column) error {
	pattern := `\A` + spaceClass + `*`
	var marks []string
	for _, m := range c.cells.Marks() {
		var b strings.Builder
		for _, r := range m {
			if r == ' ' {
				b.WriteString(spaceClass + "+")
				continue
			}
			b.WriteString(quoteMeta(r))
		}
		marks = append(marks, b.String())
	}
	if len(marks) > 0 {
		pattern += "(?:" + strings.Join(marks, "|") + ")?"
	}
	matches, err := j.matches(c.text, pattern+spaceClass+`*\z`)
	if err != nil {
		return err
	}
	if c.direct && len(marks) == 0 {
		matches = never
	}
	answer, err := j.all(ctx, "the texts of "+c.name+" that stand for nothing", fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s OR %s GROUP BY %[1]s", c.text, j.asText("count(*)"), j.from,
		j.isNull(c.ref), matches))
	if err != nil {
		return err
	}
	c.missingTexts = map[string]int64{}
	var texts []string
	null := false
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return err
		}
		if row[0].null {
			null, c.nulls = true, n
			c.missingTexts[""] += n
		} else if c.cells.Read(row[0].text).Missing {
			texts = append(texts, row[0].text)
			c.missingTexts[row[0].text] += n
		}
	}
	c.missing = j.amongTexts(c.text, texts, null)
	switch {
	case c.direct:
		if c.odd != "" {
			c.mistyped = "(NOT " + c.missing + " AND " + j.certain("("+c.odd+")") + ")"
		}
	case c.cells.Type == table.TypeText:
		c.value = said{sql: c.text, kind: table.Text}
	case c.cells.Type.IsNumber():
		return j.readNumbers(ctx, c)
	default:
		c.valueUnsaid = unsaid("more than %d different texts, read as %s, ", listedMost, c.cells.Type)
		return nil
	}
	var when []string
	var then []said
	if c.missing != never {
		when, then = append(when, c.missing), append(then, j.none(c.value))
	}
	if c.mistyped != never {
		if err := j.countOdd(ctx, c); err != nil {
			return err
		}
		if c.mistyped != never {
			when, then = append(when, c.mistyped), append(then, j.none(c.value))
		}
	}
	j.guard(c, when, then)
	return nil
}

// readNumbers reads the texts of a column that is not listed as numbers. Whether a text is one is seen by its shape, except that it is whole.
func (j *judgement) readNumbers(ctx context.Context, c *column) error {
	if err := j.askShapes(ctx, c); err != nil {
		return err
	}
	if c.valueUnsaid = c.shapesUnsaid; c.valueUnsaid != nil {
		return nil
	}
	written, other := c.cells.Written()
	mark, group := ".", ""
	if other && written.DecimalMark != "" {
		mark = written.DecimalMark
	}
	if other {
		group = written.GroupingMark
	}
	decimal, mistyped := c.cells.AsDecimal(), []string{}
	scale, digits := 0, 0
	for _, s := range c.shapes {
		if decimal.Read(s.text).Mistyped {
			mistyped = append(mistyped, s.text)
			continue
		}
		plain := s.text
		if group != "" {
			plain = strings.ReplaceAll(plain, group, "")
		}
		whole, fraction, _ := strings.Cut(plain, mark)
		if strings.Trim(whole+fraction, "0123456789-+") != "" {
			c.valueUnsaid = unsaid("a number written as %s, in a column of more than %d different texts,", s.text, listedMost)
			return nil
		}
		scale, digits = max(scale, len(fraction)), max(digits, len(whole)+len(fraction))
	}
	if digits > 28 {
		c.valueUnsaid = unsaid("numbers of %d digits", digits)
		return nil
	}
	c.mistyped = j.amongTexts(j.digitsAlike(c.text), mistyped, false)
	if c.mistyped != never {
		c.mistyped = "(NOT " + c.missing + " AND " + c.mistyped + ")"
	}
	text := c.text
	if group != "" {
		text = j.replace(text, group, "")
	}
	if mark != "." {
		text = j.replace(text, mark, ".")
	}
	where := c.valued()
	if c.value, c.valueUnsaid = j.dialect.number(text, where, scale); c.valueUnsaid != nil || c.cells.Type != table.TypeInteger || scale == 0 {
		return nil
	}
	rounded, err := j.call(&condition.Step{Does: "FLOOR"}, []said{c.value})
	if err != nil {
		c.valueUnsaid = err
		return nil
	}
	whole, err := j.compare("=", rounded, c.value)
	if err != nil {
		return err
	}
	c.mistyped = "(" + c.mistyped + " OR (" + where + " AND NOT " + j.certain(whole) + "))"
	c.value, c.valueUnsaid = j.dialect.number(text, c.valued(), scale)
	return nil
}

// countOdd finds out whether there are cells that an engine can hold and that are no value of the type.
func (j *judgement) countOdd(ctx context.Context, c *column) error {
	answer, err := j.all(ctx, "whether "+c.name+" holds what is no "+string(c.cells.Type), "SELECT "+j.asText(j.countWhere(c.mistyped))+" FROM "+j.from)
	if err != nil {
		return err
	}
	n, err := answer[0][0].count()
	if n == 0 {
		c.mistyped = never
	}
	return err
}

// shapesKnown is up to how many shapes, seen in the first rows, are looked for by patterns, which is faster than to make the shape of each text.
const shapesKnown = 6

// askShapes asks for the shapes of a column that is not listed.
func (j *judgement) askShapes(ctx context.Context, c *column) error {
	if c.shapesAsked {
		return nil
	}
	c.shapesAsked = true
	alike := j.digitsAlike(c.text)
	where := c.filled()
	first, err := j.all(ctx, "the shapes of "+c.name+" in the first rows", fmt.Sprintf("SELECT %s, %s FROM (SELECT * FROM %s WHERE %s LIMIT %d) AS sample GROUP BY %[1]s LIMIT %[6]d", alike, j.asText("count(*)"), j.from, where, samples/4,
		shapesKnown+1))
	if err != nil {
		return err
	}
	if len(first) <= shapesKnown && j.rows > samples && j.fence() == "" {
		var which []string
		var then []said
		for i, row := range first {
			var pattern strings.Builder
			pattern.WriteString(`\A`)
			for _, r := range row[0].text {
				if r == '9' {
					pattern.WriteString("[0-9]")
				} else {
					pattern.WriteString(quoteMeta(r))
				}
			}
			is, err := j.matches(c.text, pattern.String()+`\z`)
			if err != nil {
				return err
			}
			which, then = append(which, j.certain(is)), append(then, said{sql: "'" + strconv.Itoa(i) + "'", kind: table.Text})
		}
		sorted, err := j.choose(which, append(then, said{sql: "'-'", kind: table.Text}))
		if err != nil {
			return err
		}
		answer, err := j.all(ctx, "how many texts of "+c.name+" have these shapes", fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %[1]s", sorted.sql, j.asText("count(*)"), j.from, where))
		if err != nil {
			return err
		}
		others := false
		for _, row := range answer {
			n, err := row[1].count()
			if err != nil {
				return err
			}
			if at, err := strconv.Atoi(row[0].text); err == nil && at >= 0 && at < len(first) {
				c.shapes = append(c.shapes, shape{first[at][0].text, n})
			} else {
				others = true
			}
		}
		if where = "(" + where + " AND NOT " + anyOf(which) + ")"; !others {
			return nil
		}
	}
	answer, err := j.all(ctx, "the shapes of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %[1]s LIMIT %[5]d", alike, j.asText("count(*)"), j.from, where, listedMost+1))
	if err != nil {
		return err
	}
	if len(answer) > listedMost {
		c.shapesUnsaid = fmt.Errorf("%s has more than %d shapes of texts", c.name, listedMost)
		return nil
	}
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return err
		}
		c.shapes = append(c.shapes, shape{row[0].text, n})
	}
	slices.SortFunc(c.shapes, func(a, b shape) int { return strings.Compare(a.text, b.text) })
	return nil
}

// breaks says which rows break a rule on the cells of a column; texts are those that do, as far as they are told. An error that is errUnsaid says that the
// engine cannot judge it.
func (j *judgement) breaks(ctx context.Context, c *column, rule rulebook.CellRule) (where string, texts map[string]int64, err error) {
	if c.listed != nil {
		texts = map[string]int64{}
		broken := func(l *listed) bool {
			state := rulebook.Valued
			switch {
			case l.cell.Missing:
				state = rulebook.Lacking
			case l.cell.Mistyped:
				state = rulebook.Mistyped
			}
			return rule.Speaks() == state && (state != rulebook.Valued || rule.Breaks(l.cell, l.text))
		}
		for i := range c.listed {
			if l := &c.listed[i]; broken(l) {
				texts[l.text] += l.rows
			}
		}
		return j.amongListed(c, broken), texts, nil
	}
	switch rule.Speaks() {
	case rulebook.Lacking:
		return c.missing, maps.Clone(c.missingTexts), nil
	case rulebook.Mistyped:
		if c.valueUnsaid != nil {
			return "", nil, c.valueUnsaid
		}
		texts, err = j.mostFrequent(ctx, c, c.mistyped)
		return c.mistyped, texts, err
	}
	if where, err = j.breaksMany(ctx, c, rule); err != nil {
		return "", nil, err
	}
	texts, err = j.mostFrequent(ctx, c, where)
	return where, texts, err
}

func (j *judgement) breaksMany(ctx context.Context, c *column, rule rulebook.CellRule) (string, error) {
	if alike, ok := rule.(interface{ DigitsAlike() bool }); ok && alike.DigitsAlike() {
		if err := j.askShapes(ctx, c); err != nil {
			return "", err
		}
		if c.shapesUnsaid == nil {
			var broken []string
			for _, s := range c.shapes {
				if cell := c.cells.Read(s.text); !cell.Missing && !cell.Mistyped && rule.Breaks(cell, s.text) {
					broken = append(broken, s.text)
				}
			}
			where := j.amongTexts(j.digitsAlike(c.text), broken, false)
			if where != never {
				where = "(" + c.valued() + " AND " + where + ")"
			}
			return where, nil
		}
	}
	if tells, ok := rule.(rulebook.TellsBroken); ok && tells.BrokenWhere() != "" {
		told, mistakes := condition.Compile(tells.BrokenWhere(), map[string]table.Type{c.name: c.cells.Type})
		if len(mistakes) > 0 {
			return "", errors.Join(mistakes...)
		}
		where, err := j.holds(told)
		return j.certainly(where), err
	}
	if matching, ok := rule.(interface{ MatchingPattern() string }); ok {
		where, err := j.matches(c.text, matching.MatchingPattern())
		return "(" + c.valued() + " AND NOT " + j.certain(where) + ")", err
	}
	return "", unsaid("a rule on more than %d different texts", listedMost)
}

// mostFrequent returns the most frequent texts that fulfil a condition.
func (j *judgement) mostFrequent(ctx context.Context, c *column, where string) (map[string]int64, error) {
	if where == never {
		return nil, nil
	}
	answer, err := j.all(ctx, "the most frequent texts of "+c.name+" that break a rule", fmt.Sprintf("SELECT sieve_t, %s FROM (SELECT %s AS sieve_t, count(*) AS sieve_n FROM %s WHERE %s GROUP BY %[2]s ORDER BY sieve_n DESC, %[5]s LIMIT %[6]d) AS most",
		j.asText("sieve_n"), c.text, j.from, where, j.sorted(said{sql: c.text, kind: table.Text}).sql, profile.FrequentShown))
	if err != nil {
		return nil, err
	}
	texts := map[string]int64{}
	for _, row := range answer {
		if texts[row[0].text], err = row[1].count(); err != nil {
			return nil, err
		}
	}
	return texts, nil
}

// hashBuckets is how many buckets the texts of a column are counted in, to find those that are frequent.
const hashBuckets = 1 << 16

// frequent finds the texts that stand in so many rows that they are shown.
func (j *judgement) frequent(ctx context.Context, c *column, filled int64) (found []profile.Frequency, err error) {
	least := profile.Outstanding(filled)
	spread := j.spread(c, hashBuckets)
	answer, err := j.all(ctx, "where frequent texts of "+c.name+" may be", fmt.Sprintf("SELECT %s FROM %s WHERE %s GROUP BY %s HAVING count(*) >= %d", j.asText(spread), j.from, c.filled(), spread, least))
	if found = []profile.Frequency{}; err != nil || len(answer) == 0 {
		return found, err
	}
	var buckets []string
	for _, row := range answer {
		if _, err := row[0].count(); err != nil {
			return nil, err
		}
		buckets = append(buckets, row[0].text)
	}
	slices.Sort(buckets)
	answer, err = j.all(ctx, "the frequent texts of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s AND %s IN (%s) GROUP BY %s HAVING count(*) >= %d", c.text, j.asText("count(*)"), j.from, c.filled(),
		spread, strings.Join(buckets, ", "), c.same(), least))
	if err != nil {
		return nil, err
	}
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return nil, err
		}
		found = append(found, profile.Frequency{Text: row[0].text, Rows: n})
	}
	return found, nil
}

// describe says what the column holds.
func (j *judgement) describe(ctx context.Context, c *column) (s profile.Summary, err error) {
	if c.listed != nil {
		s.List(func(each func(cell *profile.Cell, rows int64)) {
			for i := range c.listed {
				l := &c.listed[i]
				each(&profile.Cell{Token: table.TokenOf(l.text), Text: l.text, Missing: l.cell.Missing, Value: l.cell.Value}, l.rows)
			}
		})
		return s, nil
	}
	told := &profile.Told{Marks: c.missingTexts, Shapes: map[string]int64{}}
	for _, n := range c.missingTexts {
		told.Missing += n
	}
	told.Filled = j.rows - told.Missing
	numeric := c.value.kind == table.Number && c.valueUnsaid == nil
	if err := j.describeLengths(ctx, c, told); err != nil {
		return s, err
	}
	if told.Frequent, err = j.frequent(ctx, c, told.Filled); err != nil {
		return s, err
	}
	switch {
	case numeric:
		if err = j.describeNumbers(ctx, c, told); err == nil && !c.direct {
			for _, s := range c.shapes {
				told.Spaces.Plus(profile.SpacesOf(s.text, s.rows))
			}
		}
	case c.direct:
		err = j.describeMoments(ctx, c, told)
	default:
		err = j.describeTexts(ctx, c, told)
	}
	if err == nil && c.mistyped != never {
		err = j.describeExceptions(ctx, c, told)
	}
	s.Tell(told)
	return s, err
}

// describeLengths counts the different texts, and how long they are.
func (j *judgement) describeLengths(ctx context.Context, c *column, told *profile.Told) error {
	length := said{sql: j.length(c.text), kind: table.Number}
	sql, relative := j.distinct(c.same())
	if sql == "" {
		sql = fmt.Sprintf("(SELECT count(*) FROM (SELECT 1 FROM %s WHERE %s GROUP BY %s) AS d)", j.from, c.filled(), c.same())
	}
	answer, err := j.all(ctx, "how many different texts "+c.name+" has and how long they are", fmt.Sprintf("SELECT %s, %s, %s FROM %s WHERE %s", j.asText(sql), j.asText(j.lowest(length, "1 = 1")),
		j.asText(j.highest(length, "1 = 1")), j.from, c.filled()))
	if err != nil {
		return err
	}
	shortest, err1 := answer[0][1].count()
	longest, err2 := answer[0][2].count()
	told.Distinct, err = answer[0][0].count()
	told.Shortest, told.Longest, told.DistinctError = int(shortest), int(longest), relative
	return errors.Join(err, err1, err2)
}

// describeNumbers asks for each bucket of the numbers what its numbers come to, all in one question. Powers are of the distances from one of the numbers:
// those from zero would lose everything where numbers are large and lie close together.
func (j *judgement) describeNumbers(ctx context.Context, c *column, told *profile.Told) error {
	v, valued := c.value, c.valued()
	answer, err := j.all(ctx, "one of the numbers of "+c.name, fmt.Sprintf("SELECT %s FROM %s WHERE %s LIMIT 1", j.asText(j.double(v)), j.from, valued))
	if err != nil || len(answer) == 0 {
		return err
	}
	from, err := answer[0][0].float()
	if err != nil {
		return err
	}
	n := &profile.ToldNumbers{Buckets: map[uint32]int64{}, Deviation: math.NaN(), Skewness: math.NaN()}
	as := func(name string) said {
		named := v
		named.sql = name
		return named
	}
	fractions := "0"
	if c.nature.kind != integer && c.cells.Type != table.TypeInteger {
		fractions = j.countWhere("floor(sieve_d) <> sieve_d")
	}
	inner := fmt.Sprintf("SELECT %s AS sieve_b, %s AS sieve_v, %s AS sieve_d FROM %s WHERE %s%s", j.bucket(said{sql: "sieve_d0", kind: table.Number, float: true}), "sieve_v0", "sieve_d0", "(SELECT "+v.sql+" AS sieve_v0, "+j.double(v)+" AS sieve_d0 FROM "+j.from+" WHERE "+valued+j.fence()+") AS doubled", "1 = 1", j.fence())
	grouped := fmt.Sprintf("SELECT sieve_b, count(*) AS sieve_n, %s AS sieve_s, %s AS sieve_low, %s AS sieve_high, sum(sieve_d - (%[4]s)) AS sieve_m1, sum((sieve_d - (%[4]s)) * (sieve_d - (%[4]s))) AS sieve_m2, sum((sieve_d - (%[4]s)) * (sieve_d - (%[4]s)) * (sieve_d - (%[4]s))) AS sieve_m3, %[5]s AS sieve_f FROM (%[6]s) AS numbers GROUP BY sieve_b",
		j.sumWhere(as("sieve_v"), "1 = 1"), j.lowest(as("sieve_v"), "1 = 1"), j.highest(as("sieve_v"), "1 = 1"), strconv.FormatFloat(from, 'g', 17, 64), fractions, inner)
	var m1, m2, m3 float64
	if err := j.each(ctx, "how the numbers of "+c.name+" lie", fmt.Sprintf("SELECT %s FROM (%s) AS buckets", j.asTexts("sieve_b", "sieve_n", "sieve_s", "sieve_low", "sieve_high", "sieve_m1", "sieve_m2", "sieve_m3", "sieve_f"), grouped), func(row []cell) error {
		var errs [9]error
		var at, rows, fractions int64
		var sum, low, high table.Decimal
		var a, b, c float64
		at, errs[0] = row[0].count()
		rows, errs[1] = row[1].count()
		sum, errs[2] = row[2].number()
		low, errs[3] = row[3].number()
		high, errs[4] = row[4].number()
		a, errs[5] = row[5].float()
		b, errs[6] = row[6].float()
		c, errs[7] = row[7].float()
		fractions, errs[8] = row[8].count()
		if n.Count == 0 || low.Cmp(n.Lowest) < 0 {
			n.Lowest = low
		}
		if n.Count == 0 || high.Cmp(n.Highest) > 0 {
			n.Highest = high
		}
		n.Buckets[uint32(at)] += rows
		n.Count, n.Sum, n.Fractions = n.Count+rows, n.Sum.Add(sum), n.Fractions || fractions > 0
		m1, m2, m3 = m1+a, m2+b, m3+c
		return errors.Join(errs[:]...)
	}); err != nil {
		return err
	}
	if !c.direct {
		if err := errors.Join(j.asWritten(ctx, c, &n.Lowest), j.asWritten(ctx, c, &n.Highest)); err != nil {
			return err
		}
	}
	if v.float {
		j.note("%s holds binary fractions: its sum is one of double precision, and not exact.", c.name)
	}
	count := float64(n.Count)
	mean := m1 / count
	second, third := m2-mean*m1, m3/count-3*mean*m2/count+2*mean*mean*mean
	if n.Count > 1 {
		n.Deviation = math.Sqrt(max(second, 0) / (count - 1))
	}
	if n.Count > 2 && second > 0 {
		n.Skewness = third / math.Pow(second/count, 1.5)
	}
	told.Numbers = n
	return nil
}

// asTexts lists columns of a question within, each as a text.
func (j *judgement) asTexts(names ...string) string {
	var texts []string
	for _, name := range names {
		texts = append(texts, j.asText(name))
	}
	return strings.Join(texts, ", ")
}

// asWritten finds the shortest way in which a number is written.
func (j *judgement) asWritten(ctx context.Context, c *column, n *table.Decimal) error {
	literal, err := j.literal(table.NumberValue(*n))
	if err != nil {
		return err
	}
	is, err := j.compare("=", c.value, literal)
	if err != nil {
		return err
	}
	answer, err := j.all(ctx, "how an extreme of "+c.name+" is written", fmt.Sprintf("SELECT min(%s) FROM %s WHERE %s AND %s = (SELECT min(%[4]s) FROM %[2]s WHERE %[3]s)", c.text, j.from, j.certain(is), j.length(c.text)))
	if err == nil {
		if v := c.cells.Read(answer[0][0].text).Value; v.Kind == table.Number {
			*n = v.Number
		}
	}
	return err
}

func (j *judgement) describeMoments(ctx context.Context, c *column, told *profile.Told) error {
	told.Days = map[int64]int64{}
	day := j.day(c.value)
	if err := j.each(ctx, "the days of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %s", j.asText(day), j.asText("count(*)"), j.from, c.valued(), day), func(row []cell) error {
		at, err := row[0].count()
		n, err1 := row[1].count()
		told.Days[at] += n
		return errors.Join(err, err1)
	}); err != nil {
		return err
	}
	for _, end := range []struct {
		value *table.Value
		order string
	}{{&told.Lowest, "ASC"}, {&told.Highest, "DESC"}} {
		answer, err := j.all(ctx, "the first and the last of "+c.name, fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s %s LIMIT 1", c.text, j.from, c.valued(), c.ref, end.order))
		if err != nil {
			return err
		}
		if len(answer) > 0 {
			*end.value = c.cells.Read(answer[0][0].text).Value
		}
	}
	return nil
}

func (j *judgement) describeTexts(ctx context.Context, c *column, told *profile.Told) error {
	if err := j.askShapes(ctx, c); err != nil {
		return err
	}
	if c.shapesUnsaid != nil {
		j.note("The shapes and stray spaces of %s are not told: %v.", c.name, c.shapesUnsaid)
		told.MoreShapes = true
	}
	for _, s := range c.shapes {
		told.Shapes[profile.ShapeOf(s.text)] += s.rows
		told.Spaces.Plus(profile.SpacesOf(s.text, s.rows))
	}
	text := said{sql: c.text, kind: table.Text}
	answer, err := j.all(ctx, "the first and the last text of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s", j.lowest(j.sorted(text), "1 = 1"), j.highest(j.sorted(text), "1 = 1"), j.from, c.filled()))
	if err != nil {
		return err
	}
	if told.Filled > 0 {
		told.Lowest, told.Highest = table.TextValue(answer[0][0].text), table.TextValue(answer[0][1].text)
	}
	return nil
}

// sorted has a text ordered by its bytes.
func (j *judgement) sorted(v said) said {
	if p, ok := j.dialect.(postgresql); ok {
		v.sql = p.bytewise(v)
	}
	return v
}

// describeExceptions counts what is no value of the column's type.
func (j *judgement) describeExceptions(ctx context.Context, c *column, told *profile.Told) (err error) {
	alike := j.digitsAlike(c.text)
	if err := j.each(ctx, "what of "+c.name+" is no "+string(c.cells.Type), fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %[1]s", alike, j.asText("count(*)"), j.from, c.mistyped), func(row []cell) error {
		n, err := row[1].count()
		told.Mistyped += n
		told.Shapes[profile.ShapeOf(row[0].text)] += n
		return err
	}); err != nil {
		return err
	}
	told.Exceptions, err = j.mostFrequent(ctx, c, c.mistyped)
	return err
}

package inplace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
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
	shapes       []shape // of a column that is not listed, where they were asked for
	shapesUnsaid error
	shapesAsked  bool
	others       string // where a text has another shape than those that are known
	unique       bool   // no two of its cells are alike
	// lowest and highest are of the values of a column that is not listed, as soon as they were asked for; missing where they are not known exactly.
	lowest, highest table.Value
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
	c := &column{name: e.Name, ref: j.name(e.Name), nature: j.natureOf(e), cells: j.outline.Cells(at)}
	c.text = j.dialect.text(c.ref, c.nature)
	c.missing, c.mistyped = never, never
	c.value, c.odd, c.direct = j.dialect.direct(c.ref, c.nature, c.cells.Type)
	return c
}

// samples is how many rows are looked at first for columns of nearly nothing but different texts. Tests lower it.
var samples int64 = 200_000

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

// amongTexts is where a text is one of some, or null.
func (t *translator) amongTexts(text string, texts []string, null bool) string {
	slices.Sort(texts)
	switch {
	case len(texts) == 0 && !null:
		return never
	case len(texts) == 0:
		return t.isNull(text)
	case null:
		return "(" + t.isNull(text) + " OR " + t.among(text, texts) + ")"
	}
	if texts[0] != "" {
		return t.among(text, texts)
	}
	return "(NOT " + t.isNull(text) + " AND " + t.among(text, texts) + ")"
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
	if c.value.sure = len(when) == 0; len(when) == 1 && when[0] == j.isNull(c.text) {
		return // it is null there by itself
	}
	if len(when) > 0 {
		scale := c.value.scale
		c.value, c.valueUnsaid = j.choose(when, append(then, c.value))
		if c.value.scale < scale {
			c.value.scale = scale
		}
	}
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
		j.asText("sieve_n"), c.text, j.from, where, j.sorted(c.text), profile.FrequentShown))
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

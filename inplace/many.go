package inplace

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/table"
)

// spaceClass are the characters that a person would take for a space, or not see at all, as table.IsSpace has them.
const spaceClass = `[\t-\r \x{85}\x{A0}\x{AD}\x{1680}\x{2000}-\x{200A}\x{200B}-\x{200D}\x{2028}\x{2029}\x{202F}\x{205F}\x{2060}\x{3000}\x{FEFF}]`

// nothingPattern is one of texts that may stand for nothing: marks for that, between spaces; digits may stand for all others that are in their place.
func nothingPattern(marks []string, anyDigit bool) string {
	var patterns []string
	for _, m := range marks {
		var b strings.Builder
		for _, r := range m {
			switch {
			case r == ' ':
				b.WriteString(spaceClass + "+")
			case anyDigit && '0' <= r && r <= '9':
				b.WriteString("[0-9]")
			default:
				b.WriteString(regexp.QuoteMeta(string(r)))
			}
		}
		patterns = append(patterns, b.String())
	}
	among := ""
	if len(patterns) > 0 {
		among = "(?:" + strings.Join(patterns, "|") + ")?"
	}
	return `\A` + spaceClass + `*` + among + spaceClass + `*\z`
}

// readMany finds out how the cells of a column are read that has too many texts to list them.
func (j *judgement) readMany(ctx context.Context, c *column) error {
	matches, err := j.matches(c.text, nothingPattern(c.cells.Marks(), false))
	if err != nil {
		return err
	}
	if c.direct && len(c.cells.Marks()) == 0 {
		matches = never
	}
	c.missingTexts = map[string]int64{}
	if !c.direct && (c.cells.Type == table.TypeText || c.cells.Type.IsNumber()) {
		if err := j.knownShapes(ctx, c); err != nil {
			return err
		}
	}
	if len(c.shapes) > 0 && c.others == never || c.nature.sure && matches == never {
		return j.readFilled(ctx, c)
	}
	answer, err := j.all(ctx, "the texts of "+c.name+" that stand for nothing", fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s OR %s GROUP BY %[1]s", c.text, j.asText("count(*)"), j.from,
		j.isNull(c.ref), matches))
	if err != nil {
		return err
	}
	var texts []string
	null := false
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return err
		}
		if row[0].null {
			null = true
			c.missingTexts[""] += n
		} else if c.cells.Read(row[0].text).Missing {
			texts = append(texts, row[0].text)
			c.missingTexts[row[0].text] += n
		}
	}
	c.missing = j.amongTexts(c.text, texts, null)
	return j.readFilled(ctx, c)
}

// readFilled finds out how the cells that are not missing are read, of a column that has too many texts to list them.
func (j *judgement) readFilled(ctx context.Context, c *column) error {
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
	scale, digits, most := 0, 0, 0
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
		scale, digits, most = max(scale, len(fraction)), max(digits, len(whole)+len(fraction)), max(most, len(strings.TrimLeft(whole, "-+")))
	}
	if digits > 28 || most > 21 { // see garbled
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

// knownShapes counts the texts of those shapes that are seen in the first rows. None of them is missing: shapes that texts may have which stand for nothing
// are left to askShapes.
func (j *judgement) knownShapes(ctx context.Context, c *column) error {
	c.others = always
	if j.rows <= samples || !j.matchesFast() {
		return nil
	}
	none, err := regexp.Compile(nothingPattern(c.cells.Marks(), true))
	if err != nil {
		return err
	}
	first, err := j.all(ctx, "the shapes of "+c.name+" in the first rows", fmt.Sprintf("SELECT %s, %s FROM (SELECT %s FROM %s LIMIT %d) AS sample GROUP BY %[1]s LIMIT %[6]d", j.digitsAlike(c.text), j.asText("count(*)"), c.ref, j.from, samples/20,
		shapesKnown+2))
	if err != nil {
		return err
	}
	first = slices.DeleteFunc(first, func(row []cell) bool { return row[0].null || none.MatchString(row[0].text) })
	if len(first) == 0 || len(first) > shapesKnown {
		return nil
	}
	var which, counts []string
	for _, row := range first {
		var pattern strings.Builder
		pattern.WriteString(`\A`)
		for _, r := range row[0].text {
			if r == '9' {
				pattern.WriteString("[0-9]")
			} else {
				pattern.WriteString(regexp.QuoteMeta(string(r)))
			}
		}
		is, err := j.matches(c.text, pattern.String()+`\z`)
		if err != nil {
			return err
		}
		which = append(which, j.certain(is))
		counts = append(counts, j.asText(j.countWhere(which[len(which)-1])))
	}
	answer, err := j.all(ctx, "how many texts of "+c.name+" have these shapes", "SELECT "+strings.Join(counts, ", ")+" FROM "+j.from)
	if err != nil {
		return err
	}
	others := j.rows
	for i, row := range first {
		n, err := answer[0][i].count()
		if err != nil {
			return err
		}
		others -= n
		c.shapes = append(c.shapes, shape{row[0].text, n})
	}
	if c.others = never; others != 0 {
		c.others = "(NOT " + anyOf(which) + ")"
	}
	return nil
}

// askShapes asks for the shapes of a column that is not listed, beyond those that are known.
func (j *judgement) askShapes(ctx context.Context, c *column) error {
	if c.shapesAsked {
		return nil
	}
	c.shapesAsked = true
	where := both(c.filled(), cmp.Or(c.others, always))
	if where == never {
		return nil
	}
	alike := j.digitsAlike(c.text)
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

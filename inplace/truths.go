package inplace

import (
	"proudsieve/core/condition"
	"proudsieve/core/table"
)

// What a part of a condition can come to is often known before the engine is asked: a column's texts are all told where they are few, and its extremes where
// they are many. What can come to one thing only is no work for the engine.

// truths are the truth values that a part of a condition can come to; none where nothing is known.
type truths uint8

const (
	canBeTrue truths = 1 << iota
	canBeFalse
	canBeUnknown
	canBeAny = canBeTrue | canBeFalse | canBeUnknown
)

// always is a condition that every row fulfils.
const always = "(1 = 1)"

func truthsOf(t condition.Truth) truths {
	return map[condition.Truth]truths{condition.True: canBeTrue, condition.False: canBeFalse, condition.Unknown: canBeUnknown}[t]
}

// can says what a value that is true or false can come to.
func (v *said) can() truths {
	known := v.may
	if known == 0 {
		known = canBeAny
	}
	if v.sure {
		known &^= canBeUnknown
	}
	return known
}

// never says that a value cannot come to this.
func (v *said) never(what truths) bool { return v.can()&what == 0 }

// not is what NOT makes of what a part can come to.
func (t truths) not() truths {
	out := t & canBeUnknown
	if t&canBeTrue != 0 {
		out |= canBeFalse
	}
	if t&canBeFalse != 0 {
		out |= canBeTrue
	}
	return out
}

// settled is a value that is true for every row, or false. What is unknown for every row is asked all the same: servers of old do not tell a null that
// stands by itself to others as they should.
func (t *translator) settled(to truths) (said, bool) {
	switch to {
	case canBeTrue:
		return said{sql: always, kind: table.Boolean, sure: true, may: to}, true
	case canBeFalse:
		return said{sql: never, kind: table.Boolean, sure: true, may: to}, true
	}
	return said{}, false
}

// negated is NOT of a value.
func (t *translator) negated(v said) said {
	if settled, ok := t.settled(v.can().not()); ok {
		return settled
	}
	return said{sql: t.not(v.sql), kind: table.Boolean, sure: v.sure, may: v.can().not()}
}

// joined is AND or OR of two values.
func (t *translator) joined(word string, a, b said) said {
	decides, passes := canBeFalse, canBeTrue // of AND
	if word == condition.Or {
		decides, passes = passes, decides
	}
	switch {
	case a.can() == decides || b.can() == passes:
		return a
	case b.can() == decides || a.can() == passes:
		return b
	}
	out := said{kind: table.Boolean, sure: a.sure && b.sure, may: (a.can() | b.can()) & (decides | canBeUnknown)}
	if a.can()&passes != 0 && b.can()&passes != 0 {
		out.may |= passes
	}
	if settled, ok := t.settled(out.may); ok {
		return settled
	}
	if out.sure {
		out.sql = "(" + a.sql + " " + word + " " + b.sql + ")"
	} else {
		out.sql = t.join(word, a.sql, b.sql)
	}
	return out
}

// beforehand works out a part of a condition that speaks of no column, or of one for each of its different texts, which are those of c then.
func (t *translator) beforehand(s *condition.Step) (c *column, of []condition.Truth) {
	rows := &combinations{texts: make([][]string, 1)}
	switch names := s.Columns(); len(names) {
	case 0:
	case 1:
		if c = t.columns[names[0]]; c == nil || len(c.listed) == 0 {
			return nil, nil
		}
		var values []table.Value
		for i := range c.listed {
			cell := &c.listed[i].cell
			if cell.Unknown {
				values = append(values, table.Value{})
				continue
			}
			values = append(values, cell.Value)
		}
		rows.texts, rows.values = make([][]string, len(values)), map[string][]table.Value{c.name: values}
	default:
		return nil, nil
	}
	of, ok := s.Truths(rows)
	if !ok {
		return nil, nil
	}
	return c, of
}

// byTexts says by its texts where a part of a condition is true, and where it is false.
func (t *translator) byTexts(c *column, of []condition.Truth) (said, error) {
	var among [2][]string
	var null [2]bool
	for i, truth := range of {
		at := map[condition.Truth]int{condition.True: 0, condition.False: 1, condition.Unknown: 2}[truth]
		switch l := &c.listed[i]; {
		case at == 2:
		case l.null:
			null[at] = true
		default:
			among[at] = append(among[at], l.text)
		}
	}
	yes, err := t.literal(table.BooleanValue(true))
	if err != nil {
		return said{}, err
	}
	no, err := t.literal(table.BooleanValue(false))
	if err != nil {
		return said{}, err
	}
	var when []string
	var then []said
	for at, value := range []said{yes, no} {
		if where := t.amongTexts(c.text, among[at], null[at]); where != never {
			when, then = append(when, where), append(then, value)
		}
	}
	if len(when) == 0 {
		return said{}, unsaid("what is unknown for each text")
	}
	return t.choose(when, append(then, t.none(yes)))
}

// byExtremes says what a comparison of a column with a value can come to, by the lowest and highest of the column.
func (t *translator) byExtremes(s *condition.Step) truths {
	sign, of, literal := s.Does, s.Of[0], s.Of[1]
	if of.Does == condition.Literally {
		sign, of, literal = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<="}[sign], literal, of
		if sign == "" {
			sign = s.Does
		}
	}
	if of.Does != condition.OfColumn || literal.Does != condition.Literally {
		return 0
	}
	c := t.columns[of.Name]
	if c == nil || c.lowest.Kind == table.Missing || c.lowest.Kind != literal.Is.Kind {
		return 0
	}
	low, high := order(&c.lowest, &literal.Is), order(&c.highest, &literal.Is)
	// Whether the column is below the value, at it, or above it in some row.
	can := [3]bool{low < 0, low <= 0 && high >= 0, high > 0}
	holds := map[string][3]bool{"=": {1: true}, "<>": {0: true, 2: true}, "<": {0: true}, "<=": {0: true, 1: true}, ">": {2: true}, ">=": {1: true, 2: true}}[sign]
	out := truths(0)
	if !c.value.sure {
		out |= canBeUnknown
	}
	for at, possible := range can {
		switch {
		case !possible:
		case holds[at]:
			out |= canBeTrue
		default:
			out |= canBeFalse
		}
	}
	return out
}

// order compares two numbers, dates or moments.
func order(a, b *table.Value) int {
	if a.Kind == table.Number {
		return a.Number.Cmp(b.Number)
	}
	switch {
	case a.When < b.When:
		return -1
	case a.When > b.When:
		return 1
	}
	return 0
}

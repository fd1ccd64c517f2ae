package audit

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// check is one thing that is judged: it becomes a Judged and, where broken, a Finding.
type check struct {
	id        string
	kind      Kind
	dimension rulebook.Dimension
	severity  rulebook.Severity
	columns   []string
	at        []int // the columns' positions in the table
	says      string
	reason    string
	unjudged  string
	excused   bool // that it is not judged keeps no table from passing
	quiet     bool // it is told as a lead and costs nothing
	rule      *rulebook.Rule
	typ       table.Type // of a single column
	filled    float64    // the percentage that must be
	found     string     // what a check of the table as a whole found, in a sentence; "" where it holds
	undecided int64      // rows for which a condition is neither true nor false
	tolerated int64      // rows that break a condition that so many may break
}

// columnCheck is the bit of a check within one column's verdict.
type columnCheck struct {
	bit   uint16
	check int
}

const (
	brokenRequired uint16 = 1 << iota
	brokenType
	brokenRange
	brokenPattern
	brokenCodes
	brokenSpelling
	brokenEnded
	brokenLength
	brokenDecimals
)

// judge judges the texts of one column, each once per batch.
type judge struct {
	cells  *rulebook.Cells
	checks []columnCheck
	sweep  sweep
	// lowest and highest are the bounds of a swept number, in units of each number of digits after the point.
	lowest, highest [19]int64
	bounded         bool
	// digitsAlike says that texts which differ in nothing but their digits are judged alike.
	digitsAlike bool
}

// sweep says which texts of a column can be judged in passing.
type sweep uint8

const (
	sweepNothing sweep = iota
	sweepNumbers
	sweepTexts
)

func (j *judge) findSweep() {
	c := j.cells.Declared
	switch {
	case j.cells.Type == table.TypeCode:
	case j.cells.Type == table.TypeText && (c == nil || c.Lowest == nil && c.Highest == nil):
		j.sweep = sweepTexts
		j.digitsAlike = c != nil && c.Pattern != nil && c.Pattern.DigitsAlike()
	case j.cells.Type.IsNumber() && j.cells.PlainNumbers() && (c == nil || c.Pattern == nil && c.Shortest == 0 && c.Longest == 0 && c.Decimals < 0):
		j.sweep = sweepNumbers
		j.bounded = c != nil && (c.Lowest != nil || c.Highest != nil)
		for scale := range j.lowest {
			j.lowest[scale], j.highest[scale] = math.MinInt64, math.MaxInt64
			if c != nil && c.Lowest != nil {
				j.lowest[scale] = c.Lowest.Number.Units(scale, true)
			}
			if c != nil && c.Highest != nil {
				j.highest[scale] = c.Highest.Number.Units(scale, false)
			}
		}
	}
}

// ofPlainText judges a text of printable characters without spaces, of a swept column.
func (j *judge) ofPlainText(t table.Token) (broken uint16) {
	c := j.cells.Declared
	if c == nil {
		return 0
	}
	if n := t.Len(); n < c.Shortest || c.Longest > 0 && n > c.Longest {
		broken |= brokenLength
	}
	if c.Pattern != nil {
		var raw [16]byte
		if !c.Pattern.MatchASCII(t.Bytes(&raw)) {
			broken |= brokenPattern
		}
	}
	return broken
}

func (j *judge) outOfRange(coefficient int64, scale uint8) bool {
	return coefficient < j.lowest[scale] || coefficient > j.highest[scale]
}

// textsKept bounds the offending texts that are counted per check.
const textsKept = 1 << 16

// judge reads a text and says, by its bits, what is wrong with it.
func (j *judge) judge(text string) (cell rulebook.Cell, broken uint16) {
	cell = j.cells.Read(text)
	switch c := j.cells.Declared; {
	case cell.Missing:
		if j.cells.Required {
			broken = brokenRequired
		}
	case cell.Mistyped:
		broken = brokenType
	case c != nil:
		if c.Lowest != nil && table.Compare(cell.Value, *c.Lowest) < 0 || c.Highest != nil && table.Compare(cell.Value, *c.Highest) > 0 {
			broken |= brokenRange
		}
		if c.Pattern != nil && !c.Pattern.MatchString(text) {
			broken |= brokenPattern
		}
		if c.Shortest > 0 || c.Longest > 0 {
			if n := utf8.RuneCountInString(table.Trim(text)); n < c.Shortest || c.Longest > 0 && n > c.Longest {
				broken |= brokenLength
			}
		}
		if c.Decimals >= 0 && cell.Value.Kind == table.Number && cell.Value.Number.Places() > c.Decimals {
			broken |= brokenDecimals
		}
		if cell.Ended {
			broken |= brokenEnded
		}
		if cell.Spelling {
			broken |= brokenSpelling
		}
		if cell.Unknown {
			broken |= brokenCodes
		}
	}
	return cell, broken
}

// plan is a rulebook laid out over the columns of a table.
type plan struct {
	book   *rulebook.Rulebook
	names  []string
	judges []*judge
	checks []*check
	// positions in checks
	keys      []int
	equalRows int // -1 where equal rows are allowed
	equalVia  int // index in keys of the one that equal rows are looked for by; -1 for none
	rules     []int
	filled    []int // shares that must be filled
	parents   []parentCheck
	occurring []int // per column, the check that codes occur; -1 for none
	whole     []wholeCheck
	history   []historyCheck
	measures  []int // columns
	// per column: whether its values are asked for by conditions, and its identities by keys
	valued, keyed []bool
}

// parentCheck is the check that a code's parent stands in another column.
type parentCheck struct {
	check        int
	code, parent int // columns
	codes        *rulebook.CodeList
}

// RuleIDs lists the ids of all that a rulebook may find broken, in a table with all of its
// columns or without some.
func RuleIDs(book *rulebook.Rulebook) []string {
	var names, ids []string
	for _, c := range book.Columns {
		names = append(names, c.Name)
	}
	for _, columns := range [][]string{names, nil} {
		for _, c := range newPlan(book, columns).checks {
			if !slices.Contains(ids, c.id) {
				ids = append(ids, c.id)
			}
		}
	}
	return ids
}

func newPlan(book *rulebook.Rulebook, names []string) *plan {
	p := &plan{book: book, names: names, equalRows: -1}
	for _, name := range names {
		j := &judge{cells: book.Cells(name)}
		p.judges = append(p.judges, j)
		if j.cells.Declared != nil {
			p.columnChecks(j.cells.Declared, j)
		}
		j.findSweep()
		p.occurring = append(p.occurring, -1)
	}
	for at, j := range p.judges {
		if j.cells.Declared != nil {
			p.codeChecks(at, j)
		}
	}
	for _, c := range book.Columns {
		if !slices.Contains(names, c.Name) {
			p.add(&check{id: c.Name + ".column", kind: KindColumn, dimension: rulebook.Completeness, severity: rulebook.Stop, columns: []string{c.Name},
				says: fmt.Sprintf("The table has a column %q.", c.Name), reason: c.Reason})
		}
	}
	for _, k := range book.Keys {
		p.keys = append(p.keys, p.add(&check{id: k.ID, kind: KindKey, dimension: rulebook.Uniqueness, severity: k.Severity, columns: k.Columns,
			says: fmt.Sprintf("No two rows have the same %s.", strings.Join(k.Columns, " and ")), reason: k.Reason}))
	}
	if d := book.Duplicates; d != nil {
		p.equalRows = p.add(&check{id: rulebook.DuplicatesID, kind: KindEqualRows, dimension: rulebook.Uniqueness, severity: d.Severity, columns: []string{},
			says: "No two rows are equal in every cell.", reason: d.Reason})
	}
	for i := range book.Rules {
		r := &book.Rules[i]
		p.rules = append(p.rules, p.add(&check{id: r.ID, kind: KindCondition, dimension: rulebook.Consistency, severity: r.Severity, columns: ruleColumns(r),
			says: ruleSays(r), reason: r.Reason, rule: r}))
	}
	p.wholeChecks()
	p.historyChecks()
	p.equalVia = -1
	if len(p.keys) > 0 && p.checks[p.keys[0]].unjudged == "" {
		p.equalVia = 0
	}
	p.valued, p.keyed = make([]bool, len(names)), make([]bool, len(names))
	for _, at := range p.rules {
		for _, c := range p.checks[at].at {
			if c >= 0 {
				p.valued[c] = true
			}
		}
	}
	for c, at := range p.occurring {
		p.valued[c] = p.valued[c] || at >= 0
	}
	for _, one := range p.parents {
		p.valued[one.code], p.valued[one.parent] = true, true
	}
	for _, at := range p.keys {
		for _, c := range p.checks[at].at {
			if c >= 0 {
				p.keyed[c] = true
			}
		}
	}
	for _, m := range book.Measures {
		if at := slices.Index(names, m); at >= 0 {
			p.measures = append(p.measures, at)
		}
	}
	return p
}

func (p *plan) add(c *check) int {
	for _, name := range c.columns {
		at := slices.Index(p.names, name)
		if at < 0 && c.kind != KindColumn {
			c.unjudged = fmt.Sprintf("the table has no column %q", name)
		}
		c.at = append(c.at, at)
	}
	p.checks = append(p.checks, c)
	return len(p.checks) - 1
}

func (p *plan) columnChecks(c *rulebook.Column, j *judge) {
	add := func(bit uint16, kind Kind, dimension rulebook.Dimension, says string, args ...any) {
		index := p.add(&check{id: c.Name + "." + string(kind), kind: kind, dimension: dimension, severity: c.Severity,
			columns: []string{c.Name}, says: fmt.Sprintf(says, args...), reason: c.Reason, typ: c.Type})
		j.checks = append(j.checks, columnCheck{bit, index})
	}
	if j.cells.Required {
		add(brokenRequired, KindRequired, rulebook.Completeness, "Every row has a %s.", c.Name)
	}
	switch c.Type {
	case table.TypeText:
	case table.TypeCode:
		add(brokenCodes, KindCodes, rulebook.Validity, "Every %s is in the code list %s.", c.Name, c.CodeList)
		last := p.checks[len(p.checks)-1]
		last.quiet, last.unjudged = c.NewCodes, j.cells.Codes().Lacking
		add(brokenSpelling, KindSpelling, rulebook.Consistency, "Every %s is written as the code list %s has it.", c.Name, c.CodeList)
	default:
		article := "a"
		if c.Type == table.TypeInteger {
			article = "an"
		}
		add(brokenType, KindType, rulebook.Validity, "Every %s is %s %s.", c.Name, article, c.Type)
	}
	switch {
	case c.Lowest != nil && c.Highest != nil:
		add(brokenRange, KindRange, rulebook.Validity, "Every %s is from %s to %s.", c.Name, c.Lowest.Standard(), c.Highest.Standard())
	case c.Lowest != nil:
		add(brokenRange, KindRange, rulebook.Validity, "Every %s is at least %s.", c.Name, c.Lowest.Standard())
	case c.Highest != nil:
		add(brokenRange, KindRange, rulebook.Validity, "Every %s is at most %s.", c.Name, c.Highest.Standard())
	}
	switch {
	case c.Shortest > 0 && c.Longest > 0:
		add(brokenLength, KindLength, rulebook.Validity, "Every %s has %d to %d characters.", c.Name, c.Shortest, c.Longest)
	case c.Shortest > 0:
		add(brokenLength, KindLength, rulebook.Validity, "Every %s has at least %d characters.", c.Name, c.Shortest)
	case c.Longest > 0:
		add(brokenLength, KindLength, rulebook.Validity, "Every %s has at most %d characters.", c.Name, c.Longest)
	}
	if c.Decimals >= 0 {
		add(brokenDecimals, KindDecimals, rulebook.Validity, "Every %s has at most %d digits after the point.", c.Name, c.Decimals)
	}
	if c.Pattern != nil {
		add(brokenPattern, KindPattern, rulebook.Validity, "Every %s has the form %s.", c.Name, c.Pattern)
	}
}

// codeChecks adds what a column's code list asks beyond one cell, and the share that must be filled.
func (p *plan) codeChecks(at int, j *judge) {
	c := j.cells.Declared
	if c.Filled > 0 {
		p.filled = append(p.filled, p.add(&check{id: c.Name + "." + string(KindFilled), kind: KindFilled, dimension: rulebook.Completeness, severity: c.Severity, columns: []string{c.Name},
			says: fmt.Sprintf("At least %s %% of the rows have a %s.", decimalOf(c.Filled), c.Name), reason: c.Reason, filled: c.Filled}))
	}
	codes := j.cells.Codes()
	if codes == nil {
		return
	}
	ended, must, parents := false, codes.AllOccur, false
	for i := range codes.Codes {
		one := &codes.Codes[i]
		ended, must, parents = ended || one.Ended, must || one.MustOccur, parents || one.Parent != ""
	}
	if ended {
		index := p.add(&check{id: c.Name + "." + string(KindEnded), kind: KindEnded, dimension: rulebook.Validity, severity: c.Severity, columns: []string{c.Name},
			says: fmt.Sprintf("No %s is a code that has ended.", c.Name), reason: c.Reason})
		j.checks = append(j.checks, columnCheck{brokenEnded, index})
	}
	if must {
		p.occurring[at] = p.add(&check{id: c.Name + "." + string(KindOccurs), kind: KindOccurs, dimension: rulebook.Completeness, severity: c.Severity, columns: []string{c.Name},
			says: fmt.Sprintf("Every code of %s that must occur in %s does.", c.CodeList, c.Name), reason: c.Reason})
		if codes.AllOccur {
			p.checks[p.occurring[at]].unjudged = codes.Lacking
		}
	}
	if c.ParentIn != "" && parents {
		index := p.add(&check{id: c.Name + "." + string(KindParent), kind: KindParent, dimension: rulebook.Consistency, severity: c.Severity, columns: []string{c.Name, c.ParentIn},
			says: fmt.Sprintf("Every %s stands beside the %s that it is a part of.", c.Name, c.ParentIn), reason: c.Reason})
		if parent := slices.Index(p.names, c.ParentIn); parent >= 0 {
			p.parents = append(p.parents, parentCheck{index, at, parent, codes})
		}
	}
}

func decimalOf(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

func ruleColumns(r *rulebook.Rule) []string {
	names := slices.Clone(r.Condition.Names())
	if r.When != nil {
		for _, name := range r.When.Names() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

func ruleSays(r *rulebook.Rule) string {
	says := "For every row"
	if r.When != nil {
		says += " where " + r.When.String()
	}
	says += ": " + r.Condition.String()
	if r.Condition.Tolerance() != nil {
		says += ", give or take " + r.Condition.Tolerance().Shortest()
	}
	if r.MayBreak > 0 {
		says += "; up to " + decimalOf(r.MayBreak) + " % of the rows may be otherwise"
	}
	return says + "."
}

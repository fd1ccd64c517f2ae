package condition

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// depthLimit bounds nesting, so that a hostile condition cannot exhaust the stack, and
// sourceLimit the length of a condition, in bytes.
const (
	depthLimit  = 200
	sourceLimit = 10_000
)

type node interface{ place() int }

type at int

func (a at) place() int { return int(a) }

type (
	literal struct {
		at
		value table.Value // Kind Missing for NULL
	}
	column struct {
		at
		name string
		kind table.Kind
	}
	negative   struct{ node }
	arithmetic struct {
		at
		sign        byte
		left, right node
	}
	comparison struct {
		at
		sign        string
		left, right node
		words       bool // both sides are numbers or both dates, as Check found
	}
	isNull struct {
		at
		of  node
		not bool
	}
	// isGap asks why a column has no value: nothing is there, or a text that is none of its type.
	isGap struct {
		at
		of       node
		mistyped bool
		not      bool
	}
	between struct {
		at
		of, low, high node
		not           bool
	}
	within struct {
		at
		of   node
		list []node
		not  bool
		// listed looks a value up among literals; nil where the list is something else
		listed func(table.Value) Truth
	}
	interval struct {
		at
		span span
	}
	// moved is a date or datetime moved by an interval; Check makes it of a sum.
	moved struct {
		at
		of node
		by span
	}
	// call is anything that makes one value of several; Check gives it its meaning.
	call struct {
		at
		name  string // of a function in upper case
		word  string // that the syntax has beside the arguments, as YEAR
		args  []node
		apply func([]table.Value) table.Value
	}
	negation struct {
		at
		of node
	}
	junction struct {
		at
		or          bool
		left, right node
	}
)

// Condition is a parsed condition. Check must have passed before Evaluate.
type Condition struct {
	source string
	root   node
	names  []string
	within *table.Decimal // the tolerance
}

// Parse reads a condition. It tells every mistake at once, each an *Error, in their order: after
// one, it goes on behind the next AND or OR.
func Parse(source string) (*Condition, []error) {
	if len(source) > sourceLimit {
		return nil, []error{&Error{1, fmt.Sprintf("the condition has %d characters; at most %d can be", len(source),
			sourceLimit)}}
	}
	p := &parser{}
	p.tokens, p.mistakes = lex(source)
	root := p.whole()
	if len(p.mistakes) > 0 {
		slices.SortStableFunc(p.mistakes,
			func(a, b error) int { return cmp.Compare(a.(*Error).Column, b.(*Error).Column) })
		return nil, p.mistakes
	}
	return &Condition{source: source, root: root, names: p.names}, nil
}

// whole parses all there is. What is left over after a condition is a mistake too.
func (p *parser) whole() node {
	root, err := p.condition()
	for {
		t := p.peek()
		switch {
		case err != nil:
			p.tell(err)
		case t.kind != tokenEnd && t.kind != tokenBad:
			p.tell(&Error{t.at, fmt.Sprintf("%s was not expected here; join two conditions with AND or OR",
				t.describe())})
		}
		if p.fatal || !p.skip(true) {
			return root
		}
		p.take()
		_, err = p.condition()
	}
}

// tell notes a mistake; that of a tokenBad was told.
func (p *parser) tell(err error) {
	if mistake, ok := err.(*Error); ok && mistake != errTold {
		p.mistakes = append(p.mistakes, mistake)
	}
}

// errTold says that a mistake was told before.
var errTold = &Error{Message: "told"}

// recover notes a mistake and goes to where the condition goes on; false where it cannot.
func (p *parser) recover(err error) bool {
	if p.fatal || p.cases > 0 {
		return false
	}
	p.tell(err)
	p.skip(false)
	return true
}

// skip goes to the next AND or OR of this pair of parentheses; within is whether the pair's end
// is gone past too. It reports whether there is such a word.
func (p *parser) skip(within bool) bool {
	for depth := 0; ; p.next++ {
		switch t := p.peek(); {
		case t.kind == tokenEnd:
			return false
		case t.sign("("):
			depth++
		case t.sign(")") && depth > 0:
			depth--
		case t.sign(")") && !within:
			return false
		case depth == 0 && t.is("AND") && p.between:
			p.between = false // it joins bounds
		case depth == 0 && (t.is("AND") || t.is("OR")):
			return true
		}
	}
}

// String returns the source.
func (c *Condition) String() string { return c.source }

// Names returns the columns the condition speaks of, each once, in order of appearance.
func (c *Condition) Names() []string { return c.names }

type parser struct {
	tokens []token
	next   int
	depth  int
	cases  int // CASE expressions that are open
	names  []string
	// between says that the lower bound of a BETWEEN is being read.
	between  bool
	fatal    bool // nothing more can be told
	mistakes []error
}

// tooDeep ends the parsing.
func (p *parser) tooDeep(at int) error {
	p.fatal = true
	return &Error{at, "the condition is nested too deeply"}
}

func (p *parser) peek() token { return p.tokens[p.next] }

func (p *parser) take() token {
	t := p.tokens[p.next]
	if t.kind != tokenEnd {
		p.next++
	}
	return t
}

func (p *parser) keyword(word string) bool {
	if p.peek().is(word) {
		p.next++
		return true
	}
	return false
}

func (p *parser) sign(s string) bool {
	if p.peek().sign(s) {
		p.next++
		return true
	}
	return false
}

func (p *parser) condition() (node, error) {
	if p.depth++; p.depth > depthLimit {
		return nil, p.tooDeep(p.peek().at)
	}
	defer func() { p.depth-- }()
	return p.chain("OR", true, func() (node, error) { return p.chain("AND", false, p.negation) })
}

func (p *parser) chain(word string, or bool, part func() (node, error)) (node, error) {
	left, err := part()
	for err == nil || p.recover(err) {
		t := p.peek()
		if !p.keyword(word) {
			return left, nil
		}
		var right node
		right, err = part()
		left = junction{at(t.at), or, left, right}
	}
	return nil, err
}

func (p *parser) negation() (node, error) {
	t := p.peek()
	if !p.keyword("NOT") {
		return p.predicate()
	}
	if p.depth++; p.depth > depthLimit {
		return nil, p.tooDeep(t.at)
	}
	defer func() { p.depth-- }()
	of, err := p.negation()
	return negation{at(t.at), of}, err
}

func (p *parser) predicate() (node, error) {
	left, err := p.sum()
	if err != nil {
		return nil, err
	}
	t := p.peek()
	if t.kind == tokenSign && slices.Contains([]string{"=", "<>", "!=", "<", "<=", ">", ">="}, t.text) {
		p.take()
		right, err := p.sum()
		sign := t.text
		if sign == "!=" {
			sign = "<>"
		}
		return comparison{at(t.at), sign, left, right, false}, err
	}
	if p.keyword("IS") {
		return p.is(t, left)
	}
	not := p.keyword("NOT")
	switch {
	case p.keyword("BETWEEN"):
		p.between = true
		low, err := p.sum()
		if err != nil {
			return nil, err
		}
		if n := p.peek(); !p.keyword("AND") {
			return nil, &Error{n.at, fmt.Sprintf("BETWEEN wants two bounds joined by AND; found %s", n.describe())}
		}
		p.between = false
		high, err := p.sum()
		return between{at(t.at), left, low, high, not}, err
	case p.keyword("IN"):
		list, err := p.list("IN")
		return within{at: at(t.at), of: left, list: list, not: not}, err
	case p.keyword("LIKE"):
		return p.like(t, "LIKE", left, not)
	case p.keyword("LIKE_REGEX"):
		return p.like(t, "LIKE_REGEX", left, not)
	case not:
		n := p.peek()
		return nil, &Error{n.at, fmt.Sprintf("after NOT comes BETWEEN, IN, LIKE or LIKE_REGEX here, not %s",
			n.describe())}
	}
	return left, nil
}

// is reads what follows IS.
func (p *parser) is(t token, left node) (node, error) {
	not, n := p.keyword("NOT"), p.peek()
	var what node
	switch {
	case p.keyword("NULL"):
		return isNull{at(t.at), left, not}, nil
	case p.keyword("MISSING"), p.keyword("MISTYPED"):
		if _, ok := left.(column); !ok {
			return nil, &Error{t.at, fmt.Sprintf("IS %s is asked of a column, as flow IS %s", strings.ToUpper(n.text), strings.ToUpper(n.text))}
		}
		return isGap{at(t.at), left, n.is("MISTYPED"), not}, nil
	case p.keyword("TRUE"), p.keyword("FALSE"):
		what = call{at: at(t.at), name: "IS " + strings.ToUpper(n.text), args: []node{left}}
	case p.keyword("UNKNOWN"):
		what = call{at: at(t.at), name: "IS UNKNOWN", args: []node{left}}
	case p.keyword("DISTINCT"):
		if n := p.peek(); !p.keyword("FROM") {
			return nil, &Error{n.at, fmt.Sprintf("after IS DISTINCT comes FROM, not %s", n.describe())}
		}
		right, err := p.sum()
		if err != nil {
			return nil, err
		}
		what = call{at: at(t.at), name: "IS DISTINCT FROM", args: []node{left, right}}
	default:
		return nil, &Error{n.at,
			fmt.Sprintf("after IS comes NULL, MISSING, MISTYPED, TRUE, FALSE, UNKNOWN or DISTINCT FROM, with or without NOT, not %s",
				n.describe())}
	}
	if not {
		what = negation{at(t.at), what}
	}
	return what, nil
}

// like reads the pattern after LIKE or LIKE_REGEX. It stands in quotes, so that it is
// compiled once and its mistakes are told at once.
func (p *parser) like(t token, name string, left node, not bool) (node, error) {
	pattern := p.take()
	if pattern.kind != tokenText {
		return nil, &Error{pattern.at, fmt.Sprintf("%s wants a pattern in single quotes, not %s", name,
			pattern.describe())}
	}
	escape := ""
	if name == "LIKE" && p.keyword("ESCAPE") {
		e := p.take()
		if e.kind != tokenText || utf8.RuneCountInString(e.text) != 1 {
			return nil, &Error{e.at, fmt.Sprintf("ESCAPE wants one character in single quotes, not %s", e.describe())}
		}
		escape = e.text
	}
	var what node = call{at: at(t.at), name: name, word: escape,
		args: []node{left, literal{at(pattern.at), table.TextValue(pattern.text)}}}
	if not {
		what = negation{at(t.at), what}
	}
	return what, nil
}

// list reads values in parentheses.
func (p *parser) list(of string) ([]node, error) {
	if n := p.peek(); !p.sign("(") {
		return nil, &Error{n.at, fmt.Sprintf("%s wants a list in parentheses; found %s", of, n.describe())}
	}
	var list []node
	for {
		one, err := p.condition()
		if err != nil {
			return nil, err
		}
		list = append(list, one)
		n := p.peek()
		switch {
		case p.sign(")"):
			return list, nil
		case !p.sign(","):
			return nil, &Error{n.at, fmt.Sprintf("a comma or a closing parenthesis was expected, not %s", n.describe())}
		}
	}
}

func (p *parser) sum() (node, error) {
	return p.operation([]string{"||"}, func() (node, error) {
		return p.operation([]string{"+", "-"},
			func() (node, error) { return p.operation([]string{"*", "/"}, p.factor) })
	})
}

func (p *parser) operation(signs []string, part func() (node, error)) (node, error) {
	left, err := part()
	for err == nil {
		t := p.peek()
		if !slices.ContainsFunc(signs, p.sign) {
			return left, nil
		}
		var right node
		right, err = part()
		if t.text == "||" {
			left = call{at: at(t.at), name: "||", args: []node{left, right}}
		} else {
			left = arithmetic{at(t.at), t.text[0], left, right}
		}
	}
	return nil, err
}

func (p *parser) factor() (node, error) {
	t := p.take()
	place := at(t.at)
	switch {
	case t.sign("-"), t.sign("+"):
		if p.depth++; p.depth > depthLimit {
			return nil, p.tooDeep(t.at)
		}
		defer func() { p.depth-- }()
		of, err := p.factor()
		if err != nil || t.text == "+" {
			return of, err
		}
		return negative{of}, nil
	case t.sign("("):
		inner, err := p.condition()
		if err != nil {
			return nil, err
		}
		if n := p.peek(); !p.sign(")") {
			return nil, &Error{n.at, fmt.Sprintf("a closing parenthesis was expected, not %s", n.describe())}
		}
		return inner, nil
	case t.kind == tokenNumber:
		d, ok := table.ParseDecimal(t.text)
		if !ok {
			return nil, &Error{t.at, fmt.Sprintf("%q is not a number", t.text)}
		}
		return literal{place, table.NumberValue(d)}, nil
	case t.kind == tokenText:
		return literal{place, table.TextValue(t.text)}, nil
	case t.is("DATE") && p.peek().kind == tokenText:
		return temporal(p.take(), table.TypeDate, "DATE '2024-05-31'")
	case t.is("TIMESTAMP") && p.peek().kind == tokenText:
		return temporal(p.take(), table.TypeDateTime, "TIMESTAMP '2024-05-31 10:30:00'")
	case t.is("INTERVAL") && p.peek().kind == tokenText:
		return p.interval(place)
	case t.is("CASE"):
		return p.caseOf(place)
	case t.kind == tokenWord && p.peek().sign("(") && !slices.ContainsFunc(reserved, t.is):
		return p.function(t)
	case t.is("TRUE"), t.is("FALSE"):
		return literal{place, table.BooleanValue(t.is("TRUE"))}, nil
	case t.is("NULL"):
		return literal{at: place}, nil
	case t.kind == tokenQuoted, t.kind == tokenWord && !slices.ContainsFunc(reserved, t.is) &&
		(p.cases == 0 || !slices.ContainsFunc(caseWords, t.is)):
		if !slices.Contains(p.names, t.text) {
			p.names = append(p.names, t.text)
		}
		return column{at: place, name: t.text}, nil
	}
	if t.kind != tokenEnd {
		p.next-- // it may be where the condition goes on
	}
	if t.kind == tokenBad {
		return nil, errTold
	}
	return nil, &Error{t.at, fmt.Sprintf("a column, a value or a parenthesis was expected, not %s", t.describe())}
}

// reserved words are columns only in double quotes; those of CASE while one is open.
var (
	reserved  = []string{"AND", "OR", "NOT", "IS", "IN", "BETWEEN", "LIKE", "LIKE_REGEX", "CASE"}
	caseWords = []string{"WHEN", "THEN", "ELSE", "END"}
)

func temporal(t token, kind table.Type, example string) (node, error) {
	v, ok := table.StandardFormat.Parse(kind, t.text)
	if !ok {
		return nil, &Error{t.at, fmt.Sprintf("%q is no %s of the calendar; write it as %s", t.text, kind, example)}
	}
	return literal{at(t.at), v}, nil
}

// interval reads the rest of INTERVAL '3' MONTH.
func (p *parser) interval(place at) (node, error) {
	text, unit := p.take(), p.take()
	n, err := strconv.ParseInt(text.text, 10, 64)
	if err != nil || n > intervalLimit || n < -intervalLimit {
		return nil, &Error{text.at,
			fmt.Sprintf("%q is no whole number up to %d; an interval is written as INTERVAL '3' MONTH", text.text,
				intervalLimit)}
	}
	s, ok := spanOf(n, unit.text)
	if unit.kind != tokenWord || !ok {
		return nil, &Error{unit.at, fmt.Sprintf("an interval is in YEAR, MONTH, DAY, HOUR, MINUTE or SECOND, not %s",
			unit.describe())}
	}
	return interval{place, s}, nil
}

// expect takes a sign or keyword that must follow.
func (p *parser) expect(what, of string) error {
	if n := p.peek(); !p.sign(what) && !p.keyword(what) {
		return &Error{n.at, fmt.Sprintf("%s is written as %s; found %s", of, written[of], n.describe())}
	}
	return nil
}

// written shows the functions that have words between their arguments.
var written = map[string]string{
	"EXTRACT":   "EXTRACT(YEAR FROM day)",
	"CAST":      "CAST(x AS DECIMAL)",
	"TRIM":      "TRIM(x), TRIM(LEADING '0' FROM x), TRIM(TRAILING '0' FROM x) or TRIM(BOTH '0' FROM x)",
	"SUBSTRING": "SUBSTRING(x FROM 2 FOR 3)",
	"POSITION":  "POSITION('-' IN x)",
}

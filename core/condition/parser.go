package condition

import (
	"fmt"
	"slices"

	"proudsieve/core/table"
)

// depthLimit bounds nesting, so that a hostile condition cannot exhaust the stack.
const depthLimit = 200

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
	}
	isNull struct {
		at
		of  node
		not bool
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
}

// Parse reads a condition. Its error is an *Error.
func Parse(source string) (*Condition, error) {
	tokens, err := lex(source)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens}
	root, err := p.condition()
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != tokenEnd {
		return nil, &Error{t.at, fmt.Sprintf("%s was not expected here; join two conditions with AND or OR", t.describe())}
	}
	return &Condition{source: source, root: root, names: p.names}, nil
}

// String returns the source.
func (c *Condition) String() string { return c.source }

// Names returns the columns the condition speaks of, each once, in order of appearance.
func (c *Condition) Names() []string { return c.names }

type parser struct {
	tokens []token
	next   int
	depth  int
	names  []string
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
		return nil, &Error{p.peek().at, "the condition is nested too deeply"}
	}
	defer func() { p.depth-- }()
	return p.chain("OR", true, func() (node, error) { return p.chain("AND", false, p.negation) })
}

func (p *parser) chain(word string, or bool, part func() (node, error)) (node, error) {
	left, err := part()
	for err == nil {
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
		return nil, &Error{t.at, "the condition is nested too deeply"}
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
		return comparison{at(t.at), sign, left, right}, err
	}
	if p.keyword("IS") {
		not := p.keyword("NOT")
		if n := p.peek(); !p.keyword("NULL") {
			return nil, &Error{n.at, fmt.Sprintf("after IS comes NULL or NOT NULL, not %s", n.describe())}
		}
		return isNull{at(t.at), left, not}, nil
	}
	not := p.keyword("NOT")
	switch {
	case p.keyword("BETWEEN"):
		low, err := p.sum()
		if err != nil {
			return nil, err
		}
		if n := p.peek(); !p.keyword("AND") {
			return nil, &Error{n.at, fmt.Sprintf("BETWEEN wants two bounds joined by AND; found %s", n.describe())}
		}
		high, err := p.sum()
		return between{at(t.at), left, low, high, not}, err
	case p.keyword("IN"):
		list, err := p.list()
		return within{at(t.at), left, list, not}, err
	case not:
		n := p.peek()
		return nil, &Error{n.at, fmt.Sprintf("after NOT comes BETWEEN or IN here, not %s", n.describe())}
	}
	return left, nil
}

func (p *parser) list() ([]node, error) {
	if n := p.peek(); !p.sign("(") {
		return nil, &Error{n.at, fmt.Sprintf("IN wants a list in parentheses; found %s", n.describe())}
	}
	var list []node
	for {
		one, err := p.sum()
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
	return p.operation("+", "-", func() (node, error) { return p.operation("*", "/", p.factor) })
}

func (p *parser) operation(first, second string, part func() (node, error)) (node, error) {
	left, err := part()
	for err == nil {
		t := p.peek()
		if !p.sign(first) && !p.sign(second) {
			return left, nil
		}
		var right node
		right, err = part()
		left = arithmetic{at(t.at), t.text[0], left, right}
	}
	return nil, err
}

func (p *parser) factor() (node, error) {
	t := p.take()
	place := at(t.at)
	switch {
	case t.sign("-"), t.sign("+"):
		if p.depth++; p.depth > depthLimit {
			return nil, &Error{t.at, "the condition is nested too deeply"}
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
	case t.is("TRUE"), t.is("FALSE"):
		return literal{place, table.BooleanValue(t.is("TRUE"))}, nil
	case t.is("NULL"):
		return literal{at: place}, nil
	case t.kind == tokenQuoted, t.kind == tokenWord && !slices.ContainsFunc(reserved, t.is):
		if p.peek().sign("(") {
			return nil, &Error{t.at, fmt.Sprintf("there is no function %q; a condition has comparisons, arithmetic, AND, OR, NOT, IS NULL, IN and BETWEEN", t.text)}
		}
		if !slices.Contains(p.names, t.text) {
			p.names = append(p.names, t.text)
		}
		return column{at: place, name: t.text}, nil
	}
	return nil, &Error{t.at, fmt.Sprintf("a column, a value or a parenthesis was expected, not %s", t.describe())}
}

var reserved = []string{"AND", "OR", "NOT", "IS", "IN", "BETWEEN"}

func temporal(t token, kind table.Type, example string) (node, error) {
	v, ok := table.StandardFormat.Parse(kind, t.text)
	if !ok {
		return nil, &Error{t.at, fmt.Sprintf("%q is no %s of the calendar; write it as %s", t.text, kind, example)}
	}
	return literal{at(t.at), v}, nil
}

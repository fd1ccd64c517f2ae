package condition

import (
	"fmt"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// caseOf reads the rest of CASE [x] WHEN … THEN … [ELSE …] END. Its arguments are
// conditions and values in turn, and what stands after ELSE.
func (p *parser) caseOf(place at) (node, error) {
	if p.depth++; p.depth > depthLimit {
		return nil, &Error{int(place), "the condition is nested too deeply"}
	}
	p.cases++
	defer func() { p.depth--; p.cases-- }()
	var of node
	if !p.peek().is("WHEN") {
		var err error
		if of, err = p.sum(); err != nil {
			return nil, err
		}
	}
	out := call{at: place, name: "CASE"}
	for p.keyword("WHEN") {
		when, err := p.condition()
		if err != nil {
			return nil, err
		}
		if of != nil {
			when = comparison{at(when.place()), "=", of, when, false}
		}
		if n := p.peek(); !p.keyword("THEN") {
			return nil, &Error{n.at, fmt.Sprintf("after WHEN and its condition comes THEN, not %s", n.describe())}
		}
		then, err := p.condition()
		if err != nil {
			return nil, err
		}
		out.args = append(out.args, when, then)
	}
	if n := p.peek(); len(out.args) == 0 {
		return nil, &Error{n.at, fmt.Sprintf("CASE wants WHEN, not %s", n.describe())}
	}
	if p.keyword("ELSE") {
		otherwise, err := p.condition()
		if err != nil {
			return nil, err
		}
		out.args = append(out.args, otherwise)
	} else {
		out.args = append(out.args, literal{at: place})
	}
	if n := p.peek(); !p.keyword("END") {
		return nil, &Error{n.at, fmt.Sprintf("CASE ends with END; found %s", n.describe())}
	}
	return out, nil
}

// function reads the parentheses after the name of a function; some have words in them.
func (p *parser) function(t token) (node, error) {
	out := call{at: at(t.at), name: strings.ToUpper(t.text)}
	switch out.name {
	case "EXTRACT":
		return p.extract(out)
	case "CAST":
		return p.cast(out)
	case "TRIM":
		return p.trim(out)
	case "SUBSTRING":
		return p.worded(out, "FROM", "FOR")
	case "POSITION":
		return p.worded(out, "IN")
	}
	if f := functions[out.name]; f.result == nil {
		return nil, &Error{t.at, fmt.Sprintf("there is no function %q%s", t.text,
			document.Nearest(out.name, functionNames))}
	}
	var err error
	out.args, err = p.list(out.name)
	return out, err
}

func (p *parser) extract(out call) (node, error) {
	p.take() // the parenthesis
	out.word = strings.ToUpper(p.take().text)
	if err := p.expect("FROM", out.name); err != nil {
		return nil, err
	}
	of, err := p.sum()
	if err != nil {
		return nil, err
	}
	out.args = []node{of}
	return out, p.expect(")", out.name)
}

func (p *parser) cast(out call) (node, error) {
	p.take()
	of, err := p.condition()
	if err != nil {
		return nil, err
	}
	if err := p.expect("AS", out.name); err != nil {
		return nil, err
	}
	out.args, out.word = []node{of}, strings.ToUpper(p.take().text)
	if p.sign("(") { // DECIMAL(10, 2)
		for more := true; more; more = p.sign(",") {
			n := p.take()
			if n.kind != tokenNumber {
				return nil, &Error{n.at, fmt.Sprintf("a type has numbers in its parentheses, not %s", n.describe())}
			}
			d, _ := table.ParseDecimal(n.text)
			out.args = append(out.args, literal{at(n.at), table.NumberValue(d)})
		}
		if err := p.expect(")", out.name); err != nil {
			return nil, err
		}
	}
	return out, p.expect(")", out.name)
}

func (p *parser) trim(out call) (node, error) {
	p.take()
	out.word = "BOTH"
	side := p.peek()
	sided := false
	for _, w := range []string{"LEADING", "TRAILING", "BOTH"} {
		if next := p.tokens[min(p.next+1, len(p.tokens)-1)]; side.is(w) && !next.sign(")") {
			p.take()
			out.word, sided = w, true
			break
		}
	}
	characters := node(literal{at(side.at), table.TextValue(" ")})
	if sided && p.keyword("FROM") {
		of, err := p.sum()
		if err != nil {
			return nil, err
		}
		out.args = []node{of, characters}
		return out, p.expect(")", out.name)
	}
	first, err := p.sum()
	if err != nil {
		return nil, err
	}
	if p.keyword("FROM") {
		of, err := p.sum()
		if err != nil {
			return nil, err
		}
		out.args = []node{of, first}
	} else {
		out.args = []node{first, characters}
	}
	return out, p.expect(")", out.name)
}

// worded reads arguments with words between them; commas may stand for the words.
func (p *parser) worded(out call, words ...string) (node, error) {
	p.take()
	first, err := p.sum()
	if err != nil {
		return nil, err
	}
	out.args = []node{first}
	for i, word := range words {
		if !p.keyword(word) && !p.sign(",") {
			if i == 0 {
				return nil, p.expect(word, out.name)
			}
			break
		}
		one, err := p.sum()
		if err != nil {
			return nil, err
		}
		out.args = append(out.args, one)
	}
	return out, p.expect(")", out.name)
}

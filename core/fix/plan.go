// Package fix turns a delivery into a cleaned table by a named list of steps. It
// shows what the steps would do before they are done, keeps a log of every cell
// and row they change, and a ledger that accounts for rows and sums from what
// arrived to what is handed over. The delivery itself never changes.
package fix

import (
	"maps"
	"regexp"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

// Plan is one version of a list of steps.
type Plan struct {
	Name    string
	Dataset string
	Title   string
	Steps   []Step
	Digest  string // SHA-256 of the source, in hexadecimal
	// Old tells of words of earlier versions that the text has, and what is said now.
	Old []document.Problem
}

// Passes returns how many readings of the table the steps need before they are done: one for
// each that compares rows.
func (p *Plan) Passes() int64 {
	n := int64(0)
	for _, s := range p.Steps {
		if _, compares := s.Action.(Chooser); compares {
			n++
		}
	}
	return n
}

// Step is one thing to be done to the table that the steps before it have left.
type Step struct {
	Kind   string
	Action Action
	Reason string
}

var idShape = regexp.MustCompile(`^[a-z][a-z0-9_]{0,59}$`)

// stepLimit bounds the steps of a plan.
const stepLimit = 500

// Parse reads a fix plan against the rulebook of its dataset. Its error is a
// document.Problems with every mistake.
func Parse(source []byte, book *rulebook.Rulebook) (*Plan, error) {
	root, err := document.Parse(source)
	if err != nil {
		return nil, err
	}
	p := &parser{book: book, plan: &Plan{Digest: rulebook.DigestOf(source)}}
	p.Mapping(root, "a fix plan",
		document.Field{Name: "fix_plan", Required: true, Read: func(n *document.Node) {
			if p.plan.Name = p.Text(n, "the name of a fix plan"); !idShape.MatchString(p.plan.Name) {
				p.Fail(n,
					"the name of a fix plan is written in lower-case letters, digits and underscores, a letter first, not %q", n.Text)
			}
		}},
		document.Field{Name: "dataset", Required: true, Read: func(n *document.Node) {
			if p.plan.Dataset = p.Text(n, "dataset"); p.plan.Dataset != book.Dataset {
				p.Fail(n, "this plan is for the dataset %q, and the rulebook is that of %q", p.plan.Dataset,
					book.Dataset)
			}
		}},
		document.Field{Name: "title", Read: func(n *document.Node) { p.plan.Title = p.Text(n, "title") }},
		document.Field{Name: "steps", Required: true, Read: func(n *document.Node) { p.List(n, "steps", p.step) }},
	)
	if len(p.plan.Steps) > stepLimit {
		p.Fail(root, "%d steps are declared; at most %d can be", len(p.plan.Steps), stepLimit)
	}
	p.plan.Old = p.Old
	return p.plan, p.Err()
}

// DatasetOf returns the dataset that a fix plan is for, so that its rulebook can be
// found before the plan is read.
func DatasetOf(source []byte) (string, error) {
	root, err := document.Parse(source)
	if err != nil {
		return "", err
	}
	for _, e := range root.Entries {
		if e.Name == "dataset" && e.Value.Kind == document.Scalar {
			return e.Value.Text, nil
		}
	}
	return "", document.Problems{{Line: root.Line, Column: root.Column, Message: `a fix plan needs "dataset"`}}
}

type parser struct {
	document.Reader
	book *rulebook.Rulebook
	plan *Plan
}

// step reads the fields of a step, and has its kind make the action of them.
func (p *parser) step(n *document.Node) {
	i := &Item{parser: p, node: n, given: map[string]*document.Node{}}
	var kind *Kind
	var reason string
	fields := []document.Field{
		{Name: "do", Required: true, Read: func(n *document.Node) {
			if name := p.Choice(n, "a kind of step", names()...); name != "" {
				kind = kindOf(name)
			}
		}},
		{Name: "reason", Required: true, Read: func(n *document.Node) { reason = p.Text(n, "reason") }},
	}
	for _, f := range allFields() {
		fields = append(fields, document.Field{Name: f.Name, Old: f.Old, Read: func(n *document.Node) {
			i.given[f.Name] = n
		}})
	}
	p.Mapping(n, "a step", fields...)
	if kind == nil {
		return
	}
	before := len(p.Problems)
	for _, f := range kind.Fields {
		if f.Required && i.given[f.Name] == nil {
			p.Fail(n, "a step %q needs %q", kind.Name, f.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(i.given)) {
		if !kind.takes(name) {
			p.Fail(i.given[name], "a step %q has no %q", kind.Name, name)
		}
	}
	if action := kind.Declare(i); action != nil && len(p.Problems) == before {
		p.plan.Steps = append(p.plan.Steps, Step{kind.Name, action, reason})
	}
}

func (p *parser) column(n *document.Node, name string) string {
	if p.book.Column(name) == nil {
		names := make([]string, len(p.book.Columns))
		for i := range p.book.Columns {
			names[i] = p.book.Columns[i].Name
		}
		p.Fail(n, "there is no column %q%s", name, document.Nearest(name, names))
	}
	return name
}

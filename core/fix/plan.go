// Package fix turns a delivery into a cleaned table by a named list of steps. It
// shows what the steps would do before they are done, keeps a log of every cell
// and row they change, and a ledger that accounts for rows and sums from what
// arrived to what is handed over. The delivery itself never changes.
package fix

import (
	"cmp"
	"errors"
	"maps"
	"regexp"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

// Plan is one version of a list of steps.
type Plan struct {
	Name    string
	Dataset string
	// Makes is the dataset that the cleaned table belongs to: another one where the steps give it another shape.
	Makes  string
	Title  string
	Steps  []Step
	Digest string // SHA-256 of the source, in hexadecimal
	// Earlier says that the plan was written when tables were put in standard form without a step, and steps were done
	// that are refused now (see AsEarlier).
	Earlier bool
	// Found are the columns that each step of the text finds, also of those with mistakes, and last those that are left in
	// the end, as far as the rulebook tells.
	Found [][]string
	// Old tells of words of earlier versions that the text has, and what is said now.
	Old []document.Problem
}

// Others are the datasets that its steps read besides its own, by name.
func (p *Plan) Others() (names []string) {
	for i := range p.Steps {
		if of, reads := p.Steps[i].Action.(interface{ ReadsDataset() string }); reads && of.ReadsDataset() != "" {
			names = append(names, of.ReadsDataset())
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Step is one thing to be done to the table that the steps before it have left.
type Step struct {
	Kind   string
	Action Action
	Reason string
	Where  string // a condition: the rows that are meant; empty for all
	Off    bool   // it is switched off
	Varies bool   // how much it touches may differ from delivery to delivery
	source string // its text, written in one way
}

// bind fits a step to the columns that it finds.
func (s *Step) bind(b *Binder) (*Work, *condition.Condition) {
	var where *condition.Condition
	if s.Where != "" {
		where = b.Condition("where", s.Where)
	}
	work := s.Action.Bind(b)
	if work == nil {
		work = &Work{}
	}
	return work, where
}

// AsEarlier returns the plan as it was understood before putting a table in standard form was a step: with that as its
// last step, and without the refusals that came with it, so that the plan makes the same bytes as then.
func (p *Plan) AsEarlier() *Plan {
	copied := *p
	copied.Earlier = true
	if !slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Kind == StandardForm }) {
		copied.Steps = append(slices.Clone(p.Steps), Step{Kind: StandardForm, Action: kindOf(StandardForm).Declare(&Item{}),
			Reason: "The plan was saved when every table was put in standard form; this is a step now."})
	}
	return &copied
}

// StandardForm is the kind of step that writes values in the standard form.
const StandardForm = "standard_form"

var idShape = regexp.MustCompile(`^[a-z][a-z0-9_]{0,59}$`)

// stepLimit bounds the steps of a plan.
const stepLimit = 500

// Parse reads a fix plan against the rulebook of its dataset. Its error is a
// document.Problems with every mistake.
func Parse(source []byte, book *rulebook.Rulebook) (*Plan, error) {
	return ParseFor(source, book, book)
}

// ParseFor is Parse for a plan that makes tables of another dataset, whose rulebook says of what type new columns are.
func ParseFor(source []byte, book, result *rulebook.Rulebook) (*Plan, error) {
	root, err := document.Parse(source)
	if err != nil {
		return nil, err
	}
	p := &parser{book: book, result: result, plan: &Plan{Digest: rulebook.DigestOf(source)}, frame: declared(book)}
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
		document.Field{Name: "makes", Read: func(n *document.Node) { p.plan.Makes = p.Text(n, "makes") }},
		document.Field{Name: "title", Read: func(n *document.Node) { p.plan.Title = p.Text(n, "title") }},
		document.Field{Name: "steps", Required: true, Read: func(n *document.Node) { p.List(n, "steps", p.step) }},
	)
	if len(p.plan.Steps) > stepLimit {
		p.Fail(root, "%d steps are declared; at most %d can be", len(p.plan.Steps), stepLimit)
	}
	if p.plan.Makes == "" {
		p.plan.Makes = p.plan.Dataset
	}
	p.plan.Found = append(p.plan.Found, p.frame.Names)
	p.plan.Old = p.Old
	return p.plan, p.Err()
}

// DatasetsOf returns the dataset that a fix plan is for and the one that it makes tables of, so that their rulebooks can be
// found before the plan is read.
func DatasetsOf(source []byte) (of, makes string, err error) {
	root, err := document.Parse(source)
	if err != nil {
		return "", "", err
	}
	for _, e := range root.Entries {
		switch {
		case e.Value.Kind != document.Scalar:
		case e.Name == "dataset":
			of = e.Value.Text
		case e.Name == "makes":
			makes = e.Value.Text
		}
	}
	if of == "" {
		err = document.Problems{{Line: root.Line, Column: root.Column, Message: `a fix plan needs "dataset"`}}
	}
	return of, cmp.Or(makes, of), err
}

// MisfitOfMakes says at its place in the source what is wrong with the dataset that the plan makes.
func MisfitOfMakes(source []byte, err error) error {
	at := document.Problem{Line: 1, Column: 1, Message: err.Error()}
	if root, parseErr := document.Parse(source); parseErr == nil {
		for _, e := range root.Entries {
			if e.Name == "makes" {
				at.Line, at.Column = e.Value.Line, e.Value.Column
			}
		}
	}
	return document.Problems{at}
}

type parser struct {
	document.Reader
	book   *rulebook.Rulebook
	result *rulebook.Rulebook // of the dataset that the plan makes
	plan   *Plan
	frame  *Frame // that the steps so far leave of the declared columns
	marked bool   // a step so far estimates
}

// declared is the frame of a table that has the columns of its rulebook.
func declared(book *rulebook.Rulebook) *Frame {
	names := make([]string, len(book.Columns))
	for i, c := range book.Columns {
		names[i] = c.Name
	}
	return frameOf(book, names)
}

// step reads the fields of a step, and has its kind make the action of them.
func (p *parser) step(n *document.Node) {
	p.plan.Found = append(p.plan.Found, p.frame.Names)
	i := &Item{parser: p, node: n, given: map[string]*document.Node{}}
	var kind *Kind
	s := Step{source: sourceOf(n)}
	fields := []document.Field{
		{Name: "do", Required: true, Read: func(n *document.Node) {
			if s.Kind = p.Choice(n, "a kind of step", names()...); s.Kind != "" {
				kind = kindOf(s.Kind)
			}
		}},
		{Name: "reason", Required: true, Read: func(n *document.Node) { s.Reason = p.Text(n, "reason") }},
		{Name: "off", Read: func(n *document.Node) { s.Off = p.Truth(n, "off") }},
		{Name: "varies", Read: func(n *document.Node) { s.Varies = p.Truth(n, "varies") }},
	}
	for _, f := range allFields() {
		fields = append(fields, document.Field{Name: f.Name, Old: f.Old, Read: func(n *document.Node) {
			i.given[f.Name] = n
		}})
	}
	before := len(p.Problems)
	p.Mapping(n, "a step", fields...)
	if kind == nil {
		return
	}
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
	if kind.takes("where") {
		s.Where = i.TextOf("where")
	}
	if s.Action = kind.Declare(i); s.Action == nil || len(p.Problems) > before {
		return
	}
	if p.marked && !s.Off && !kind.KeepsMarks {
		p.Fail(n, "%v", &losesMarks{kind.Name})
		return
	}
	if !s.Off {
		work, _ := s.bind(&Binder{Frame: p.frame, Book: p.book, Result: p.result, Reading: true, wrong: i.misfit})
		if work.Frame != nil {
			p.frame = work.Frame
		}
		p.marked = p.marked || work.Estimates != nil
	}
	p.plan.Steps = append(p.plan.Steps, s)
}

// misfit records that a field does not fit the columns that the step finds, at the entry of the field that is meant.
func (i *Item) misfit(field, item string, err error) {
	n := i.given[field]
	if n == nil {
		n = i.node
	}
	for _, one := range n.Items {
		if one.Kind == document.Scalar && one.Text == item {
			n = one
			break
		}
	}
	for _, e := range n.Entries {
		if e.Name == item {
			n = &document.Node{Line: e.Line, Column: e.Column}
			break
		}
	}
	var at inside
	var no *noColumn
	switch {
	case errors.As(err, &at):
		i.FailInside(n, at.prefix, at.err)
	case errors.As(err, &no):
		i.Fail(n, "there is no column %q%s", no.name, document.Nearest(no.name, no.known))
	default:
		i.Fail(n, "%v", err)
	}
}

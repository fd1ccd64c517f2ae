// Package fix turns a delivery into a cleaned table by a named list of steps. It
// shows what the steps would do before they are done, keeps a log of every cell
// and row they change, and a ledger that accounts for rows and sums from what
// arrived to what is handed over. The delivery itself never changes.
package fix

import (
	"maps"
	"regexp"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

// Kind is what a step does.
type Kind string

// The kinds of steps.
const (
	Trim            Kind = "trim"              // take stray spaces off both ends and out of the middle
	ChangeCase      Kind = "change_case"       // to upper, lower or first
	MapCodes        Kind = "map_codes"         // other spellings to the code they stand for
	SetMissing      Kind = "set_missing"       // given texts, or the cells of rows where a condition holds, to nothing
	SetCell         Kind = "set_cell"          // one cell of the row that a key names
	SetAside        Kind = "set_aside"         // rows where a condition holds leave the table
	RemoveEqualRows Kind = "remove_equal_rows" // all but the first of rows equal in every cell
	KeepOne         Kind = "keep_one"          // one of several rows with the same key
)

var kinds = []string{string(Trim), string(ChangeCase), string(MapCodes), string(SetMissing), string(SetCell), string(SetAside), string(RemoveEqualRows), string(KeepOne)}

// Keep says which of several rows with one key survives; the earliest of equals does.
const (
	KeepFirst   = "first"   // in file order
	KeepLast    = "last"    // in file order
	KeepFullest = "fullest" // with the fewest missing cells
	KeepLargest = "largest" // value of the column named by "by", the latest for dates
	KeepLeast   = "least"   // value of that column, the earliest for dates
)

// Plan is one version of a list of steps.
type Plan struct {
	Name    string
	Dataset string
	Title   string
	Steps   []Step
	Digest  string // SHA-256 of the source, in hexadecimal
}

// Step is one thing to be done to the table that the steps before it have left.
type Step struct {
	Kind    Kind
	Columns []string             // trim, change_case, map_codes, set_missing, keep_one (the key)
	To      string               // change_case: the case; set_cell: the new text
	Values  []string             // set_missing
	Where   *condition.Condition // set_aside, set_missing
	Key     map[string]string    // set_cell: the texts of the key's columns
	Column  string               // set_cell
	Keep    string               // keep_one
	By      string               // keep_one
	Reason  string
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
				p.Fail(n, "the name of a fix plan is written in lower-case letters, digits and underscores, a letter first, not %q", n.Text)
			}
		}},
		document.Field{Name: "dataset", Required: true, Read: func(n *document.Node) {
			if p.plan.Dataset = p.Text(n, "dataset"); p.plan.Dataset != book.Dataset {
				p.Fail(n, "this plan is for the dataset %q, and the rulebook is that of %q", p.plan.Dataset, book.Dataset)
			}
		}},
		document.Field{Name: "title", Read: func(n *document.Node) { p.plan.Title = p.Text(n, "title") }},
		document.Field{Name: "steps", Required: true, Read: func(n *document.Node) { p.List(n, "steps", p.step) }},
	)
	if len(p.plan.Steps) > stepLimit {
		p.Fail(root, "%d steps are declared; at most %d can be", len(p.plan.Steps), stepLimit)
	}
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

// takes says which fields each kind of step has beside "do" and "reason"; true for those it needs.
var takes = map[Kind]map[string]bool{
	Trim:            {"columns": true},
	ChangeCase:      {"columns": true, "to": true},
	MapCodes:        {"columns": true},
	SetMissing:      {"columns": true, "values": false, "where": false},
	SetCell:         {"key": true, "column": true, "to": true},
	SetAside:        {"where": true},
	RemoveEqualRows: {},
	KeepOne:         {"columns": true, "keep": true, "by": false},
}

func (p *parser) step(n *document.Node) {
	var s Step
	given := map[string]*document.Node{}
	fields := []document.Field{
		{Name: "do", Required: true, Read: func(n *document.Node) { s.Kind = Kind(p.Choice(n, "a kind of step", kinds...)) }},
		{Name: "reason", Required: true, Read: func(n *document.Node) { s.Reason = p.Text(n, "reason") }},
	}
	field := func(name string, read func(*document.Node)) {
		fields = append(fields, document.Field{Name: name, Read: func(n *document.Node) { given[name] = n; read(n) }})
	}
	field("columns", func(n *document.Node) { s.Columns = p.columns(n) })
	field("to", func(n *document.Node) { s.To = p.Text(n, "to") })
	field("values", func(n *document.Node) { s.Values = p.Texts(n, "values") })
	field("where", func(n *document.Node) { s.Where = p.condition(n) })
	field("key", func(n *document.Node) { s.Key = p.key(n) })
	field("column", func(n *document.Node) { s.Column = p.column(n, p.Text(n, "column")) })
	field("keep", func(n *document.Node) {
		s.Keep = p.Choice(n, "a way to choose a row", KeepFirst, KeepLast, KeepFullest, KeepLargest, KeepLeast)
	})
	field("by", func(n *document.Node) { s.By = p.column(n, p.Text(n, "by")) })
	p.Mapping(n, "a step", fields...)
	wanted, known := takes[s.Kind]
	if !known {
		return
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if wanted[name] && given[name] == nil {
			p.Fail(n, "a step %q needs %q", s.Kind, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, ok := wanted[name]; !ok {
			p.Fail(given[name], "a step %q has no %q", s.Kind, name)
		}
	}
	p.details(n, given, &s)
	p.plan.Steps = append(p.plan.Steps, s)
}

func (p *parser) details(n *document.Node, given map[string]*document.Node, s *Step) {
	switch s.Kind {
	case ChangeCase:
		if at := given["to"]; at != nil {
			p.Choice(at, "a case", "upper", "lower", "first")
		}
	case MapCodes:
		for _, name := range s.Columns {
			if c := p.book.Column(name); c != nil && c.CodeList == "" {
				p.Fail(given["columns"], "%q has no code list to map to", name)
			}
		}
	case SetMissing:
		if (given["values"] == nil) == (given["where"] == nil) {
			p.Fail(n, "a step \"set_missing\" has either \"values\" or \"where\"")
		}
	case KeepOne:
		if byColumn := s.Keep == KeepLargest || s.Keep == KeepLeast; byColumn != (given["by"] != nil) {
			p.Fail(n, "\"by\" names the column that decides; it goes with keep: largest and keep: least, and these need it")
		}
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

func (p *parser) columns(n *document.Node) []string {
	names := p.Texts(n, "columns")
	for i, name := range names {
		at := n
		if n.Kind == document.List {
			at = n.Items[i]
		}
		p.column(at, name)
	}
	return names
}

func (p *parser) key(n *document.Node) map[string]string {
	key := map[string]string{}
	if n.Kind != document.Mapping {
		p.Fail(n, "a key gives each of its columns the text to look for, as {sample_id: NG-00012}")
		return key
	}
	for _, e := range n.Entries {
		p.column(&document.Node{Line: e.Line, Column: e.Column}, e.Name)
		key[e.Name] = p.Text(e.Value, "the text of a key")
	}
	return key
}

func (p *parser) condition(n *document.Node) *condition.Condition {
	parsed, errs := condition.Compile(p.Text(n, "where"), p.book.Types())
	for _, err := range errs {
		p.FailInside(n, "in the condition: ", err)
	}
	return parsed
}

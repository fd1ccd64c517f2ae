// Package document reads what stewards declare (rulebooks, fix plans, merges):
// YAML, strictly, every mistake at once and each with its line and column.
package document

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Kind is what a node of a declaration is.
type Kind uint8

// The kinds of nodes.
const (
	Scalar Kind = iota
	List
	Mapping
	Null
)

// String names the kind as messages do.
func (k Kind) String() string {
	return [...]string{"a single value", "a list", "a group of names and values", "nothing"}[k]
}

// Node is a piece of a declaration with its place.
type Node struct {
	Kind         Kind
	Line, Column int // from 1
	Text         string
	Quoted       bool // the text starts one column later
	Items        []*Node
	Entries      []Entry
}

// Entry is one name of a mapping with its value.
type Entry struct {
	Name         string
	Line, Column int
	Value        *Node
}

// Problem is a mistake at a place.
type Problem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

// String writes the problem with its place first.
func (p Problem) String() string {
	return fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Message)
}

// Problems is every mistake found in a declaration; it is an error.
type Problems []Problem

// Error implements error, one line per problem.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = one.String()
	}
	return strings.Join(lines, "\n")
}

// Parse reads YAML into nodes. Its error is of type Problems.
func Parse(source []byte) (*Node, error) {
	if err := bounded(source); err != nil {
		return nil, err
	}
	file, err := parse(source)
	if err != nil {
		return nil, Problems{syntaxProblem(err)}
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, Problems{{1, 1, "the declaration is empty"}}
	}
	if len(file.Docs) > 1 {
		p := Problem{1, 1, "a second document starts after the first; a declaration is one document"}
		if start := file.Docs[1].Start; start != nil {
			p.Line, p.Column, p.Message = start.Position.Line, start.Position.Column,
				"a second document starts here; a declaration is one document"
		}
		return nil, Problems{p}
	}
	c := &converter{}
	root := c.convert(file.Docs[0].Body, 0)
	if len(c.problems) > 0 {
		return nil, c.problems
	}
	return root, nil
}

// parse calls the YAML parser, which panics on some texts that are not YAML.
func parse(source []byte) (file *ast.File, err error) {
	defer func() {
		if problem := recover(); problem != nil {
			err = fmt.Errorf("it cannot be taken apart: %v", problem)
		}
	}()
	return parser.ParseBytes(source, 0)
}

// syntaxProblem takes the place out of the parser's error, which starts "[line:column] message".
func syntaxProblem(err error) Problem {
	text := err.Error()
	p := Problem{Line: 1, Column: 1}
	if _, scanErr := fmt.Sscanf(text, "[%d:%d]", &p.Line, &p.Column); scanErr == nil {
		text = text[strings.Index(text, "]")+1:]
	}
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	p.Message = "this is not YAML: " + text
	return p
}

type converter struct{ problems Problems }

func (c *converter) convert(n ast.Node, depth int) *Node {
	token := n.GetToken()
	out := &Node{Line: token.Position.Line, Column: token.Position.Column}
	if depth > 2*depthLimit {
		c.problems = append(c.problems, Problem{out.Line, out.Column, "nested too deeply"})
		return out
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		out.Kind = Mapping
		for _, v := range n.Values {
			c.entry(out, v, depth)
		}
	case *ast.MappingValueNode:
		out.Kind = Mapping
		c.entry(out, n, depth)
	case *ast.SequenceNode:
		out.Kind = List
		for _, v := range n.Values {
			out.Items = append(out.Items, c.convert(v, depth+1))
		}
	case *ast.NullNode:
		out.Kind = Null
	case *ast.LiteralNode:
		out.Text = n.Value.Value
	case *ast.StringNode:
		out.Text = n.Value
		out.Quoted = strings.HasPrefix(strings.TrimSpace(token.Origin), `"`) ||
			strings.HasPrefix(strings.TrimSpace(token.Origin), `'`)
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		out.Text = token.Value
	default:
		c.problems = append(c.problems, Problem{out.Line, out.Column,
			"anchors, aliases, tags and merge keys are not used here; write the value out"})
	}
	if len(out.Entries) > 0 {
		out.Line, out.Column = out.Entries[0].Line, out.Entries[0].Column
	}
	return out
}

func (c *converter) entry(out *Node, v *ast.MappingValueNode, depth int) {
	token := v.Key.GetToken()
	value := c.convert(v.Value, depth+1)
	out.Entries = append(out.Entries, Entry{token.Value, token.Position.Line, token.Position.Column, value})
}

// Reader takes a declaration apart and collects every problem met on the way.
type Reader struct {
	Problems Problems
	// Old tells of words of earlier versions that were met, and what is said now.
	Old []Problem
}

// Fail records a problem at a node.
func (r *Reader) Fail(n *Node, format string, args ...any) {
	r.FailAt(n.Line, n.Column, format, args...)
}

// FailAt records a problem at a place.
func (r *Reader) FailAt(line, column int, format string, args ...any) {
	r.Problems = append(r.Problems, Problem{line, column, fmt.Sprintf(format, args...)})
}

// FailInside records a mistake in the text of n: an error that knows its place
// there, by a method Inside, is placed in the document.
func (r *Reader) FailInside(n *Node, prefix string, err error) {
	var inside interface{ Inside() (int, string) }
	if !errors.As(err, &inside) {
		r.Fail(n, "%s%v", prefix, err)
		return
	}
	at, message := inside.Inside()
	column := n.Column + at - 1
	if n.Quoted {
		column++
	}
	r.FailAt(n.Line, column, "%s%s", prefix, message)
}

// Err returns the problems in the order of the document, or nil.
func (r *Reader) Err() error {
	if len(r.Problems) == 0 {
		return nil
	}
	sort.SliceStable(r.Problems, func(i, j int) bool {
		a, b := r.Problems[i], r.Problems[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return r.Problems
}

// Field is a name that a mapping may have, and what reads its value.
type Field struct {
	Name     string
	Required bool
	Old      string // its name in earlier versions, which is still read
	Read     func(*Node)
}

// Mapping hands each value of n to its field. what names the mapping in messages, as "a column".
func (r *Reader) Mapping(n *Node, what string, fields ...Field) {
	if n.Kind != Mapping {
		r.Fail(n, "%s is declared by names and values, and this is %s", what, n.Kind)
		return
	}
	names := make([]string, len(fields))
	byName := map[string]*Field{}
	for i := range fields {
		names[i] = fields[i].Name
		byName[fields[i].Name] = &fields[i]
		if old := fields[i].Old; old != "" {
			byName[old] = &fields[i]
		}
	}
	seen := map[string]bool{}
	for _, e := range n.Entries {
		field := byName[e.Name]
		if field == nil {
			r.FailAt(e.Line, e.Column, "%s has no %q%s", what, e.Name, Nearest(e.Name, names))
			continue
		}
		if seen[field.Name] {
			r.FailAt(e.Line, e.Column, "%q stands twice in %s", e.Name, what)
			continue
		}
		seen[field.Name] = true
		if e.Name == field.Old {
			r.old(e.Line, e.Column, e.Name, field.Name)
		}
		field.Read(e.Value)
	}
	for _, f := range fields {
		if f.Required && !seen[f.Name] {
			r.Fail(n, "%s needs %q", what, f.Name)
		}
	}
}

// List hands each item to read.
func (r *Reader) List(n *Node, what string, read func(*Node)) {
	if n.Kind == Null {
		return
	}
	if n.Kind != List {
		r.Fail(n, "%s is a list (lines starting with \"- \"), and this is %s", what, n.Kind)
		return
	}
	for _, item := range n.Items {
		read(item)
	}
}

// Text returns the text of a single value.
func (r *Reader) Text(n *Node, what string) string {
	if n.Kind != Scalar {
		r.Fail(n, "%s is a single value, and this is %s", what, n.Kind)
	}
	return n.Text
}

// Texts returns a list of single values; one value alone is a list of one.
func (r *Reader) Texts(n *Node, what string) []string {
	if n.Kind == Scalar {
		return []string{n.Text}
	}
	texts := []string{}
	r.List(n, what, func(item *Node) { texts = append(texts, r.Text(item, "an entry of "+what)) })
	return texts
}

// Truth returns true or false.
func (r *Reader) Truth(n *Node, what string) bool {
	if n.Kind != Scalar || (n.Text != "true" && n.Text != "false") {
		r.Fail(n, "%s is true or false, not %q", what, n.Text)
	}
	return n.Text == "true"
}

// Whole returns a whole number.
func (r *Reader) Whole(n *Node, what string) int {
	v, err := strconv.Atoi(n.Text)
	if n.Kind != Scalar || err != nil {
		r.Fail(n, "%s is a whole number, not %q", what, n.Text)
	}
	return v
}

// Choice returns the text of n, which must be one of the choices.
func (r *Reader) Choice(n *Node, what string, choices ...string) string {
	for _, c := range choices {
		if n.Kind == Scalar && n.Text == c {
			return c
		}
	}
	r.Fail(n, "%q is not %s%s", n.Text, what, Nearest(n.Text, choices))
	return ""
}

// ChoiceOrOld is Choice with words of earlier versions, each with what is said now.
func (r *Reader) ChoiceOrOld(n *Node, what string, old map[string]string, choices ...string) string {
	if now, known := old[n.Text]; known && n.Kind == Scalar {
		r.old(n.Line, n.Column, n.Text, now)
		return now
	}
	return r.Choice(n, what, choices...)
}

// OldWord notes that a word is one of earlier versions, with what is said now.
func (r *Reader) OldWord(n *Node, word, now string) { r.old(n.Line, n.Column, word, now) }

func (r *Reader) old(line, column int, word, now string) {
	r.Old = append(r.Old, Problem{line, column, fmt.Sprintf("%q is an old word for %q; it is still understood", word,
		now)})
}

// Nearest returns "; did you mean …?" with the known name most like the given
// one, or the known names where none is alike.
func Nearest(name string, known []string) string {
	best, distance := "", len(name)/2+1
	for _, one := range known {
		if d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(one)); d < distance {
			best, distance = one, d
		}
	}
	if best != "" {
		return fmt.Sprintf("; did you mean %q?", best)
	}
	if len(known) > 12 {
		known = append(known[:12:12], "…")
	}
	return "; known are " + strings.Join(known, ", ")
}

package fix

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Kind is a kind of step: what it takes in a declaration, and what it makes of it. Package
// steps has one file for each, which registers it.
type Kind struct {
	Name   string  // what "do" names
	Says   string  // what it does
	Fields []Field // beside "do" and "reason"
	// KeepsMarks says that a step of the kind can follow on one that estimates: it leaves rows their numbers, and no cell
	// takes over what stands in another one.
	KeepsMarks bool
	// Example shows the kind at work, for the guide.
	Example Example
	// Declare reads the fields of a step; nil where they are wrong, which Item notes.
	Declare func(i *Item) Action
}

// Field is a field of a step.
type Field struct {
	Name     string
	Says     string   // what it declares
	Kind     string   // as rulebook.FieldForm has it; text where it is left out
	Choices  []string // of which it is one
	Required bool
	Old      string // its name in earlier versions, which is still read
}

// Example is a step with the rows that it is done to. Rows are lines of the table of ExampleBook, without its header.
type Example struct {
	Rows string
	Step string // its fields, as in {do: trim, columns: [site]}
}

// ExampleBook is the rulebook of the examples: results as a laboratory sends them.
const ExampleBook = `dataset: results
reading: {decimal_mark: ",", delimiter: ";", dates: dd/MM/yyyy, missing: [n/a]}
columns:
  - {name: sample}
  - {name: station}
  - {name: parameter, type: code, codes: parameters}
  - {name: value, type: decimal}
  - {name: taken, type: date}
code_lists:
  parameters: [{code: PH, spellings: [acidity]}, NO3]
measures: [value]
pass_mark: 0
`

// ExampleHeader is the header of the examples.
const ExampleHeader = "sample;station;parameter;value;taken\n"

// Examples visits the kinds with their examples, in their order.
func Examples(visit func(name, says string, example Example)) {
	for _, k := range kinds {
		visit(k.Name, k.Says, k.Example)
	}
}

// Forms are the parts of a fix plan that a person writes, with their fields.
func Forms() []rulebook.SectionForm {
	step := []rulebook.FieldForm{
		{Name: "do", Kind: "choice", Choices: names(), Required: true, Says: "What is done"},
		{Name: "reason", Kind: "text", Required: true, Says: "Why, for whoever reads the change log"},
		{Name: "off", Kind: "truth", Says: "The step is switched off"},
		{Name: "varies", Kind: "truth", Says: "How much the step touches may differ from delivery to delivery; it stops for a look otherwise, where it is ten times as much"},
	}
	for _, f := range allFields() {
		var takers []string
		for _, k := range kinds {
			if k.takes(f.Name) {
				takers = append(takers, k.Name)
			}
		}
		step = append(step, rulebook.FieldForm{Name: f.Name, Kind: cmp.Or(f.Kind, "text"), Choices: f.Choices, Says: f.Says,
			Required: f.Required, For: takers})
	}
	return []rulebook.SectionForm{
		{Name: "fix_plan", Title: "the fix plan itself", Single: true, Form: []rulebook.FieldForm{
			{Name: "fix_plan", Kind: "text", Required: true, Says: "Its name"},
			{Name: "dataset", Kind: "text", Required: true, Says: "The dataset whose deliveries it puts right"},
			{Name: "makes", Kind: "text", Says: "The dataset that the cleaned tables belong to, where the steps give them another shape"},
			{Name: "title", Kind: "text", Says: "What it is for, in a few words"},
		}},
		{Name: "steps", Title: "a step", Form: step},
	}
}

// KindForm is a kind of step with its fields.
type KindForm struct {
	Name   string               `json:"name"`
	Says   string               `json:"says"`
	Fields []rulebook.FieldForm `json:"fields"`
}

// KindForms are all kinds of steps with their fields, as a person writes them.
func KindForms() []KindForm {
	out := make([]KindForm, len(kinds))
	for i, k := range kinds {
		out[i] = KindForm{k.Name, k.Says, []rulebook.FieldForm{}}
		for _, f := range k.Fields {
			out[i].Fields = append(out[i].Fields, rulebook.FieldForm{Name: f.Name, Says: f.Says, Kind: cmp.Or(f.Kind, "text"), Choices: f.Choices, Required: f.Required})
		}
	}
	return out
}

// Guide lists every kind of step with the fields that it takes, as a table in Markdown: what the
// kinds say of themselves.
func Guide() string {
	var b strings.Builder
	b.WriteString("| step | what it does | field | what it declares |\n|---|---|---|---|\n")
	for _, k := range kinds {
		does := k.Says
		if len(k.Fields) == 0 {
			fmt.Fprintf(&b, "| `%s` | %s | | |\n", k.Name, does)
		}
		for at, f := range k.Fields {
			step, needed := "", ""
			if at == 0 {
				step = "`" + k.Name + "`"
			} else {
				does = ""
			}
			if f.Required {
				needed = " (needed)"
			}
			fmt.Fprintf(&b, "| %s | %s | `%s` | %s%s |\n", step, does, f.Name, strings.ToLower(f.Says[:1])+f.Says[1:], needed)
		}
	}
	return b.String()
}

func (k *Kind) takes(field string) bool {
	return slices.ContainsFunc(k.Fields, func(f Field) bool { return f.Name == field })
}

var kinds []*Kind

// Register adds a kind of step. It is called as the program starts, by the file of the kind.
func Register(k Kind) {
	kinds = append(kinds, &k)
	slices.SortFunc(kinds, func(a, b *Kind) int { return cmp.Compare(a.Name, b.Name) })
}

func kindOf(name string) *Kind {
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

func names() []string {
	out := make([]string, len(kinds))
	for i, k := range kinds {
		out[i] = k.Name
	}
	return out
}

// allFields lists the fields of all kinds, each once.
func allFields() []Field {
	var out []Field
	for _, k := range kinds {
		for _, f := range k.Fields {
			if !slices.ContainsFunc(out, func(one Field) bool { return one.Name == f.Name }) {
				out = append(out, f)
			}
		}
	}
	return out
}

// Action is what a step declares. It may be bound any number of times, by several goroutines.
type Action interface {
	// Bind fits the step to the columns that it finds, and notes what does not fit. What it returns is not used then.
	Bind(b *Binder) *Work
}

// Item is a step as its text gives it.
type Item struct {
	*parser
	node  *document.Node
	given map[string]*document.Node
}

// Gives reports whether the step has a field.
func (i *Item) Gives(field string) bool { return i.given[field] != nil }

// Wrong records a mistake in a field, or in the step where it has no such field.
func (i *Item) Wrong(field, format string, args ...any) {
	at := i.given[field]
	if at == nil {
		at = i.node
	}
	i.Fail(at, format, args...)
}

// TextOf returns the text of a field.
func (i *Item) TextOf(field string) string {
	if !i.Gives(field) {
		return ""
	}
	return i.Text(i.given[field], field)
}

// TextsOf returns a field that is one text or several.
func (i *Item) TextsOf(field string) []string {
	if !i.Gives(field) {
		return nil
	}
	return i.Texts(i.given[field], field)
}

// ChoiceOf returns one of some words. Old words, by the one that stands for each now, are noted.
func (i *Item) ChoiceOf(field, what string, old map[string]string, choices ...string) string {
	if !i.Gives(field) {
		return ""
	}
	return i.ChoiceOrOld(i.given[field], what, old, choices...)
}

// TruthOf returns a field that is true or false; false where it is left out.
func (i *Item) TruthOf(field string) bool { return i.Gives(field) && i.Truth(i.given[field], field) }

// WholeOf returns a field that is a whole number between two; 0 where it is left out.
func (i *Item) WholeOf(field string, least, most int) int {
	if !i.Gives(field) {
		return 0
	}
	n := i.Whole(i.given[field], field)
	if n < least || n > most {
		i.Wrong(field, "%s is a whole number from %d to %d, not %d", field, least, most, n)
	}
	return n
}

// NumberOf returns a field that is a number, exactly as it is written.
func (i *Item) NumberOf(field string) (table.Decimal, bool) {
	if !i.Gives(field) {
		return table.Decimal{}, false
	}
	text := i.TextOf(field)
	d, ok := table.ParseDecimal(text)
	if !ok {
		i.Wrong(field, "%s is a number, as 0.001, not %q", field, text)
	}
	return d, ok
}

// Pair is a name with what it stands for.
type Pair struct{ Name, Text string }

// PairsOf returns a field that gives names what they stand for, in their order; example shows one.
func (i *Item) PairsOf(field, example string) []Pair {
	n := i.given[field]
	if n == nil {
		return nil
	}
	if n.Kind != document.Mapping || len(n.Entries) == 0 {
		i.Fail(n, "%q has names, each with what it stands for, as %s", field, example)
		return nil
	}
	var out []Pair
	for _, e := range n.Entries {
		if slices.ContainsFunc(out, func(p Pair) bool { return p.Name == e.Name }) {
			i.FailAt(e.Line, e.Column, "%q stands twice in %q", e.Name, field)
		}
		out = append(out, Pair{e.Name, i.Text(e.Value, "what "+e.Name+" stands for")})
	}
	return out
}

// ListOf hands each entry of a field, which is a list of mappings, to read.
func (i *Item) ListOf(field string, read func(entry *Item), fields ...string) {
	if !i.Gives(field) {
		return
	}
	i.List(i.given[field], field, func(n *document.Node) {
		entry := &Item{parser: i.parser, node: n, given: map[string]*document.Node{}}
		var known []document.Field
		for _, name := range fields {
			known = append(known, document.Field{Name: name, Required: true, Read: func(n *document.Node) { entry.given[name] = n }})
		}
		i.Mapping(n, "an entry of "+field, known...)
		read(entry)
	})
}

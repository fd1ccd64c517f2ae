package fix

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
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

// Forms are the parts of a fix plan that a person writes, with their fields.
func Forms() []rulebook.SectionForm {
	step := []rulebook.FieldForm{
		{Name: "do", Kind: "choice", Choices: names(), Required: true, Says: "What is done"},
		{Name: "reason", Kind: "text", Required: true, Says: "Why, for whoever reads the change log"},
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
			{Name: "title", Kind: "text", Says: "What it is for, in a few words"},
		}},
		{Name: "steps", Title: "a step", Form: step},
	}
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
func Register(k Kind) { kinds = append(kinds, &k) }

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

// Action is what a step does. It is a Rewriter, a Setter, a Remover or a Chooser.
type Action interface {
	// Columns names the columns that the table must have.
	Columns() []string
}

// Rewriter gives every text of its columns a new one, once per distinct text.
type Rewriter interface {
	Action
	Rewrite(c *rulebook.Cells, text string) string
}

// Setter gives cells of some rows one text.
type Setter interface {
	Action
	// Sets returns the columns whose cells are set, and their text.
	Sets() (columns []string, text string)
	// Chosen returns which rows of a batch are meant.
	Chosen(rows rulebook.Batch) func(at int) bool
}

// Remover takes rows out of the table.
type Remover interface {
	Action
	// Drops returns which rows of a batch leave.
	Drops(rows rulebook.Batch) func(at int) bool
}

// Chooser keeps one of several rows that belong together, found in a reading of its own. Of
// equals the earliest stays.
type Chooser interface {
	Action
	// Groups returns by what the rows of a batch belong together; a row may belong to none.
	Groups(rows rulebook.Batch) func(at int) (h table.Hash, whole bool)
	// Ranks returns what decides between them.
	Ranks(rows rulebook.Batch) func(at int) table.Value
	// Better reports whether a later row with value is to be kept instead of one with chosen.
	Better(value, chosen table.Value) bool
}

// Noter says what a steward should look at, by how many rows were meant.
type Noter interface{ Note(matched int64) string }

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

// Declared returns the declaration of a column, or nil.
func (i *Item) Declared(column string) *rulebook.Column { return i.book.Column(column) }

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

// ColumnOf returns the name of a declared column.
func (i *Item) ColumnOf(field string) string {
	if !i.Gives(field) {
		return ""
	}
	return i.column(i.given[field], i.Text(i.given[field], field))
}

// ColumnsOf returns the names of declared columns.
func (i *Item) ColumnsOf(field string) []string {
	n := i.given[field]
	if n == nil {
		return nil
	}
	names := i.Texts(n, field)
	for k, name := range names {
		at := n
		if n.Kind == document.List {
			at = n.Items[k]
		}
		i.column(at, name)
	}
	return names
}

// KeyOf returns the texts to look for by the columns that they stand in.
func (i *Item) KeyOf(field string) map[string]string {
	key := map[string]string{}
	n := i.given[field]
	if n == nil {
		return key
	}
	if n.Kind != document.Mapping {
		i.Fail(n, "a key gives each of its columns the text to look for, as {sample_id: HG-00012}")
		return key
	}
	for _, e := range n.Entries {
		i.column(&document.Node{Line: e.Line, Column: e.Column}, e.Name)
		key[e.Name] = i.Text(e.Value, "the text of a key")
	}
	return key
}

// ConditionOf returns a condition, checked against the columns; nil where it is wrong.
func (i *Item) ConditionOf(field string) *condition.Condition {
	n := i.given[field]
	if n == nil {
		return nil
	}
	parsed, errs := condition.Compile(i.Text(n, field), i.book.Types())
	for _, err := range errs {
		i.FailInside(n, "in the condition: ", err)
	}
	return parsed
}

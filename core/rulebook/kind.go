package rulebook

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Kind is a kind of rule: what it takes in a declaration, and what it makes of it. Package
// rules has one file for each, which registers it.
type Kind struct {
	// Name is what its findings are called by, what a rule of a column has at the end of its id,
	// and what "check" names where a section has several kinds.
	Name    string
	Section string
	// Place orders the rules of a section. Those from 100 on come after the others of all columns.
	Place     int
	Dimension Dimension
	// Says is what it asks, where it has no field that says so.
	Says   string
	Fields []FieldForm
	// Declare reads the fields of an item; nil where it declares no such rule.
	Declare func(i *Item) Rule
}

// FindingKind is what a finding of the kind is called by.
func (k *Kind) FindingKind() string {
	if s := SectionOf(k.Section); s.Checked {
		return s.Finding
	}
	return k.Name
}

// FieldForm is a field of an item: what it is in a form, in words, and elsewhere.
type FieldForm struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind" enum:"text,texts,number,truth,choice,column,columns,codes,condition,datasets,elsewhere,expression,pairs,entries"`
	Choices  []string `json:"choices,omitempty"`
	Says     string   `json:"says"` // what it declares
	Required bool     `json:"required,omitempty"`
	For      []string `json:"for,omitempty"` // the checks that take it; all where it is left out
	// Aspect names it where two versions are compared; "" leaves it out.
	Aspect string `json:"-"`
	// Default is the value that goes without saying.
	Default string `json:"-"`
	// Otherwise is what counts where it is not declared, where a form shows that.
	Otherwise string `json:"otherwise,omitempty"`
	// CSVW is the property of the metadata that carries it: required, minimum, maximum, minLength,
	// maxLength or format; "-" where it is carried otherwise, "" for none.
	CSVW string `json:"-"`
	// Eases says which change of it asks less of a table; every field with an Aspect has one.
	Eases Eases `json:"-"`
}

var kinds []*Kind

// Register adds a kind of rule. It is called as the program starts, by the file of the kind.
func Register(k Kind) {
	if SectionOf(k.Section) == nil {
		panic("rulebook: no section " + k.Section)
	}
	kinds = append(kinds, &k)
	slices.SortStableFunc(kinds, func(a, b *Kind) int {
		return cmp.Or(cmp.Compare(rank(a.Section), rank(b.Section)), cmp.Compare(a.Place, b.Place))
	})
}

// Kinds lists the kinds of rules in the order in which they are judged.
func Kinds() []*Kind { return kinds }

// Section is a part of a rulebook whose items are rules, or have rules.
type Section struct {
	Name    string
	Title   string // one item, as "a column"
	Subject string // before the name of an item, as "column"
	Single  bool   // it is no list but one item
	// Checked says that each item has one rule, of the kind that its field "check" names.
	Checked bool
	Finding string // of a Checked section: the kind of its findings
	Head    []FieldForm
	Default Severity // of an item
	Asks    string   // of a Checked section: what "check" declares
	Choice  string   // of a Checked section: what a check is, in messages
	// Quiet says that its items are no rules, and have no severity.
	Quiet bool
}

var idForm = FieldForm{Name: "id", Kind: "text", Required: true,
	Says: "Its name, in lower-case letters, digits and underscores"}

// lastForms are the fields that every item has.
var lastForms = []FieldForm{
	{Name: "severity", Kind: "choice", Choices: Severities, Says: "What it means for the table when it is broken",
		Aspect: "severity", CSVW: "-", Eases: EasesLater},
	{Name: "reason", Kind: "text", Says: "Why it must hold", Aspect: "reason", CSVW: "-", Eases: EasesNever},
}

var sections = []Section{
	{Name: "columns", Title: "a column", Subject: "column", Head: columnForms, Default: Minor},
	{Name: "keys", Title: "a key", Subject: "key", Head: []FieldForm{idForm}, Default: Major},
	{Name: "equal_rows", Title: "equal_rows", Subject: "rule against equal rows", Single: true, Default: Minor},
	{Name: "rules", Title: "a rule on rows", Subject: "rule", Head: []FieldForm{idForm}, Default: Minor},
	{Name: "table_rules", Title: "a rule on the table", Subject: "table rule", Checked: true, Finding: "table",
		Head: []FieldForm{idForm}, Default: Minor, Asks: "What is asked of the table as a whole",
		Choice: "a check of a table"},
	{Name: "references", Title: "a reference", Subject: "reference", Head: []FieldForm{idForm}, Default: Minor},
	{Name: "history", Title: "a rule against earlier deliveries", Subject: "history rule", Checked: true,
		Finding: "history", Head: []FieldForm{idForm}, Default: Minor, Asks: "What is compared with earlier deliveries",
		Choice: "a check against earlier deliveries"},
	{Name: MeantSoSection, Title: "what looks odd and is meant so", Subject: "what is meant so", Quiet: true, Head: meantForms},
}

func rank(section string) int {
	return slices.IndexFunc(sections, func(s Section) bool { return s.Name == section })
}

// SectionOf returns a section by its name, or nil.
func SectionOf(name string) *Section {
	if at := rank(name); at >= 0 {
		return &sections[at]
	}
	return nil
}

// KindsOf lists the kinds of rules of a section in the order in which they are judged.
func KindsOf(section string) []*Kind {
	var out []*Kind
	for _, k := range kinds {
		if k.Section == section {
			out = append(out, k)
		}
	}
	return out
}

// forms lists the fields of a section's items. A field that several kinds take is listed once.
func (s *Section) forms() []FieldForm {
	out := slices.Clone(s.Head)
	if s.Checked {
		check := FieldForm{Name: "check", Kind: "choice", Required: true, Says: s.Asks, Aspect: "check", Eases: EasesAny}
		for _, k := range KindsOf(s.Name) {
			check.Choices = append(check.Choices, k.Name)
		}
		out = append(out, check)
	}
	for _, k := range KindsOf(s.Name) {
		for _, f := range k.Fields {
			at := slices.IndexFunc(out, func(one FieldForm) bool { return one.Name == f.Name })
			if at < 0 {
				at = len(out)
				if out = append(out, f); s.Checked {
					out[at].Required = false // it is, for some checks
				}
			}
			if s.Checked {
				out[at].For = append(out[at].For, k.Name)
			}
		}
	}
	if s.Quiet {
		return append(out, FieldForm{Name: "reason", Kind: "text", Says: "Why it is meant so", Aspect: "reason", Eases: EasesNever})
	}
	return append(out, lastForms...)
}

// Item is an item of a section as its text gives it. Whatever is read of it is remembered for
// comparing versions.
type Item struct {
	*parser
	section  *Section
	node     *document.Node // nil where nobody wrote it
	given    map[string]*document.Node
	facts    map[string]string   // by field, as they were read
	entries  map[string][]string // of those that are lists
	Name     string              // its name or id
	Column   *Column             // of the section columns
	Severity Severity
	Reason   string
	kind     *Kind
}

// Gives reports whether the item has a field.
func (i *Item) Gives(field string) bool { return i.given[field] != nil }

// Said returns what a field was read to say.
func (i *Item) Said(field string) (value string, ok bool) {
	value, ok = i.facts[field]
	return value, ok
}

// Wrong records a mistake in a field, or in the item where it has no such field.
func (i *Item) Wrong(field, format string, args ...any) {
	at := i.given[field]
	if at == nil {
		at = i.node
	}
	i.Fail(at, format, args...)
}

// note remembers what a field says.
func (i *Item) note(field, value string) { i.facts[field] = value }

// noteList remembers the entries of a field that is a list.
func (i *Item) noteList(field string, entries []string) {
	if i.entries == nil {
		i.entries = map[string][]string{}
	}
	i.entries[field] = entries
	i.note(field, document.Join(entries))
}

// TextOf returns the text of a field.
func (i *Item) TextOf(field string) string {
	if !i.Gives(field) {
		return ""
	}
	text := i.Text(i.given[field], field)
	i.note(field, text)
	return text
}

// ChoiceOf returns a field that is one of some words; what says what they are, in messages.
func (i *Item) ChoiceOf(field, what string, choices ...string) string {
	if !i.Gives(field) {
		return ""
	}
	word := i.Choice(i.given[field], what, choices...)
	i.note(field, word)
	return word
}

// TextsOf returns a field that is one text or several.
func (i *Item) TextsOf(field string) []string {
	if !i.Gives(field) {
		return nil
	}
	texts := i.Texts(i.given[field], field)
	i.noteList(field, texts)
	return texts
}

// TruthOf returns a field that is true or false.
func (i *Item) TruthOf(field string) bool {
	if !i.Gives(field) || !i.Truth(i.given[field], field) {
		return false
	}
	i.note(field, "yes")
	return true
}

// NumberOf returns a number; says is what is asked of it, in messages.
func (i *Item) NumberOf(field, says string, least, most float64) float64 {
	if !i.Gives(field) {
		return 0
	}
	v := i.number(i.given[field], says, least, most)
	i.note(field, strconv.FormatFloat(v, 'f', -1, 64))
	return v
}

// PercentageOf returns a number from 0 to 100.
func (i *Item) PercentageOf(field string) float64 {
	return i.NumberOf(field, field+" is a percentage from 0 to 100", 0, 100)
}

// CountOf returns a whole number that is not below 0.
func (i *Item) CountOf(field string) int {
	if !i.Gives(field) {
		return 0
	}
	v := i.count(i.given[field], field)
	i.note(field, strconv.Itoa(v))
	return v
}

// AmountOf returns an exact number that is not below 0.
func (i *Item) AmountOf(field string) table.Decimal {
	if !i.Gives(field) {
		return table.Decimal{}
	}
	d := i.amount(i.given[field], "a "+field)
	if d.Sign() > 0 {
		i.note(field, d.Shortest())
	}
	return d
}

// BoundOf returns a value of the item's column.
func (i *Item) BoundOf(field string) *table.Value {
	if !i.Gives(field) {
		return nil
	}
	v := i.bound(i.given[field], i.Column)
	if v != nil {
		i.note(field, v.Standard())
	}
	return v
}

// ColumnsOf returns the names of declared columns; accept says why one cannot be taken.
func (i *Item) ColumnsOf(field, what string, accept func(*Column) string) []string {
	if !i.Gives(field) {
		return nil
	}
	names := i.columns(i.given[field], what, accept)
	i.noteList(field, names)
	return names
}

// ColumnOf returns the name of one declared column.
func (i *Item) ColumnOf(field string, accept func(*Column) string) string {
	n := i.given[field]
	if n == nil {
		return ""
	}
	if n.Kind != document.Scalar {
		i.Fail(n, "%s is one column, and this is %s", field, n.Kind)
		return ""
	}
	i.note(field, n.Text)
	return i.columns(n, field, accept)[0]
}

// ConditionOf returns a condition, checked against the columns; nil where it cannot be read.
func (i *Item) ConditionOf(field string) *condition.Condition { return i.ConditionWithin(field, "") }

// ConditionWithin returns a condition whose two sides may differ by what another field gives.
func (i *Item) ConditionWithin(field, tolerance string) *condition.Condition {
	if !i.Gives(field) {
		return nil
	}
	parsed, mistakes := condition.Parse(i.Text(i.given[field], "condition"))
	for _, mistake := range mistakes {
		i.FailInside(i.given[field], "in the condition: ", mistake)
	}
	if parsed == nil {
		return nil
	}
	i.note(field, parsed.String())
	if i.Gives(tolerance) {
		if err := parsed.Tolerate(i.AmountOf(tolerance)); err != nil {
			i.Wrong(tolerance, "%v", err)
		}
	}
	for _, err := range parsed.Check(i.book.Types()) {
		i.FailInside(i.given[field], "in the condition: ", err)
	}
	return parsed
}

// ExpressionOf returns what is worked out in each row, a number; nil where it cannot be read.
func (i *Item) ExpressionOf(field string) *condition.Expression {
	if !i.Gives(field) {
		return nil
	}
	text := i.Text(i.given[field], field)
	x, mistakes := condition.CompileExpression(text, i.book.Types())
	for _, mistake := range mistakes {
		i.FailInside(i.given[field], "in the expression: ", mistake)
	}
	switch {
	case len(mistakes) > 0:
		return nil
	case x.Kind != table.Number:
		i.Wrong(field, "%s is a %s, and a number is wanted", text, x.Kind)
	}
	i.note(field, text)
	return x
}

// ElsewhereOf returns so many columns of another dataset; says is why they are so many.
func (i *Item) ElsewhereOf(field string, count int, says string) *Elsewhere {
	if !i.Gives(field) {
		return nil
	}
	e := i.elsewhere(i.given[field])
	i.wantColumns(i.given[field], e, count, says)
	i.note(field, e.String())
	return e
}

// Require makes columns required, as a key does with its own.
func (i *Item) Require(columns []string) {
	for _, name := range columns {
		if c := i.book.Column(name); c != nil {
			c.Required = true
		}
	}
}

// TypeOf returns the declared type of a column; "" where there is none.
func (i *Item) TypeOf(column string) table.Type {
	if c := i.book.Column(column); c != nil {
		return c.Type
	}
	return ""
}

// AnyColumn accepts every column.
func AnyColumn(*Column) string { return "" }

// SummedColumn accepts columns of numbers.
func SummedColumn(c *Column) string {
	if c.Type.IsNumber() {
		return ""
	}
	return fmt.Sprintf("%q is of type %s; only numbers are summed", c.Name, c.Type)
}

// OnlyFor records a field that goes with another type of column, and reports whether this is one.
func (i *Item) OnlyFor(field string, fits bool, t table.Type) bool {
	if i.Gives(field) && !fits {
		i.Wrong(field, "%s is for columns of type %s, and %q is of type %s", field, t, i.Column.Name, i.Column.Type)
	}
	return fits
}

// OnlyForNumbers records that a field is given though its column holds no numbers.
func (i *Item) OnlyForNumbers(field string, t table.Type) {
	if i.Gives(field) && !t.IsNumber() {
		i.Wrong(field, "%s is for columns of numbers, and %q is of type %s", field, i.Column.Name, t)
	}
}

// SectionForm says what the items of a section are made of.
type SectionForm struct {
	Name   string      `json:"name"`
	Title  string      `json:"title"` // one item, as "a column"
	Single bool        `json:"single,omitempty" doc:"It is no list, but has the fields itself"`
	Form   []FieldForm `json:"form"`
}

// Sections are those of a rulebook that forms can change.
func Sections() []SectionForm {
	out := []SectionForm{{HeadSection, "the rulebook itself", true, headForms}, {ReadingSection, "how bytes become rows", true, readingForms()}}
	for i := range sections {
		s := &sections[i]
		out = append(out, SectionForm{s.Name, s.Title, s.Single, s.forms()})
	}
	return out
}

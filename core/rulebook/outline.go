package rulebook

import (
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Outline is a rulebook's text by its items, for forms. It is of the text, which may be wrong.
type Outline struct {
	Head     []Field          `json:"head"`
	Sections []SectionOutline `json:"sections"`
	// Codes are the codes of each list that is written out.
	Codes []ListOutline `json:"codes"`
}

// SectionOutline is a section with its items.
type SectionOutline struct {
	Name  string        `json:"name"`
	Items []ItemOutline `json:"items"`
}

// ItemOutline is an item with its fields, in the order of the text.
type ItemOutline struct {
	Name   string  `json:"name"` // its name or id
	Line   int     `json:"line"`
	Fields []Field `json:"fields"`
}

// ListOutline is a code list.
type ListOutline struct {
	Name  string   `json:"name"`
	Codes []string `json:"codes"`
}

// OutlineOf lays the text of a rulebook out by its items.
func OutlineOf(source string) (*Outline, error) {
	root, err := document.Parse([]byte(source))
	if err != nil {
		return nil, err
	}
	out := &Outline{Head: []Field{}, Sections: []SectionOutline{}, Codes: []ListOutline{}}
	for _, name := range []string{"dataset", "title", "measures", "pass_mark"} {
		if e := entry(root, name); e != nil {
			out.Head = append(out.Head, fieldOf(e))
		}
	}
	for _, s := range Sections {
		section := SectionOutline{Name: s.Name, Items: []ItemOutline{}}
		if e := entry(root, s.Name); e != nil {
			for _, item := range e.Value.Items {
				section.Items = append(section.Items, itemOutline(item))
			}
		}
		out.Sections = append(out.Sections, section)
	}
	if e := entry(root, "code_lists"); e != nil {
		for _, list := range e.Value.Entries {
			out.Codes = append(out.Codes, ListOutline{list.Name, codesOf(list.Value)})
		}
	}
	return out, nil
}

func codesOf(list *document.Node) []string {
	if codes := entry(list, "codes"); codes != nil {
		list = codes.Value
	}
	codes := []string{}
	for _, item := range list.Items {
		if code := entry(item, "code"); code != nil {
			codes = append(codes, code.Value.Text)
		} else {
			codes = append(codes, item.Text)
		}
	}
	return codes
}

func itemOutline(item *document.Node) ItemOutline {
	out := ItemOutline{Line: item.Line, Fields: []Field{}}
	for i := range item.Entries {
		f := fieldOf(&item.Entries[i])
		if f.Name == "id" || f.Name == "name" {
			out.Name = f.Value
		}
		out.Fields = append(out.Fields, f)
	}
	return out
}

func fieldOf(e *document.Entry) Field {
	f := Field{Name: e.Name, Value: e.Value.Text}
	switch e.Value.Kind {
	case document.List:
		f.Values = []string{}
		for _, one := range e.Value.Items {
			f.Values = append(f.Values, one.Text)
		}
	case document.Mapping: // as {dataset: stations, columns: [id]}
		if dataset, columns := entry(e.Value, "dataset"), entry(e.Value, "columns"); dataset != nil && columns != nil {
			f.Dataset, f.Values = dataset.Value.Text, []string{}
			for _, one := range columns.Value.Items {
				f.Values = append(f.Values, one.Text)
			}
		}
	}
	return f
}

// SectionForm says what the items of a section are made of.
type SectionForm struct {
	Name  string      `json:"name"`
	Title string      `json:"title"` // one item, as "a column"
	Form  []FieldForm `json:"form"`
}

// FieldForm is a field of a form.
type FieldForm struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind" enum:"text,number,truth,choice,column,columns,codes,condition,elsewhere"`
	Choices  []string `json:"choices,omitempty"`
	Says     string   `json:"says"` // what it declares
	Required bool     `json:"required,omitempty"`
	For      []string `json:"for,omitempty"` // the checks that take it; all where it is left out
}

func typeNames() []string {
	names := make([]string, len(table.Types))
	for i, t := range table.Types {
		names[i] = string(t)
	}
	return names
}

var (
	severityForm = FieldForm{Name: "severity", Kind: "choice", Choices: []string{string(Stop), string(Warn), string(Note)}, Says: "What it means for the table when it is broken"}
	reasonForm   = FieldForm{Name: "reason", Kind: "text", Says: "Why it must hold"}
	idForm       = FieldForm{Name: "id", Kind: "text", Required: true, Says: "Its name, in lower-case letters, digits and underscores"}
)

// Sections are those of a rulebook that forms can change.
var Sections = []SectionForm{
	{"columns", "a column", []FieldForm{
		{Name: "name", Kind: "text", Required: true, Says: "As it stands in the header"},
		{Name: "title", Kind: "text", Says: "What it is called among people"},
		{Name: "type", Kind: "choice", Choices: typeNames(), Says: "What its values are"},
		{Name: "unit", Kind: "text", Says: "The unit of its numbers"},
		{Name: "role", Kind: "choice", Choices: slices.Clone(Roles), Says: "What it is used for"},
		{Name: "required", Kind: "truth", Says: "Every row has a value"},
		{Name: "filled", Kind: "number", Says: "The percentage of rows that must have a value"},
		{Name: "from", Kind: "text", Says: "The lowest value"},
		{Name: "to", Kind: "text", Says: "The highest value"},
		{Name: "shortest", Kind: "number", Says: "The fewest characters"},
		{Name: "longest", Kind: "number", Says: "The most characters"},
		{Name: "decimals", Kind: "number", Says: "The most digits after the point"},
		{Name: "pattern", Kind: "text", Says: "A regular expression for the whole text"},
		{Name: "codes", Kind: "codes", Says: "The code list, where the type is code"},
		{Name: "new_codes", Kind: "truth", Says: "A code that is not in the list yet is no fault"},
		{Name: "parent_in", Kind: "column", Says: "The column that holds what its code is a part of"},
		{Name: "dates", Kind: "text", Says: "The pattern of its dates, as dd/MM/yyyy"},
		{Name: "weight", Kind: "number", Says: "How much it counts in the mean score of the columns"},
		severityForm, reasonForm,
	}},
	{"keys", "a key", []FieldForm{idForm,
		{Name: "columns", Kind: "columns", Required: true, Says: "The columns that together name one row"},
		{Name: "may_lack_parts", Kind: "truth", Says: "Rows that lack a part are no fault"},
		severityForm, reasonForm,
	}},
	{"rules", "a rule on rows", []FieldForm{idForm,
		{Name: "condition", Kind: "condition", Required: true, Says: "What must be true of every row"},
		{Name: "when", Kind: "condition", Says: "Only for rows of which this is true"},
		{Name: "tolerance", Kind: "number", Says: "By how much the two sides may differ"},
		{Name: "may_break", Kind: "number", Says: "The percentage of rows that may break it"},
		severityForm, reasonForm,
	}},
	{"table_rules", "a rule on the table", []FieldForm{idForm,
		{Name: "check", Kind: "choice", Required: true, Choices: []string{string(RowCount), string(PartsSum), string(NoGaps), string(InOrder), string(Covers), string(TotalsMatch)}, Says: "What is asked of the table as a whole"},
		{Name: "from", Kind: "number", For: []string{string(RowCount)}, Says: "The least number of rows"},
		{Name: "to", Kind: "number", For: []string{string(RowCount)}, Says: "The greatest number of rows"},
		{Name: "of", Kind: "column", For: []string{string(PartsSum), string(TotalsMatch)}, Says: "The column that is summed"},
		{Name: "in", Kind: "column", For: []string{string(NoGaps), string(InOrder), string(Covers)}, Says: "The column that is looked at"},
		{Name: "per", Kind: "columns", For: []string{string(PartsSum), string(NoGaps), string(InOrder), string(TotalsMatch)}, Says: "For each value of these columns"},
		{Name: "step", Kind: "text", For: []string{string(NoGaps)}, Says: "day, week, month, quarter, year, or a whole number"},
		{Name: "with", Kind: "elsewhere", For: []string{string(Covers), string(TotalsMatch)}, Says: "The dataset it is compared with, and its columns"},
		{Name: "total", Kind: "condition", For: []string{string(PartsSum)}, Says: "Which rows are totals"},
		{Name: "tolerance", Kind: "number", For: []string{string(PartsSum), string(TotalsMatch)}, Says: "By how much sums may differ"},
		severityForm, reasonForm,
	}},
	{"references", "a reference", []FieldForm{idForm,
		{Name: "columns", Kind: "columns", Required: true, Says: "The columns whose values must be known elsewhere"},
		{Name: "to", Kind: "elsewhere", Required: true, Says: "The dataset where they must be, and its columns in the same order"},
		severityForm, reasonForm,
	}},
	{"history", "a rule against earlier deliveries", []FieldForm{idForm,
		{Name: "check", Kind: "choice", Required: true, Choices: []string{string(RowsSteady), string(SameColumns), string(NoNewValues), string(MissingSteady), string(MeanSteady), string(ShapeSteady), string(NotOlderThan)}, Says: "What is compared with earlier deliveries"},
		{Name: "column", Kind: "column", For: []string{string(NoNewValues), string(MissingSteady), string(MeanSteady), string(ShapeSteady), string(NotOlderThan)}, Says: "The column that is looked at"},
		{Name: "within", Kind: "number", For: []string{string(RowsSteady), string(MissingSteady), string(MeanSteady), string(ShapeSteady)}, Says: "How far it may move: percent, or points of a share"},
		{Name: "last", Kind: "number", For: []string{string(RowsSteady), string(NoNewValues), string(MissingSteady), string(MeanSteady)}, Says: "With how many deliveries it is compared"},
		{Name: "days", Kind: "number", For: []string{string(NotOlderThan)}, Says: "How old the newest date may be"},
		severityForm, reasonForm,
	}},
}

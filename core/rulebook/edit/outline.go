package edit

import (
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
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
	Name    string        `json:"name"`
	Line    int           `json:"line"`
	Codes   []string      `json:"codes"`
	Entries []CodeOutline `json:"entries"`
	// Dataset is where its codes are taken from that are not written out.
	Dataset string `json:"dataset,omitempty"`
}

// CodeOutline is a code of a list with what is said of it.
type CodeOutline struct {
	Code      string   `json:"code"`
	Label     string   `json:"label,omitempty"`
	Spellings []string `json:"spellings"`
	Ended     bool     `json:"ended,omitempty"`
}

// OutlineOf lays the text of a rulebook out by its items.
func OutlineOf(source string) (*Outline, error) {
	root, err := document.Parse([]byte(source))
	if err != nil {
		return nil, err
	}
	out := &Outline{Head: []Field{}, Sections: []SectionOutline{}, Codes: []ListOutline{}}
	for _, name := range []string{"dataset", "title", "measures", "estimates", "pass_mark"} {
		if e := entry(root, name); e != nil {
			out.Head = append(out.Head, fieldOf(e))
		}
	}
	for _, s := range rulebook.Sections() {
		section := SectionOutline{Name: s.Name, Items: []ItemOutline{}}
		if s.Name == rulebook.HeadSection {
			section.Items = append(section.Items, ItemOutline{Name: s.Name, Line: 1, Fields: out.Head})
		} else if e := entry(root, s.Name); e != nil && s.Single {
			item := itemOutline(e.Value)
			item.Name, item.Line = s.Name, e.Line
			section.Items = append(section.Items, item)
		} else if e != nil {
			for _, item := range e.Value.Items {
				section.Items = append(section.Items, itemOutline(item))
			}
		}
		out.Sections = append(out.Sections, section)
	}
	if e := entry(root, "code_lists"); e != nil {
		for _, list := range e.Value.Entries {
			out.Codes = append(out.Codes, listOutline(&list))
		}
	}
	return out, nil
}

func listOutline(e *document.Entry) ListOutline {
	list := e.Value
	out := ListOutline{Name: e.Name, Line: e.Line, Codes: []string{}, Entries: []CodeOutline{}}
	if from := entry(list, "from"); from != nil {
		if dataset := entry(from.Value, "dataset"); dataset != nil {
			out.Dataset = dataset.Value.Text
		}
	}
	if codes := entry(list, "codes"); codes != nil {
		list = codes.Value
	}
	for _, item := range list.Items {
		one := CodeOutline{Code: item.Text, Spellings: []string{}}
		for i := range item.Entries {
			switch f := fieldOf(&item.Entries[i]); f.Name {
			case "code":
				one.Code = f.Value
			case "label":
				one.Label = f.Value
			case "ended":
				one.Ended = f.Value == "true"
			case "spellings":
				if one.Spellings = f.Values; f.Values == nil {
					one.Spellings = []string{f.Value}
				}
			}
		}
		out.Codes = append(out.Codes, one.Code)
		out.Entries = append(out.Entries, one)
	}
	return out
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
	f := Field{Name: e.Name, Value: e.Value.Text, Line: e.Line, Column: e.Column}
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
			return f
		}
		for _, one := range e.Value.Entries {
			f.Pairs = append(f.Pairs, Pair{one.Name, one.Value.Text})
		}
	}
	return f
}

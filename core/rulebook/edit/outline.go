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
	for _, s := range rulebook.Sections() {
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

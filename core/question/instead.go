package question

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/table"
)

// SaidInstead is a change of the rulebook by which what is meant so is caught no more, in this delivery or any other: instead of a
// waiver for what was asked about alone.
type SaidInstead struct {
	Code   string      `json:"code"`
	Change edit.Change `json:"change"`
	Says   string      `json:"says"` // what would hold then, in a sentence
	Rows   int64       `json:"rows"` // that were asked about
}

// Instead tells for which of the answers a change of the rulebook would do: a text that is no code of a list which the rulebook
// writes out becomes one, and a number beyond the range of its column moves the range. Of all else, somebody changes the rulebook.
func Instead(source string, answers []Answered) ([]SaidInstead, error) {
	outline, err := edit.OutlineOf(source)
	if err != nil {
		return nil, err
	}
	changes := []SaidInstead{}
	bounds := map[string]string{} // by column and field, as changes before have moved them
	for i := range answers {
		a := &answers[i]
		if a.Given.Answer != MeantSo {
			continue
		}
		column, kind, _ := strings.Cut(a.Rule, ".")
		fields := fieldsOf(outline, column)
		switch {
		case fields == nil:
		case kind == "codes" && a.Question.Item.Kind == OfText:
			if c := asCode(outline, a, column, fields["codes"]); c != nil {
				changes = append(changes, *c)
			}
		case kind == "range":
			if c := asBound(a, column, fields, bounds); c != nil {
				changes = append(changes, *c)
			}
		}
	}
	return changes, nil
}

// fieldsOf are the fields of a column in the text of a rulebook; nil where it does not declare the column.
func fieldsOf(outline *edit.Outline, column string) map[string]string {
	for _, s := range outline.Sections {
		at := slices.IndexFunc(s.Items, func(i edit.ItemOutline) bool { return i.Name == column })
		if s.Name != "columns" || at < 0 {
			continue
		}
		out := map[string]string{}
		for _, f := range s.Items[at].Fields {
			out[f.Name] = f.Value
		}
		return out
	}
	return nil
}

func asCode(outline *edit.Outline, a *Answered, column, list string) *SaidInstead {
	written := slices.ContainsFunc(outline.Codes, func(l edit.ListOutline) bool {
		return l.Name == list && len(l.Codes) > 0 && !slices.Contains(l.Codes, a.Question.Item.Text)
	})
	if list == "" || !written {
		return nil
	}
	return &SaidInstead{Code: a.Question.Code, Change: edit.Change{Section: "code_lists", Item: list, Add: true, Values: []string{a.Question.Item.Text}},
		Says: fmt.Sprintf("%q becomes a code of the list %s, by which %s is judged.", a.Question.Item.Text, list, column), Rows: max(a.Question.Item.Rows, 1)}
}

func asBound(a *Answered, column string, fields, bounds map[string]string) *SaidInstead {
	text, ok := a.Question.Item.Cell(column)
	if !ok {
		return nil
	}
	value, ok := table.ParseDecimal(strings.TrimSpace(text))
	if !ok {
		return nil
	}
	for _, field := range []string{"from", "to"} {
		key := column + "\x00" + field
		now, moved := bounds[key]
		if !moved {
			now = fields[field]
		}
		bound, ok := table.ParseDecimal(now)
		if !ok {
			continue
		}
		if beyond := value.Cmp(bound); field == "from" && beyond < 0 || field == "to" && beyond > 0 {
			bounds[key] = value.String()
			return &SaidInstead{Code: a.Question.Code, Change: edit.Change{Section: "columns", Item: column, Field: field, Value: value.String()}, Rows: max(a.Question.Item.Rows, 1),
				Says: fmt.Sprintf("The %s value of %s becomes %s; it is %s now.", map[string]string{"from": "lowest", "to": "highest"}[field], column, value.String(), fields[field])}
		}
	}
	return nil
}

// Changed is the text of a rulebook with the changes of certain answers, in words as well.
func Changed(source string, all []SaidInstead, codes []string) (changed string, says []string, err error) {
	var changes []edit.Change
	for _, c := range all {
		if slices.Contains(codes, c.Code) {
			changes, says = append(changes, c.Change), append(says, c.Says)
		}
	}
	changed, err = edit.Apply(source, changes)
	return changed, says, err
}

// Reason says of answers why a rulebook changes.
func Reason(answers []Answered) string {
	var by []string
	for _, a := range answers {
		if !slices.Contains(by, a.By) {
			by = append(by, a.By)
		}
	}
	return document.Join(by) + document.Plural(int64(len(by)), " says", " say") + " that it is meant so."
}

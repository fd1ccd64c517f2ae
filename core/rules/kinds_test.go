package rules_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/testkit"
)

// declaration is how a rule of a kind is declared: its section, the item without the fields of
// the kind, and two good values of each field, as "from=1|2".
type declaration struct {
	section, item string
	fields        []string
}

var declared = map[string]declaration{}

// declares says how a rule of a kind is declared. Each kind that has fields says it in its
// test, and is held by the tests below to be compared, carried and offered with every field. The
// table has a text t, the numbers n and m, the dates d and e, and a code list l; o and p are
// other datasets.
func declares(kind, section, item string, fields ...string) {
	declared[kind] = declaration{section, item, fields}
}

// source writes a rulebook with a rule of a kind; which says the value of each of its fields.
func source(kind string, which map[string]int) string {
	d := declared[kind]
	item := d.item
	for _, field := range d.fields {
		name, values, _ := strings.Cut(field, "=")
		item += ", " + name + ": " + quotedIfText(strings.Split(values, "|")[which[name]])
	}
	columns := "columns:\n  - {name: t}\n  - {name: n, type: decimal}\n  - {name: m, type: decimal}\n  - {name: d, type: date}\n  - {name: e, type: date}\n"
	lists := "code_lists:\n  l: [{code: A, parent: x}]\n"
	if d.section == "columns" {
		return "dataset: d\n" + columns + "  - {" + item + "}\n" + lists
	}
	return "dataset: d\n" + columns + d.section + ":\n  - {" + item + "}\n" + lists
}

func quotedIfText(value string) string {
	if strings.ContainsAny(value, "=>") {
		return `"` + value + `"`
	}
	return value
}

// Every field that a kind takes is read, and another value of it is a difference in words that
// names it as the kind does.
func TestEveryFieldOfEveryKindIsComparedInWords(t *testing.T) {
	for _, k := range rulebook.Kinds() {
		if len(k.Fields) == 0 {
			if k.Says == "" {
				t.Errorf("the kind %s says nothing of itself", k.Name)
			}
			continue
		}
		d := declared[k.Name]
		if d.section == "" {
			t.Errorf("the test of the kind %s declares no rule of it (see declares)", k.Name)
			continue
		}
		first := testkit.Book(t, source(k.Name, nil))
		if !slices.ContainsFunc(first.Rules, func(r *rulebook.Declared) bool { return r.Kind.Name == k.Name }) {
			t.Errorf("nothing of the kind %s is declared by\n%s", k.Name, source(k.Name, nil))
		}
		for _, f := range k.Fields {
			second := testkit.Book(t, source(k.Name, map[string]int{f.Name: 1}))
			differences := ofRule(d.section, rulebook.Compare(first, second))
			if len(differences) != 1 || !strings.Contains(differences[0].Says, f.Aspect) ||
				differences[0].Kind != "changed" {
				t.Errorf("%s, another %s: %+v, want one that names %q", k.Name, f.Name, differences, f.Aspect)
			}
			if back := ofRule(d.section, rulebook.Compare(second, first)); len(back) != 1 {
				t.Errorf("%s, the other way: %+v", f.Name, back)
			}
		}
	}
}

// What a form changes in the text is what the text says then, however it is laid out, and nothing
// else: the other fields and the comments stay.
func TestEveryFieldOfEveryKindIsChangedInTheText(t *testing.T) {
	for _, k := range rulebook.Kinds() {
		d := declared[k.Name]
		for _, written := range d.fields {
			name, values, _ := strings.Cut(written, "=")
			other := strings.Split(values, "|")[1]
			change := edit.Change{Section: d.section, Item: "r", Field: name, Value: other}
			if d.section == "columns" {
				change.Item = "c"
			}
			if list, ok := strings.CutPrefix(other, "["); ok {
				change.Value, change.Values = "", strings.Split(strings.TrimSuffix(list, "]"), ", ")
			}
			if elsewhere, ok := strings.CutPrefix(other, "{dataset: "); ok {
				dataset, columns, _ := strings.Cut(elsewhere, ", columns: [")
				change.Value, change.Dataset = "", dataset
				change.Values = strings.Split(strings.TrimSuffix(columns, "]}"), ", ")
			}
			wanted := testkit.Book(t, source(k.Name, map[string]int{name: 1}))
			for layout, text := range map[string]string{"in brackets": source(k.Name, nil),
				"over lines": overLines(source(k.Name, nil))} {
				changed, err := edit.Apply(text, []edit.Change{change})
				if err != nil {
					t.Errorf("%s.%s %s: %v", k.Name, name, layout, err)
					continue
				}
				book, err := rulebook.Parse([]byte(changed))
				if err != nil {
					t.Errorf("%s.%s %s: %v\n%s", k.Name, name, layout, err, changed)
					continue
				}
				if differences := rulebook.Compare(wanted, book); len(differences) > 0 {
					t.Errorf("%s.%s %s: %+v\n%s", k.Name, name, layout, differences, changed)
				}
				if strings.Count(changed, "#") != strings.Count(text, "#") {
					t.Errorf("%s.%s %s: a comment is lost in\n%s", k.Name, name, layout, changed)
				}
			}
		}
	}
}

// overLines lays the item of a source out with a field on each line, and a comment beside each.
func overLines(source string) string {
	at := strings.LastIndex(source, "  - {")
	item, rest, _ := strings.Cut(source[at:], "\n")
	item = strings.TrimSuffix(strings.TrimPrefix(item, "  - {"), "}")
	var fields []string
	depth, start := 0, 0
	for i, c := range item + "," {
		switch c {
		case '[', '{':
			depth++
		case ']', '}':
			depth--
		case ',':
			if depth == 0 {
				fields = append(fields, strings.TrimSpace(item[start:min(i, len(item))])+"   # field "+
					fmt.Sprint(len(fields)+1))
				start = i + 1
			}
		}
	}
	return source[:at] + "  - " + strings.Join(fields, "\n    ") + "\n" + rest
}

// ofRule leaves out what a key's parts do to its columns, which they require.
func ofRule(section string, all []rulebook.Difference) []rulebook.Difference {
	return slices.DeleteFunc(all, func(d rulebook.Difference) bool {
		return section != "columns" && strings.HasPrefix(d.Subject, "column ")
	})
}

// What the metadata of CSVW can carry comes back as it was; what they cannot is listed.
func TestEveryFieldOfAColumnIsCarriedOrListed(t *testing.T) {
	for _, k := range rulebook.Kinds() {
		if k.Section != "columns" || declared[k.Name].section == "" {
			continue
		}
		for _, f := range k.Fields {
			book := testkit.Book(t, source(k.Name, nil))
			metadata, left := csvw.Of(book, "d.csv")
			listed := slices.Contains(left, fmt.Sprintf("the %s of c", f.Aspect))
			back, _, err := csvw.Read("d", metadata)
			if err != nil {
				t.Fatal(err)
			}
			again, err := rulebook.Parse([]byte(back))
			if err != nil {
				t.Fatalf("%v\n%s", err, back)
			}
			carried := again.Said("column c", f.Aspect) == book.Said("column c", f.Aspect)
			if (f.CSVW != "") == listed || (f.CSVW != "") != carried {
				t.Errorf("%s of %s: carried %v, listed as left out %v", f.Name, k.Name, carried, listed)
			}
		}
	}
}

// The forms offer each field once, for the checks that take it.
func TestFormsHaveEveryFieldOfEveryKind(t *testing.T) {
	forms := map[string]rulebook.SectionForm{}
	for _, s := range rulebook.Sections() {
		forms[s.Name] = s
		seen := map[string]bool{}
		for _, f := range s.Form {
			if seen[f.Name] || f.Says == "" || f.Kind == "choice" && len(f.Choices) == 0 {
				t.Errorf("%s.%s: %+v", s.Name, f.Name, f)
			}
			seen[f.Name] = true
		}
	}
	for _, k := range rulebook.Kinds() {
		form, ok := forms[k.Section]
		if !ok {
			continue // equal_rows is no list
		}
		for _, f := range k.Fields {
			at := slices.IndexFunc(form.Form, func(one rulebook.FieldForm) bool { return one.Name == f.Name })
			if at < 0 || len(form.Form[at].For) > 0 && !slices.Contains(form.Form[at].For, k.Name) {
				t.Errorf("%s.%s is not offered for %s", k.Section, f.Name, k.Name)
			}
		}
	}
}

package rulebook_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// declared is a rule of each kind that has fields, with two values of each field that are both good.
var declared = map[string][]string{
	"required":  {"columns", "name: c", "required=true|false"},
	"codes":     {"columns", "name: c, type: code, codes: l", "new_codes=true|false"},
	"range":     {"columns", "name: c, type: integer", "from=1|2", "to=5|6"},
	"length":    {"columns", "name: c", "shortest=1|2", "longest=5|6"},
	"decimals":  {"columns", "name: c, type: decimal", "decimals=1|2"},
	"pattern":   {"columns", "name: c", "pattern=a|b"},
	"filled":    {"columns", "name: c", "filled=50|60"},
	"parent":    {"columns", "name: c, type: code, codes: l", "parent_in=t|n"},
	"key":       {"keys", "id: r", "columns=[t]|[n]", "may_lack_parts=true|false"},
	"condition": {"rules", "id: r", "condition=n = 1|n = 2", "when=n > 1|n > 2", "tolerance=1|2", "may_break=1|2"},
	"row_count": {"table_rules", "id: r, check: row_count", "from=1|2", "to=5|6"},
	"parts_sum": {"table_rules", "id: r, check: parts_sum", "of=n|m", "total=t = 'x'|t = 'y'", "per=[t]|[d]",
		"tolerance=1|2"},
	"no_gaps":  {"table_rules", "id: r, check: no_gaps", "in=d|e", "step=day|week", "per=[t]|[n]"},
	"in_order": {"table_rules", "id: r, check: in_order", "in=d|n", "per=[t]|[n]"},
	"covers": {"table_rules", "id: r, check: covers", "in=t|d",
		"with={dataset: o, columns: [a]}|{dataset: p, columns: [a]}"},
	"totals_match": {"table_rules", "id: r, check: totals_match", "of=n|m",
		"with={dataset: o, columns: [b, a]}|{dataset: p, columns: [b, a]}", "per=[t]|[d]", "tolerance=1|2"},
	"reference": {"references", "id: r", "columns=[t]|[n]",
		"to={dataset: o, columns: [a]}|{dataset: p, columns: [a]}"},
	"rows_steady":    {"history", "id: r, check: rows_steady", "within=5|6", "last=2|3"},
	"no_new_values":  {"history", "id: r, check: no_new_values", "column=t|d", "last=2|3"},
	"missing_steady": {"history", "id: r, check: missing_steady", "column=t|d", "within=5|6", "last=2|3"},
	"mean_steady":    {"history", "id: r, check: mean_steady", "column=n|m", "within=5|6", "last=2|3"},
	"shape_steady":   {"history", "id: r, check: shape_steady", "column=t|d", "within=5|6"},
	"not_older_than": {"history", "id: r, check: not_older_than", "column=d|e", "days=5|6"},
}

// source writes a rulebook with a rule of a kind; which says the value of each of its fields.
func source(kind string, which map[string]int) string {
	d := declared[kind]
	item := d[1]
	for _, field := range d[2:] {
		name, values, _ := strings.Cut(field, "=")
		item += ", " + name + ": " + quotedIfText(strings.Split(values, "|")[which[name]])
	}
	columns := "columns:\n  - {name: t}\n  - {name: n, type: decimal}\n  - {name: m, type: decimal}\n  - {name: d, type: date}\n  - {name: e, type: date}\n"
	lists := "code_lists:\n  l: [{code: A, parent: x}]\n"
	if d[0] == "columns" {
		return "dataset: d\n" + columns + "  - {" + item + "}\n" + lists
	}
	return "dataset: d\n" + columns + d[0] + ":\n  - {" + item + "}\n" + lists
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
		if d == nil {
			t.Errorf("the test has no rule of the kind %s", k.Name)
			continue
		}
		first := testkit.Book(t, source(k.Name, nil))
		if !slices.ContainsFunc(first.Rules, func(r *rulebook.Declared) bool { return r.Kind.Name == k.Name }) {
			t.Errorf("nothing of the kind %s is declared by\n%s", k.Name, source(k.Name, nil))
		}
		for _, f := range k.Fields {
			second := testkit.Book(t, source(k.Name, map[string]int{f.Name: 1}))
			differences := ofRule(d[0], rulebook.Compare(first, second))
			if len(differences) != 1 || !strings.Contains(differences[0].Says, f.Aspect) ||
				differences[0].Kind != "changed" {
				t.Errorf("%s, another %s: %+v, want one that names %q", k.Name, f.Name, differences, f.Aspect)
			}
			if back := ofRule(d[0], rulebook.Compare(second, first)); len(back) != 1 {
				t.Errorf("%s, the other way: %+v", f.Name, back)
			}
		}
	}
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
		if k.Section != "columns" {
			continue
		}
		for _, f := range k.Fields {
			book := testkit.Book(t, source(k.Name, nil))
			metadata, left := book.CSVW("d.csv")
			listed := slices.Contains(left, fmt.Sprintf("the %s of c", f.Aspect))
			back, _, err := rulebook.FromCSVW("d", metadata)
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

// Words of earlier versions are understood, and said to be old with their places.
func TestOldWordsOfARulebook(t *testing.T) {
	book := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: a, role: dimension, severity: stop}\n  - {name: b, severity: warn}\n")
	var told []string
	for _, one := range book.Old {
		told = append(told, one.String())
	}
	want := []string{
		`line 3, column 21: "dimension" is an old word for "category"; it is still understood`,
		`line 3, column 42: "stop" is an old word for "major"; it is still understood`,
		`line 4, column 25: "warn" is an old word for "minor"; it is still understood`,
	}
	slices.Sort(told)
	if !slices.Equal(told, want) {
		t.Errorf("%q", told)
	}
	if book.Column("a").Role != "category" || book.Said("column a", "severity") != "major" ||
		book.Said("column b", "severity") != "minor" {
		t.Error("they are not understood")
	}
}

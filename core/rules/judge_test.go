package rules_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// trial is a rule tried on a small table.
type trial struct {
	name  string
	rules string // of the rulebook, after its name
	table string
	want  string // what is found, as "rule: rows 2 3: sentence", one after the other with |; empty for nothing
}

// try holds what is found in each table against what a person finds in it.
func try(t *testing.T, trials ...trial) {
	t.Helper()
	for _, one := range trials {
		if got := found(t, bookOf(t, one.rules), one.table); got != one.want {
			t.Errorf("%s:\n got %s\nwant %s", one.name, got, one.want)
		}
	}
}

func bookOf(t *testing.T, rules string) *rulebook.Rulebook {
	t.Helper()
	return testkit.Book(t, "dataset: d\npass_mark: 0\n"+rules)
}

func audited(t *testing.T, book *rulebook.Rulebook, text string) *audit.Result {
	t.Helper()
	r, err := audit.Run(context.Background(), testkit.File(t, text, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func found(t *testing.T, book *rulebook.Rulebook, text string) string {
	t.Helper()
	var out []string
	for _, f := range audited(t, book, text).Findings {
		rows := ""
		for _, row := range f.RowSet.ToArray() {
			rows += fmt.Sprint(" ", row)
		}
		out = append(out, fmt.Sprintf("%s:%s: %s", f.Rule, rows, f.Found))
	}
	return strings.Join(out, "|")
}

// refused holds declarations against the mistakes that they are refused for.
func refused(t *testing.T, mistakes map[string]string) {
	t.Helper()
	for rules, want := range mistakes {
		if _, err := rulebook.Parse([]byte("dataset: d\n" + rules)); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s\n%v, want %q", rules, err, want)
		}
	}
}

// says holds what a rule says must hold, its severity and its columns against what is wanted.
func says(t *testing.T, rules, id, want string) {
	t.Helper()
	for _, d := range bookOf(t, rules).Rules {
		if d.ID == id {
			if got := fmt.Sprintf("%s (%s, %s)", d.Rule.Says(), d.Severity,
				strings.Join(d.Rule.Columns(), " ")); got != want {
				t.Errorf("%s says %s, want %s", id, got, want)
			}
			return
		}
	}
	t.Errorf("there is no rule %s", id)
}

// unjudged holds why a rule is not judged against what is wanted.
func unjudged(t *testing.T, book *rulebook.Rulebook, text, id, want string, passes bool) {
	t.Helper()
	r := audited(t, book, text)
	for _, j := range r.Rules {
		if j.Rule == id {
			if j.Unjudged != want || r.HasPassed() != passes {
				t.Errorf("%s is not judged for %q and passed is %v, want %q and %v", id, j.Unjudged, r.HasPassed(), want,
					passes)
			}
			return
		}
	}
	t.Errorf("there is no rule %s", id)
}

// with gives a rulebook another dataset, o, and earlier deliveries, the last one first.
func with(t *testing.T, rules, other string, past ...string) *rulebook.Rulebook {
	t.Helper()
	book := bookOf(t, rules)
	plain := testkit.Book(t, "dataset: o\ncolumns: [{name: code}, {name: n, type: decimal}, {name: month_end, type: date}]\n")
	book.Beside = &rulebook.Beside{Today: 19_900, Open: func(context.Context, string) (table.Source, *rulebook.Rulebook,
		error) {
		return testkit.File(t, other, plain.Reading), plain, nil
	}}
	for _, text := range past {
		book.Beside.Past = append(book.Beside.Past, audited(t, bookOf(t, rules[:strings.Index(rules, "history:")]),
			text).Past())
	}
	return book
}

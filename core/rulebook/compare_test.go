package rulebook_test

import (
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

func TestVersionsAreComparedInWords(t *testing.T) {
	before := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: a, type: integer, from: 0}\n  - {name: b}\nkeys:\n  - {id: one, columns: [b]}\nrules:\n  - {id: r, condition: a > 1}\npass_mark: 90\n")
	after := testkit.Book(t,
		"dataset: d\n# with a comment\ncolumns:\n  - {name: c, unit: mg/l}\n  - {name: a, type: integer, from: 1, to: 9}\nrules:\n  - {id: r, when: a < 5, condition: a > 2, severity: stop}\npass_mark: 95\n")
	got := map[string]bool{}
	for _, d := range rulebook.Compare(before, after) {
		got[d.Kind+": "+d.Says] = true
	}
	want := []string{
		"changed: The pass mark of the rulebook was 90 and is 95.",
		"added: The column c is new: type text, unit mg/l, severity minor.",
		"changed: The lowest value of the column a was 0 and is 1.",
		"changed: The column a now has highest value 9.",
		"changed: The rule r now has case in which it applies a < 5.",
		"changed: The condition of the rule r was a > 1 and is a > 2.",
		"changed: The severity of the rule r was minor and is major.",
		"removed: The column b is gone: type text, required yes, severity minor.",
		"removed: The key one is gone: columns b, severity major.",
	}
	for _, w := range want {
		if !got[w] {
			t.Errorf("nothing says %q", w)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d differences, want %d: %v", len(got), len(want), got)
	}
	if d := rulebook.Compare(after, after); len(d) != 0 {
		t.Errorf("a version differs from itself: %v", d)
	}
}

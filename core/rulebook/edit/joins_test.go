package edit_test

import (
	"strings"
	"testing"

	"proudsieve/core/merge"
	"proudsieve/core/rulebook/edit"
)

// A merge is its joins as a fix plan is its steps: each change leaves the rest of the text as it is, and a merge that is
// written by them alone is a good one.
func TestJoinsAreChangedInTheText(t *testing.T) {
	text := func(name, value string) *edit.Field { return &edit.Field{Name: name, Value: value} }
	source := "merge: results   # of both laboratories\nstack: [highgarth]\n"
	for _, c := range []struct {
		name   string
		change edit.StepChange
		want   string // in the text
	}{
		{"a dataset more", edit.StepChange{Field: &edit.Field{Name: "stack", Values: []string{"highgarth", "millrace"}}}, "stack: [highgarth, millrace]\n"},
		{"the first join", edit.StepChange{Add: []edit.Field{{Name: "with", Value: "stations"}, {Name: "match", Values: []string{"station"}}, {Name: "take", Values: []string{"river"}}}},
			"join:\n  - {with: stations, match: [station], take: [river]}\n"},
		{"keys by expressions", edit.StepChange{Step: 1, Field: &edit.Field{Name: "match", Pairs: []edit.Pair{{Name: "LOWER(station)", Text: "code"}}}}, `match: {"LOWER(station)": code}`},
		{"what becomes of rows", edit.StepChange{Step: 1, Field: text("unmatched", "keep")}, "unmatched: keep}"},
		{"another join", edit.StepChange{Add: []edit.Field{{Name: "with", Value: "rivers"}, {Name: "match", Values: []string{"river"}}, {Name: "take", Values: []string{"basin"}}}},
			"  - with: rivers\n    match: [river]\n    take: [basin]\n"},
		{"and none", edit.StepChange{Step: 1, Remove: true}, "join:\n  - with: rivers\n"},
	} {
		got, err := edit.Merges.Apply(source, []edit.StepChange{c.change})
		if err != nil || !strings.Contains(got, c.want) || !strings.Contains(got, "# of both laboratories") {
			t.Fatalf("%s: %v\n%s\nwant in it\n%s", c.name, err, got, c.want)
		}
		if _, err := merge.Parse([]byte(got)); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		source = got
	}
	outline, err := edit.Merges.Outline(source)
	if err != nil || len(outline.Steps) != 1 || outline.Steps[0].Name != "rivers" || outline.Head[1].Name != "stack" {
		t.Errorf("%+v %v", outline, err)
	}
	if _, err := edit.Merges.Apply(source, []edit.StepChange{{Step: 2, Remove: true}}); err == nil || err.Error() != "the merge has no join 2" {
		t.Errorf("%v", err)
	}
	if without, err := edit.Merges.Apply(source, []edit.StepChange{{Step: 1, Remove: true}}); err != nil {
		t.Error(err)
	} else if _, err := merge.Parse([]byte(without)); err != nil {
		t.Errorf("%v\n%s", err, without)
	}
}

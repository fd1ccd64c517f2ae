package edit_test

import (
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/document"
	"proudsieve/core/rulebook/edit"
)

const plan = `fix_plan: p # a plan
dataset: d
steps:
  # spaces first
  - do: trim
    columns: [a, b]
    reason: Spaces.
  - {do: set_cell, key: {id: S1}, column: v, to: "7.1", reason: Told.} # by phone
  # and then
  - do: map_codes
    columns:
      - a
    reason: Codes.
`

func TestStepsAreChangedInTheText(t *testing.T) {
	field := func(step int, name, value string) edit.StepChange {
		return edit.StepChange{Step: step, Field: &edit.Field{Name: name, Value: value}}
	}
	for _, c := range []struct {
		name      string
		change    edit.StepChange
		old, want string // in the text
	}{
		{"a field", field(1, "reason", "Stray spaces."), "reason: Spaces.", `reason: "Stray spaces."`},
		{"a field in brackets", field(2, "to", "7.2"), `to: "7.1"`, `to: 7.2`},
		{"a list", edit.StepChange{Step: 3, Field: &edit.Field{Name: "columns", Values: []string{"a", "c"}}}, "columns:\n      - a\n", "columns: [a, c]\n"},
		{"pairs", edit.StepChange{Step: 2, Field: &edit.Field{Name: "key", Pairs: []edit.Pair{{Name: "id", Text: "S 2"}, {Name: "at", Text: "x"}}}}, "{id: S1}", `{id: "S 2", at: x}`},
		{"a field more", field(1, "off", "true"), "    reason: Spaces.\n", "    reason: Spaces.\n    off: true\n"},
		{"an entry", edit.StepChange{Step: 1, Entry: &edit.StepEntry{Of: "choices", Fields: []edit.Field{{Name: "key", Pairs: []edit.Pair{{Name: "id", Text: "S1"}}}, {Name: "to", Value: "x"}}}},
			"    reason: Spaces.\n", "    reason: Spaces.\n    choices: [{key: {id: S1}, to: x}]\n"},
		{"a field of the plan", field(0, "title", "Tidy"), "reason: Codes.\n", "reason: Codes.\ntitle: Tidy\n"},
	} {
		got, err := edit.Plans.Apply(plan, []edit.StepChange{c.change})
		if want := strings.Replace(plan, c.old, c.want, 1); err != nil || got != want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, got, want)
		}
	}
}

func TestStepsAreAddedMovedAndRemoved(t *testing.T) {
	names := func(source string) (out []string) {
		t.Helper()
		outline, err := edit.Plans.Outline(source)
		if err != nil {
			t.Fatalf("%v in\n%s", err, source)
		}
		for _, s := range outline.Steps {
			out = append(out, s.Name)
		}
		return out
	}
	added := []edit.Field{{Name: "do", Value: "round"}, {Name: "columns", Values: []string{"v"}}, {Name: "decimals", Value: "1"}, {Name: "reason", Value: "As agreed."}}
	for _, c := range []struct {
		change edit.StepChange
		want   string
		above  string // what stands above a step then
	}{
		{edit.StepChange{Add: added}, "trim set_cell map_codes round", "# and then\n  - do: map_codes"},
		{edit.StepChange{Step: 1, Add: added}, "round trim set_cell map_codes", "# spaces first\n  - do: trim"},
		{edit.StepChange{Step: 3, Add: added}, "trim set_cell round map_codes", "# and then\n  - do: map_codes"},
		{edit.StepChange{Step: 3, MoveTo: 1}, "map_codes trim set_cell", "steps:\n  # and then\n  - do: map_codes"},
		{edit.StepChange{Step: 1, MoveTo: 3}, "set_cell map_codes trim", "# spaces first\n  - do: trim"},
		{edit.StepChange{Step: 2, MoveTo: 9}, "trim map_codes set_cell", "# by phone"},
		{edit.StepChange{Step: 1, Remove: true}, "set_cell map_codes", "steps:\n  - {do: set_cell"},
		{edit.StepChange{Step: 3, Remove: true}, "trim set_cell", "# by phone\n"},
	} {
		got, err := edit.Plans.Apply(plan, []edit.StepChange{c.change})
		if err != nil {
			t.Fatalf("%+v: %v", c.change, err)
		}
		if made := strings.Join(names(got), " "); made != c.want || !strings.Contains(got, c.above) {
			t.Errorf("%+v: %s, want %s\n%s", c.change, made, c.want, got)
		}
	}
	empty := "fix_plan: p\ndataset: d\nsteps: []\n"
	one, err := edit.Plans.Apply(empty, []edit.StepChange{{Add: added}})
	if err != nil || one != "fix_plan: p\ndataset: d\nsteps:\n  - do: round\n    columns: [v]\n    decimals: 1\n    reason: \"As agreed.\"\n" {
		t.Errorf("%v\n%s", err, one)
	}
	if back, err := edit.Plans.Apply(one, []edit.StepChange{{Step: 1, Remove: true}}); err != nil || back != empty {
		t.Errorf("%v\n%s", err, back)
	}
	for _, change := range []edit.StepChange{{Step: 9, Remove: true}, {Step: 9, Field: &edit.Field{Name: "to"}}} {
		if _, err := edit.Plans.Apply(plan, []edit.StepChange{change}); err == nil {
			t.Errorf("%+v is made", change)
		}
	}
}

func TestTheOutlineOfAFixPlan(t *testing.T) {
	outline, err := edit.Plans.Outline(plan)
	if err != nil || len(outline.Steps) != 3 || outline.Head[1].Value != "d" {
		t.Fatalf("%+v, %v", outline, err)
	}
	if f := outline.Steps[1].Fields[1]; !reflect.DeepEqual(f.Pairs, []edit.Pair{{Name: "id", Text: "S1"}}) {
		t.Errorf("%+v", f)
	}
}

func FuzzApplySteps(f *testing.F) {
	f.Add(plan, 1, 3, "x")
	f.Add("steps: [{do: a}, {do: b}]", 1, 2, "")
	f.Fuzz(func(t *testing.T, source string, step, to int, value string) {
		for _, change := range []edit.StepChange{{Step: step & 7, MoveTo: to & 7}, {Step: step & 7, Remove: true},
			{Step: step & 7, Field: &edit.Field{Name: "reason", Value: value}}, {Step: step & 7, Add: []edit.Field{{Name: "do", Value: "trim"}}}} {
			if got, err := edit.Plans.Apply(source, []edit.StepChange{change}); err == nil {
				if _, err := document.Parse([]byte(got)); err != nil {
					t.Errorf("%+v makes a text that is no YAML: %v\n%s", change, err, got)
				}
			}
		}
	})
}

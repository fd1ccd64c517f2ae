package service_test

import (
	"fmt"
	"slices"
	"testing"

	"proudsieve/service/api"
	"proudsieve/service/servicetest"
)

// Whoever writes a text is told what is wrong with it and what can come in it, before it is saved.
func TestTextsAreCheckedWhileTheyAreWritten(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\n")
	check := func(path, field, text string) *api.Checked {
		t.Helper()
		out, err := servicetest.Post[api.Checked](ctx, r.Reader, path, map[string]string{field: text})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	said := func(c *api.Checked, line, column int, message string) {
		t.Helper()
		if c.Good || len(c.Problems) != 1 || c.Problems[0].Line != line || c.Problems[0].Column != column ||
			c.Problems[0].Message != message {
			t.Errorf("%+v, want %d:%d %s", c.Problems, line, column, message)
		}
	}
	plan := "fix_plan: clean\ndataset: samples\nsteps:\n  - {do: trim, columns: [%s], reason: Stray spaces.}\n"
	if c := check("/fix-plans/check", "source", fmt.Sprintf(plan, "sample")); !c.Good ||
		!slices.Equal(c.Columns, []string{"sample", "value"}) || len(c.Sections) != 2 {
		t.Errorf("%+v", c)
	}
	if c := check("/fix-plans/check", "source", fmt.Sprintf(plan, "sampel")); c.Good || c.Problems[0].Line != 4 ||
		!slices.Equal(c.Columns, []string{"sample", "value"}) {
		t.Errorf("%+v", c)
	}
	said(check("/fix-plans/check", "source", "fix_plan: clean\n"), 1, 1, `a fix plan needs "dataset"`)
	if c := check("/merges/check", "source", "merge: all\nstack: [samples]\n"); !c.Good ||
		!slices.Equal(c.Datasets, []string{"samples"}) {
		t.Errorf("%+v", c)
	}
	said(check("/merges/check", "source", "merge: all\nstack: [sample]\n"), 1, 1,
		`not found: there is no dataset "sample"`)
	conditions := fmt.Sprintf("/tables/%d/conditions/check", d.Table.ID)
	if c := check(conditions, "condition", "value > 1"); !c.Good || !slices.Contains(c.Functions, "DATE_TRUNC") ||
		!slices.Equal(c.Columns, []string{"sample", "value"}) {
		t.Errorf("%+v", c)
	}
	if c := check(conditions, "condition", ""); !c.Good {
		t.Errorf("nothing restricts nothing: %+v", c)
	}
	if c := check(conditions, "condition", "valeu > 1"); c.Good || len(c.Problems) != 1 || c.Problems[0].Column != 1 {
		t.Errorf("%+v", c)
	}
}

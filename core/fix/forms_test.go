package fix_test

import (
	"strings"
	"testing"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps"
)

// What an editor offers are the steps that there are, with the fields that they take.
func TestFormsNameEveryStepAndField(t *testing.T) {
	forms := fix.Forms()
	if len(forms) != 2 || forms[0].Name != "fix_plan" || forms[1].Name != "steps" {
		t.Fatalf("%+v", forms)
	}
	found := map[string]string{}
	for _, f := range forms[1].Form {
		found[f.Name] = f.Kind
		if f.Name == "do" && len(f.Choices) != 29 {
			t.Errorf("the steps are %v", f.Choices)
		}
		if f.Name == "survivor" && (len(f.Choices) != 5 || len(f.For) != 1 || f.For[0] != "keep_one") {
			t.Errorf("%+v", f)
		}
	}
	fix.Examples(func(name, says string, e fix.Example) {
		if says == "" || e.Rows == "" || !strings.Contains(e.Step, "do: "+name) {
			t.Errorf("%s has no example of its own: %+v", name, e)
		}
	})
	for name, kind := range map[string]string{"do": "choice", "reason": "text", "columns": "columns", "where": "condition",
		"values": "texts", "by": "column", "survivor": "choice"} {
		if found[name] != kind {
			t.Errorf("%s is of kind %q, want %q", name, found[name], kind)
		}
	}
}

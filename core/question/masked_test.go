package question_test

import (
	"encoding/json"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/profile"
	"proudsieve/core/question"
)

// Whatever an audit tells of a column, none of its texts is left in the result as it is sent, and the result itself stays.
func TestNothingIsLeftOfTheTextsOfAMaskedColumn(t *testing.T) {
	name := func(rows int64) []profile.Frequency { return []profile.Frequency{{Text: "Mara Quill", Rows: rows}} }
	r := &audit.Result{
		Columns: []audit.Column{{Name: "taken_by", Column: profile.Column{Lowest: "Mara Quill", Highest: "Mara Quill", Mean: "7", Sum: "7", Frequent: name(3), Rare: name(1),
			Values: name(2), Exceptions: name(1)}}, {Name: "river", Column: profile.Column{Frequent: []profile.Frequency{{Text: "Alder", Rows: 3}}}}},
		Findings: []audit.Finding{{Rule: "a", Columns: []string{"taken_by"}, Found: `3 values of taken_by are "Mara Quill".`, Texts: name(3)}},
		Leads:    []audit.Lead{{Column: "taken_by", Says: "Mara Quill occurs often.", Texts: name(3), Condition: "taken_by <> 'Mara Quill'"}},
		MeantSo:  []audit.Lead{{Columns: []string{"river", "taken_by"}, Says: `"Mara Quill" goes with Alder.`}},
		Closing:  []string{"signed Mara Quill"},
		There:    &audit.There{Relation: "river.visits", Where: map[string]string{"a": "taken_by = 'Mara Quill'"}, Statements: []audit.Statement{{Says: "the texts", SQL: "taken_by IN ('Mara Quill')"}}},
	}
	before, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	masked, err := json.Marshal(question.Masked(r, []string{"taken_by"}))
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(masked), "Quill") || strings.Contains(string(masked), "Mara") {
		t.Errorf("%s", masked)
	}
	for _, text := range []string{"Alder", "taken_by", "M••• •••••", "river.visits", "the texts"} {
		if !strings.Contains(string(masked), text) {
			t.Errorf("no %s in %s", text, masked)
		}
	}
	if after, err := json.Marshal(r); err != nil || string(after) != string(before) {
		t.Errorf("the result itself is changed: %s, %v", after, err)
	}
	if same := question.Masked(r, nil); same != r {
		t.Error("without columns something else is returned")
	}
}

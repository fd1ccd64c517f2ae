package rulebook_test

import (
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// easingBook is what the changes below are made to, each by replacing a text by another.
const easingBook = `dataset: d
reading: {missing: [n/a], dates: [dd/MM/yyyy]}
columns:
  - {name: id, required: true}
  - {name: n, type: integer, from: 0, to: 14, filled: 90}
  - {name: text, shortest: 2, longest: 9, pattern: "[a-z]+"}
  - {name: day, type: date}
  - {name: unit, type: code, codes: units}
code_lists:
  units:
    codes: [{code: mg, spellings: [MG]}, {code: kg, ended: true}]
keys: [{id: one, columns: [id]}]
equal_rows: {severity: minor}
rules:
  - {id: order, condition: n >= 1, when: n < 9, tolerance: 2, may_break: 5, severity: major, reason: it is so}
table_rules: [{id: rows, check: row_count, from: 10, to: 20}]
history: [{id: steady, check: rows_steady, within: 10}]
meant_so:
  - {id: odd, lead: outliers, columns: [n], at_most: 5}
pass_mark: 95
`

// What a change makes of a rulebook: it asks less, nobody can tell, or it asks no less.
func TestWhichChangesMakeARulebookWeaker(t *testing.T) {
	const less, perhaps, no = "less", "perhaps", "no less"
	for _, c := range []struct{ from, to, want string }{
		{"pass_mark: 95", "pass_mark: 90", less},
		{"pass_mark: 95", "pass_mark: 99.5", no},
		{"pass_mark: 95", "estimates: values\npass_mark: 95", less},
		{"missing: [n/a]", "missing: [n/a, none]", less},
		{"missing: [n/a]", "missing: []", no},
		{"dates: [dd/MM/yyyy]", "dates: [dd/MM/yyyy, MM/dd/yyyy]", less},
		{"reading: {", "reading: {closing_lines: [Total], ", less},
		{"name: id, required: true", "name: id, required: true, title: Sample", no},
		{"  - {name: text, shortest: 2, longest: 9, pattern: \"[a-z]+\"}\n", "", less},
		{"{name: text, ", "{name: words, was: [text], ", no},
		{"{name: text, shortest: 2, ", "{name: words, was: [text], ", less},
		{"name: n, type: integer", "name: n, type: decimal", less},
		{"name: day, type: date", "name: day, type: text", less},
		{"name: day, type: date", "name: day, type: datetime", perhaps},
		{"name: day, type: date", "name: day, type: date, dates: [yyyy-MM-dd]", no},
		{"name: day, type: date", "name: day, type: date, dates: [yyyyMMdd]", less},
		{"name: text, ", "name: text, required: true, ", no},
		{"from: 0, ", "from: -1, ", less},
		{"from: 0, ", "from: 1, ", no},
		{"from: 0, ", "", less},
		{"to: 14", "to: 140", less},
		{"to: 14, ", "to: 9, ", no},
		{"filled: 90", "filled: 80", less},
		{"shortest: 2", "shortest: 1", less},
		{"longest: 9", "longest: 10", less},
		{`pattern: "[a-z]+"`, `pattern: "[a-z0-9]+"`, perhaps},
		{`, pattern: "[a-z]+"`, "", less},
		{"codes: units}", "codes: units, new_codes: true}", less},
		{"{code: mg, spellings: [MG]}", "{code: mg, spellings: [MG, Mg]}", no},
		{"{code: mg, spellings: [MG]}", "{code: mg, spellings: [MG]}, {code: ug}", less},
		{"{code: mg, spellings: [MG]}, ", "", no},
		{"{code: mg, spellings: [MG]}", "{code: mg, label: milligram, spellings: [MG]}", no},
		{"ended: true", "ended: false", less},
		{"columns: [id]}]\nequal", "columns: [id, n]}]\nequal", less},
		{"columns: [id]}]\nequal", "columns: [id], may_lack_parts: true}]\nequal", less},
		{"keys: [{id: one, columns: [id]}]\n", "", less},
		{"equal_rows: {severity: minor}\n", "", less},
		{"equal_rows: {severity: minor}", "equal_rows: {severity: note}", less},
		{"equal_rows: {severity: minor}", "equal_rows: {severity: major}", no},
		{"severity: major, reason", "severity: minor, reason", less},
		{"reason: it is so", "reason: it must be", no},
		{"condition: n >= 1", "condition: n >= 2", perhaps},
		{"when: n < 9, ", "", no},
		{"when: n < 9", "when: n < 8", perhaps},
		{"tolerance: 2", "tolerance: 3", less},
		{"tolerance: 2, ", "", no},
		{"may_break: 5", "may_break: 4", no},
		{"may_break: 5", "may_break: 10", less},
		{"from: 10", "from: 9", less},
		{"to: 20", "to: 200", less},
		{"within: 10", "within: 9", no},
		{"within: 10", "within: 20", less},
		{"at_most: 5", "at_most: 6", less},
		{"at_most: 5", "at_most: 5, texts: [a]", no},
		{"  - {id: odd,", "  - {id: few, lead: rare_texts}\n  - {id: odd,", less},
		{"meant_so:\n  - {id: odd, lead: outliers, columns: [n], at_most: 5}\n", "", no},
		{"rules:\n", "rules:\n  - {id: more, condition: n <> 3}\n", no},
		{"table_rules: [{id: rows, check: row_count, from: 10, to: 20}]\n", "", less},
	} {
		if strings.Count(easingBook, c.from) != 1 {
			t.Fatalf("%q stands %d times in the rulebook", c.from, strings.Count(easingBook, c.from))
		}
		before, after := testkit.Book(t, easingBook), testkit.Book(t, strings.Replace(easingBook, c.from, c.to, 1))
		got := no
		for _, d := range rulebook.Weaker(before, after) {
			if got = less; d.Perhaps {
				got = perhaps
			}
		}
		if got != c.want {
			t.Errorf("%q to %q asks %s, want %s: %+v", c.from, c.to, got, c.want, rulebook.Compare(before, after))
		}
	}
}

func TestEveryFieldThatVersionsAreComparedByTellsWhatEasesIt(t *testing.T) {
	for _, s := range rulebook.Sections() {
		for _, f := range s.Form {
			if f.Aspect != "" && f.Eases == 0 {
				t.Errorf("the field %s of %s does not say which change of it asks less", f.Name, s.Name)
			}
		}
	}
}

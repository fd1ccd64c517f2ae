package question_test

import (
	"slices"
	"strings"
	"testing"

	"proudsieve/core/question"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules"
)

const insteadBook = `# by the office
dataset: samples
columns:
  - {name: id}
  - {name: parameter, type: code, codes: parameters}
  - {name: station, type: code, codes: stations}
  - {name: value, type: decimal, from: 0, to: 14, reason: pH ends at 14.}
  - {name: taken, type: date, to: 2026-12-31}
code_lists:
  parameters: {codes: [{code: PH}]}
  stations: {from: {dataset: stations, columns: [station]}}
`

func TestWhatIsMeantSoCanBeSaidInTheRulebook(t *testing.T) {
	text := func(code, column, text, rule string, answer question.Answer) question.Answered {
		return question.Answered{Question: question.Question{Code: code, Item: question.Item{Kind: question.OfText, Column: column, Text: text, Rows: 2}},
			Given: question.Given{Code: code, Answer: answer}, By: "Ada Moss", Rule: rule}
	}
	row := func(code, value, rule string) question.Answered {
		return question.Answered{Question: question.Question{Code: code, Item: question.Item{Kind: question.OfRow, Columns: []string{"id", "value", "taken"},
			Cells: []string{"a", value, "2027-01-01"}, Key: []string{"id"}}}, Given: question.Given{Code: code, Answer: question.MeantSo}, By: "Ines Hay", Rule: rule}
	}
	answers := []question.Answered{
		text("C1", "parameter", "NO3: a\"b", "parameter.codes", question.MeantSo),
		text("C2", "parameter", "Zink", "parameter.codes", question.Wrong), // is put right, and no code
		text("C3", "station", "AV-9", "station.codes", question.MeantSo),   // its list is that of another dataset
		row("R1", "15.50", "value.range"), row("R2", "15", "value.range"),  // within what R1 made of it
		row("R3", "-2", "value.range"), row("R4", "99", "one_id"), row("R5", "high", "value.range"), row("R6", "1", "taken.range"),
	}
	changes, err := question.Instead(insteadBook, answers)
	if err != nil {
		t.Fatal(err)
	}
	var codes []string
	for _, c := range changes {
		codes = append(codes, c.Code)
	}
	if !slices.Equal(codes, []string{"C1", "R1", "R3"}) {
		t.Fatalf("%+v", changes)
	}
	if says := changes[1].Says; says != "The highest value of value becomes 15.50; it is 14 now." {
		t.Error(says)
	}
	source, says, err := question.Changed(insteadBook, changes, []string{"C1", "R1"})
	if err != nil || len(says) != 2 || !strings.HasPrefix(source, "# by the office\n") {
		t.Fatalf("%s, %q, %v", source, says, err)
	}
	before, err := rulebook.Parse([]byte(insteadBook))
	if err != nil {
		t.Fatal(err)
	}
	after, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatal(err)
	}
	if list := after.CodeLists["parameters"]; len(list.Codes) != 2 || list.Codes[1].Code != "NO3: a\"b" {
		t.Errorf("%+v", list.Codes)
	}
	if weaker := rulebook.Weaker(before, after); len(weaker) != 2 {
		t.Errorf("%+v", weaker)
	}
	if why := question.Reason(answers); why != "Ada Moss and Ines Hay say that it is meant so." {
		t.Error(why)
	}
	if _, err := question.Instead("not: [a rulebook", answers); err == nil {
		t.Error("what is no rulebook is changed")
	}
}

package steps_test

import (
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/testkit"
)

func TestKeepOne(t *testing.T) {
	try(t,
		trial{"the earliest", `do: keep_one, columns: [sample], survivor: earliest_row`, "S1,PH,1\nS2,PH,5\nS1,PH,2\n",
			"S1,PH,1\nS2,PH,5\n", "0 1 -2"},
		trial{"the latest", `do: keep_one, columns: [sample], survivor: latest_row`, "S1,PH,1\nS1,PH,2\n", "S1,PH,2\n",
			"0 1 -1"},
		trial{"the fullest, of equals the earliest", `do: keep_one, columns: [sample], survivor: fullest_row, ties: earliest_row`,
			"S1,n/a,1\nS1,PH,2\nS1,NO3,3\n", "S1,PH,2\n", "0 2 -4"},
		trial{"the largest", `do: keep_one, columns: [sample], survivor: largest_value, by: value`,
			"S1,PH,9\nS1,PH,10\nS1,PH,\n", "S1,PH,10\n", "0 2 -9"},
		trial{"the least, a missing one last", `do: keep_one, columns: [sample], survivor: least_value, by: value`,
			"S1,PH,\nS1,PH,9\nS1,PH,10\n", "S1,PH,9\n", "0 2 -10"},
		trial{"rows without a key are all kept", `do: keep_one, columns: [sample], survivor: earliest_row`,
			",PH,1\n,PH,2\n", ",PH,1\n,PH,2\n", "0 0 0: This step had nothing to do."},
	)
	refused(t, map[string]string{
		`do: keep_one, columns: [sample], survivor: largest_value`: `"by" names the column that decides`,
		`do: keep_one, columns: [sample], survivor: best`:          `"best" is not a way to choose a row`,
	})
}

// The words of earlier versions are read, and said to be old.
func TestOldWordsOfKeepOne(t *testing.T) {
	p, err := fix.Parse(
		[]byte("fix_plan: p\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], keep: largest, by: value, reason: r}\n"), testkit.Book(t, book))
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, one := range p.Old {
		told = append(told, one.String())
	}
	want := `line 4, column 39: "keep" is an old word for "survivor"; it is still understood|line 4, column 45: "largest" is an old word for "largest_value"; it is still understood`
	if got := strings.Join(told, "|"); got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

const visits = `dataset: samples
columns:
  - {name: visit}
  - {name: lab}
  - {name: day, type: date}
  - {name: value, type: decimal}
  - {name: note}
measures: [value]
pass_mark: 0
`

// Rows that contradict each other become one, cell by cell.
func TestKeepOneByCell(t *testing.T) {
	const head = "visit,lab,day,value,note\n"
	rows := "V1,a,2024-01-01,7.0,dry\nV2,a,2024-01-01,1,x\nV1,b,2024-01-03,7.00,\nV1,a,2024-01-02,8,very dry\n"
	tryOn(t, visits, head, head,
		trial{"each by its rule", `do: keep_one, columns: [visit], by: day, cells: {lab: most_frequent, day: largest_value, value: latest, note: longest}`, rows,
			"V1,a,2024-01-03,7.0,very dry\nV2,a,2024-01-01,1,x\n", "2 2 -15"},
		trial{"by the source that is trusted most", `do: keep_one, columns: [visit], by: day, source_column: lab, sources: [b, a], cells: {value: named_source, note: only_value, lab: latest, day: least_value}, survivor: latest_row`,
			"V1,a,2024-01-01,7.0,dry\nV1,b,2024-01-03,9,\n", "V1,b,2024-01-01,9,dry\n", "2 1 -7"},
		trial{"what no rule settles stays, if that is declared", `do: keep_one, columns: [visit], cells: {day: largest_value}, undecided: leave`,
			"V1,a,2024-01-01,7,\nV1,a,2024-01-02,8,\nV2,a,,1,\nV2,a,2024-01-01,1,\n", "V1,a,2024-01-01,7,\nV1,a,2024-01-02,8,\nV2,a,2024-01-01,1,\n", "1 1 -1"},
		trial{"what a person chose", `do: keep_one, columns: [visit], cells: {day: largest_value}, choices: [{key: {visit: V1}, column: value, to: "7.5"}]`,
			"V1,a,2024-01-01,7,\nV1,a,2024-01-02,8,\n", "V1,a,2024-01-02,7.5,\n", "2 1 -7.5"},
	)
	got := played(t, visits, head+rows, `do: keep_one, columns: [visit], cells: {day: largest_value, note: longest}`)
	s := got.Ledger.Steps[0]
	if got.Refused == nil || s.Open != 2 || len(s.Undecided) != 2 || got.Table != head+rows {
		t.Fatalf("%v, %+v", got.Refused, s)
	}
	if u := s.Undecided[1]; u.Key["visit"] != "V1" || u.Column != "value" || len(u.Choices) != 2 || u.Choices[0] != (fix.Choice{Text: "7.0", Rows: 2, Row: 1}) ||
		u.Choices[1] != (fix.Choice{Text: "8", Rows: 1, Row: 4}) {
		t.Errorf("%+v", u)
	}
	refused(t, map[string]string{
		`do: keep_one, columns: [sample]`:                                                                              `needs "survivor", "cells" or both`,
		`do: keep_one, columns: [sample], cells: {value: newest}`:                                                      `"newest" is not a way to choose a value`,
		`do: keep_one, columns: [sample], cells: {value: latest}`:                                                      `"by" names the column that decides`,
		`do: keep_one, columns: [sample], cells: {value: named_source}`:                                                `both`,
		`do: keep_one, columns: [sample], cells: {sample: longest}`:                                                    `is of the key`,
		`do: keep_one, columns: [sample], cells: {value: longest}, choices: [{key: {value: 1}, column: value, to: x}]`: `a choice is for one key; it names sample`,
	})
}

// Rows that a survivor does not tell apart are told, and one of them is kept where it is declared which.
func TestTiesOfKeepOne(t *testing.T) {
	stopped(t, "S1,PH,1\nS1,NO3,1\n", map[string]string{`do: keep_one, columns: [sample], survivor: largest_value, by: value`: `as good as each other`})
	try(t,
		trial{"the latest of them", `do: keep_one, columns: [sample], survivor: largest_value, by: value, ties: latest_row`, "S1,PH,1\nS1,NO3,1\n", "S1,NO3,1\n", "0 1 -1"},
		trial{"equal rows are no tie", `do: keep_one, columns: [sample], survivor: largest_value, by: value`, "S1,PH,1\nS1,PH,1\n", "S1,PH,1\n", "0 1 -1"},
	)
}

package fix_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/intake"
	"proudsieve/core/testkit"
)

const book = `dataset: samples
columns:
  - {name: sample}
  - {name: parameter, type: code, codes: parameters}
  - {name: value, type: decimal}
  - {name: taken, type: date}
keys:
  - {id: one_sample, columns: [sample]}
code_lists:
  parameters:
    - {code: PH, spellings: [Acidity]}
    - NO3
measures: [value]
pass_mark: 0
`

func apply(t testing.TB, content, bookSource, steps string, workers int) *fixtest.Played {
	t.Helper()
	b := testkit.Book(t, bookSource)
	out, err := fixtest.Play(t, content, b, fixtest.Plan(t, b, steps), workers)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

const head = "sample,parameter,value,taken\n"

func TestEachKindOfStep(t *testing.T) {
	for _, c := range []struct {
		name, rows, steps, want string
		cells, gone             int64
		change                  string // of the sum
	}{
		{"trim", " S 1 ,PH,1,\nS  2,PH,2,\n", "  - {do: trim, columns: [sample], reason: r}\n",
			"S 1,PH,1,\nS 2,PH,2,\n", 2, 0, "0"},
		{"trim makes a number of a text", "S1,PH, 5 ,\n", "  - {do: trim, columns: [value], reason: r}\n", "S1,PH,5,\n",
			1, 0, "5"},
		{"change case to lower", "S1,PH,1,\ns2,PH,1,\n",
			"  - {do: change_case, columns: [sample], to: lower, reason: r}\n", "s1,PH,1,\ns2,PH,1,\n", 1, 0, "0"},
		{"change case to upper", "s1,PH,1,\n", "  - {do: change_case, columns: [sample], to: upper, reason: r}\n",
			"S1,PH,1,\n", 1, 0, "0"},
		{"change case to first", "öSTLICH,PH,1,\n", "  - {do: change_case, columns: [sample], to: first, reason: r}\n",
			"Östlich,PH,1,\n", 1, 0, "0"},
		{"map codes", "S1,acidity ,1,\nS2,no3,1,\nS3,XX,1,\nS4,PH,1,\nS5,,1,\n",
			"  - {do: map_codes, columns: [parameter], reason: r}\n",
			"S1,PH,1,\nS2,NO3,1,\nS3,XX,1,\nS4,PH,1,\nS5,,1,\n", 2, 0, "0"},
		{"set missing by texts", "S1,PH,999,\nS2,PH,trace,\nS3,PH,9,\n",
			"  - {do: set_missing, columns: [value], values: [999, trace], reason: r}\n",
			"S1,PH,,\nS2,PH,,\nS3,PH,9,\n", 2, 0, "-999"},
		{"set missing where", "S1,PH,99,\nS2,NO3,99,\nS3,PH,,\n",
			"  - {do: set_missing, columns: [value], where: parameter = 'PH' AND value > 14, reason: r}\n",
			"S1,PH,,\nS2,NO3,99,\nS3,PH,,\n", 1, 0, "-99"},
		{"set one cell", "S1,PH,74,\nS2,PH,74,\n",
			"  - {do: set_cell, key: {sample: S1}, column: value, to: \"7.4\", reason: r}\n", "S1,PH,7.4,\nS2,PH,74,\n",
			1, 0, "-66.6"},
		{"set aside", "TOTAL,,30,\nS1,PH,10,\nS2,,20,\n", "  - {do: set_aside, where: sample = 'TOTAL', reason: r}\n",
			"S1,PH,10,\nS2,,20,\n", 0, 1, "-30"},
		{"set aside keeps what is unknown", "S1,PH,,\nS2,PH,1,\n", "  - {do: set_aside, where: value > 0, reason: r}\n",
			"S1,PH,,\n", 0, 1, "-1"},
		{"remove equal rows", "S1,PH,1,\nS2,PH,1,\nS1,PH,1,\nS1,PH,1.0,\n", "  - {do: remove_equal_rows, reason: r}\n",
			"S1,PH,1,\nS2,PH,1,\nS1,PH,1.0,\n", 0, 1, "-1"},
		{"keep the first", "S1,PH,1,\nS2,PH,5,\nS1,PH,2,\n",
			"  - {do: keep_one, columns: [sample], survivor: earliest_row, reason: r}\n", "S1,PH,1,\nS2,PH,5,\n", 0, 1,
			"-2"},
		{"keep the last", "S1,PH,1,\nS2,PH,5,\nS1,PH,2,\n",
			"  - {do: keep_one, columns: [sample], survivor: latest_row, reason: r}\n", "S2,PH,5,\nS1,PH,2,\n", 0, 1,
			"-1"},
		{"keep the largest", "S1,PH,1,\nS1,PH,10,\nS1,PH,9,\n",
			"  - {do: keep_one, columns: [sample], survivor: largest_value, by: value, reason: r}\n", "S1,PH,10,\n", 0,
			2, "-10"},
		{"keep the least, a missing one last", "S1,PH,,\nS1,PH,10,\nS1,PH,9,\n",
			"  - {do: keep_one, columns: [sample], survivor: least_value, by: value, reason: r}\n", "S1,PH,9,\n", 0, 2,
			"-10"},
		{"keep the latest", "S1,PH,1,2024-01-31\nS1,PH,2,2024-02-01\nS1,PH,3,\n",
			"  - {do: keep_one, columns: [sample], survivor: largest_value, by: taken, reason: r}\n",
			"S1,PH,2,2024-02-01\n", 0, 2, "-4"},
		{"keep the fullest, of equals the earliest", "S1,,1,\nS1,PH,2,\nS1,PH,3,\n",
			"  - {do: keep_one, columns: [sample], survivor: fullest_row, reason: r}\n", "S1,PH,2,\n", 0, 2, "-4"},
		{"rows without a key are all kept", ",PH,1,\n,PH,2,\n",
			"  - {do: keep_one, columns: [sample], survivor: earliest_row, reason: r}\n", ",PH,1,\n,PH,2,\n", 0, 0,
			"0"},
		{"no steps at all", "S1,PH,1,\n", "  []\n", "S1,PH,1,\n", 0, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := apply(t, head+c.rows, book, c.steps, 2)
			if got.Table != head+c.want {
				t.Errorf("table %q, want %q", got.Table, head+c.want)
			}
			if len(got.Ledger.Steps) == 0 {
				return
			}
			step := got.Ledger.Steps[0]
			if step.Cells != c.cells || step.Rows != c.gone || step.Sums["value"] != c.change {
				t.Errorf("%d cells, %d rows, sum %s; want %d, %d, %s", step.Cells, step.Rows, step.Sums["value"],
					c.cells, c.gone, c.change)
			}
			if int64(len(got.Changes)) != c.cells+c.gone {
				t.Errorf("%d entries in the change log, want %d", len(got.Changes), c.cells+c.gone)
			}
			for _, change := range got.Changes {
				if change.Reason != "r" || change.Step != 1 {
					t.Errorf("the log says %+v", change)
				}
			}
		})
	}
}

func TestStepsSeeWhatTheStepsBeforeThemLeft(t *testing.T) {
	steps := `  - {do: trim, columns: [sample], reason: spaces}
  - {do: map_codes, columns: [parameter], reason: codes}
  - {do: remove_equal_rows, reason: twice}
  - {do: keep_one, columns: [sample], survivor: largest_value, by: value, reason: conflict}
`
	got := apply(t, head+"S1,PH,1,\n S1,ph,1,\nS1 ,Acidity,3,\nS2,PH,4,\n", book, steps, 2)
	if want := head + "S1,PH,3,\nS2,PH,4,\n"; got.Table != want {
		t.Errorf("table %q, want %q", got.Table, want)
	}
	l := got.Ledger
	if l.RowsIn != 4 || l.RowsOut != 2 || l.SumsIn["value"] != "9" || l.SumsOut["value"] != "7" {
		t.Errorf("ledger %+v", l)
	}
	last := got.Changes[len(got.Changes)-1]
	for _, c := range got.Changes {
		if c.Step == 4 && (c.Row != 1 || c.KeptBy != 3 || c.Gone["value"] != "1") {
			t.Errorf("the log says %+v", c)
		}
	}
	if last.Line == 0 {
		t.Errorf("an entry without a line: %+v", last)
	}
}

func TestTheChangeLogHasOldNewAndPlace(t *testing.T) {
	got := apply(t, head+"S1,acidity,1,\nS2,PH,2,\n", book,
		"  - {do: map_codes, columns: [parameter], reason: codes}\n", 1)
	want := []fix.LogEntry{{Step: 1, Row: 1, Line: 2, Column: "parameter", Old: "acidity", New: "PH", Reason: "codes"}}
	if !reflect.DeepEqual(got.Changes, want) {
		t.Errorf("%+v, want %+v", got.Changes, want)
	}
}

const comma = `dataset: samples
reading: {delimiter: ";", decimal_mark: ",", dates: dd/MM/yyyy, missing: [n/a]}
columns:
  - {name: sample}
  - {name: parameter, type: code, codes: parameters}
  - {name: value, type: decimal}
  - {name: taken, type: date}
code_lists:
  parameters: [PH]
measures: [value]
pass_mark: 0
`

// Without a step that says so, no text is written otherwise, and the reading of the texts belongs to the table; with one
// each that is stands in the log and the ledger.
func TestStandardFormIsAStepLikeOthers(t *testing.T) {
	content := "sample;parameter;value;taken\nS1;PH;7,10;31/05/2024\nS2;PH;n/a;\nS3;PH;<0,5;soon\nS4;PH;8;01/06/2024\nS5;PH;7,10;\n"
	got := apply(t, content, comma, "  []\n", 2)
	if want := head + "S1,PH,\"7,10\",31/05/2024\nS2,PH,n/a,\nS3,PH,\"<0,5\",soon\nS4,PH,8,01/06/2024\nS5,PH,\"7,10\",\n"; got.Table != want || len(got.Changes) != 0 {
		t.Errorf("table %q with %d changes, want %q", got.Table, len(got.Changes), want)
	}
	if r := got.Ledger.Reading; r.Columns["value"].DecimalMark != "," || !reflect.DeepEqual(r.Columns["taken"].Dates, []string{"dd/MM/yyyy"}) ||
		!reflect.DeepEqual(r.Missing, []string{"n/a"}) || len(r.Columns) != 2 {
		t.Errorf("the table is read by %+v", r)
	}
	got = apply(t, content, comma, "  - {do: standard_form, reason: r}\n", 2)
	if want := head + "S1,PH,7.10,2024-05-31\nS2,PH,,\nS3,PH,\"<0,5\",soon\nS4,PH,8,2024-06-01\nS5,PH,7.10,\n"; got.Table != want {
		t.Errorf("table %q, want %q", got.Table, want)
	}
	if !got.Ledger.Reading.IsStandard() || got.Ledger.Steps[0].Cells != 5 || len(got.Changes) != 5 || got.Ledger.Steps[0].Sums["value"] != "0" {
		t.Errorf("%+v, %d changes", got.Ledger, len(got.Changes))
	}
	got = apply(t, content, comma, "  - {do: standard_form, columns: [taken], reason: r}\n  - {do: set_values, columns: [value], expression: value * 2, reason: r}\n", 2)
	if want := head + "S1,PH,\"14,2\",2024-05-31\nS2,PH,,\nS3,PH,,soon\nS4,PH,16,2024-06-01\nS5,PH,\"14,2\",\n"; got.Table != want {
		t.Errorf("table %q, want %q", got.Table, want)
	}
}

// A plan that was saved before standard form was a step makes the same bytes as then.
func TestAnEarlierPlanEndsInStandardForm(t *testing.T) {
	b := testkit.Book(t, comma)
	plan := fixtest.Plan(t, b, "  - {do: set_cell, key: {parameter: PH}, column: sample, to: S, reason: r}\n").AsEarlier()
	got, err := fixtest.Play(t, "sample;parameter;value;taken\nS1;PH;7,10;31/05/2024\nS2;PH;n/a;\n", b, plan, 2)
	if err != nil || got.Refused != nil || got.Table != head+"S,PH,7.10,2024-05-31\nS,PH,,\n" {
		t.Errorf("%+v, %v", got, err)
	}
	if s := got.Ledger.Steps[1]; s.Kind != fix.StandardForm || s.Cells != 3 || !strings.Contains(s.Reason, "is a step now") {
		t.Errorf("%+v", s)
	}
}

func TestATextThatWouldQuietlyBecomeANumberIsRefused(t *testing.T) {
	content := "sample;parameter;value;taken\nS1;PH;7,10;\nS2;PH;7.1;\n"
	got := apply(t, content, comma, "  - {do: standard_form, reason: r}\n", 1)
	if got.Refused == nil || !strings.Contains(got.Refused.Error(), `"7.1" in value (line 3)`) {
		t.Errorf("%v", got.Refused)
	}
	if got := apply(t, content, comma, "  - {do: set_cell, key: {sample: S2}, column: value, to: \"7,1\", reason: A point for a comma.}\n"+
		"  - {do: standard_form, reason: r}\n", 1); got.Refused != nil || !strings.Contains(got.Table, "S2,PH,7.1,") {
		t.Errorf("once decided, the table is %q, and %v", got.Table, got.Refused)
	}
}

func TestWhatATableCannotHoldIsInTheLog(t *testing.T) {
	got := apply(t, head+"S1,PH,1,,more,cells\nS2,\xff,2,\n", book, "  []\n", 1)
	if len(got.Changes) != 2 || got.Ledger.Unheaded != 1 {
		t.Fatalf("%+v, %d unheaded", got.Changes, got.Ledger.Unheaded)
	}
	if c := got.Changes[0]; c.Step != 0 || c.Row != 1 || c.Old != "more | cells" {
		t.Errorf("%+v", c)
	}
	if c := got.Changes[1]; c.Row != 2 || c.Column != "parameter" || !strings.Contains(c.Old, `\xff`) {
		t.Errorf("%+v", c)
	}
}

func TestNotesOnStepsThatDidNotDoWhatWasMeant(t *testing.T) {
	got := apply(t, head+"S1,PH,1,\nS1,PH,2,\n", book, `  - {do: set_cell, key: {sample: S9}, column: value, to: "3", reason: r}
  - {do: set_cell, key: {sample: S1}, column: value, to: "3", reason: r}
  - {do: trim, columns: [sample], reason: r}
`, 1)
	for i, want := range []string{"No row has this key", "2 rows have this key", "nothing to do"} {
		if note := got.Ledger.Steps[i].Note; !strings.Contains(note, want) {
			t.Errorf("step %d: %q, want %q", i+1, note, want)
		}
	}
}

func TestALedgerThatDoesNotAddUp(t *testing.T) {
	good := fix.Ledger{RowsIn: 10, RowsOut: 8, SumsIn: map[string]string{"v": "5.5"},
		SumsOut: map[string]string{"v": "5"},
		Steps:   []fix.LedgerStep{{Rows: 2, Sums: map[string]string{"v": "-0.5"}}}}
	if err := good.Balance(); err != nil {
		t.Error(err)
	}
	rows, sums := good, good
	rows.RowsOut = 9
	sums.SumsOut = map[string]string{"v": "5.01"}
	for what, l := range map[string]fix.Ledger{"8, and 9 are in the table": rows,
		"the sum of v should be 5, and is 5.01": sums} {
		if err := l.Balance(); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%v, want %q", err, what)
		}
	}
}

func TestVerifyFindsATableThatIsNotTheLedgers(t *testing.T) {
	b := testkit.Book(t, book)
	ledger := &fix.Ledger{RowsIn: 2, RowsOut: 2, SumsIn: map[string]string{"value": "3"},
		SumsOut: map[string]string{"value": "3"}}
	for content, want := range map[string]string{
		head + "S1,PH,1,\nS2,PH,2,\n": "",
		head + "S1,PH,1,\n":           "2 rows in",
		head + "S1,PH,1,\nS2,PH,x,\n": "the sum of value",
	} {
		err := fix.Verify(context.Background(), testkit.File(t, content, intake.Standard()), b, ledger, 1)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", content, err, want)
		}
	}
}

// The sum of the hundredths from 1 to n is n(n+1)/200, whether nearly all of them differ or few do.
func TestVerifySumsManyAndFewValues(t *testing.T) {
	b := testkit.Book(t, book)
	for name, each := range map[string]int{"all different": 1, "few": 100} {
		t.Run(name, func(t *testing.T) {
			const n = 30_000
			var content strings.Builder
			content.WriteString(head)
			for i := 1; i <= n; i++ {
				fmt.Fprintf(&content, "S%d,PH,%d.%02d,\n", i, ((i-1)/each+1)/100, ((i-1)/each+1)%100)
			}
			// Each number stands in as many rows.
			sum := fmt.Sprint(each * (n / each) * (n/each + 1) / 200)
			sums := map[string]string{"value": sum}
			ledger := &fix.Ledger{RowsIn: n, RowsOut: n, SumsIn: sums, SumsOut: sums}
			for _, workers := range []int{1, 8} {
				err := fix.Verify(context.Background(), testkit.File(t, content.String(), intake.Standard()), b, ledger, workers)
				if err != nil {
					t.Errorf("%d workers: %v", workers, err)
				}
			}
			ledger.SumsIn = map[string]string{"value": sum + ".01"}
			if err := fix.Verify(context.Background(), testkit.File(t, content.String(), intake.Standard()), b, ledger, 2); err == nil {
				t.Error("a hundredth too much is not seen")
			}
		})
	}
}

// dirty is a table of several parts with repeated, padded and misspelt cells.
func dirty(rows int) string {
	r := rand.New(rand.NewPCG(31, 32))
	var b strings.Builder
	b.WriteString(head)
	for i := range rows {
		sample := i
		if r.IntN(15) == 0 {
			sample = r.IntN(rows)
		}
		fmt.Fprintf(&b, "S%d%s,%s,%d.%02d,2024-01-%02d\n", sample, strings.Repeat(" ", r.IntN(2)),
			[]string{"PH", "ph", "Acidity", "NO3"}[r.IntN(4)], r.IntN(90), r.IntN(100), 1+r.IntN(31))
	}
	return b.String()
}

const everything = `  - {do: trim, columns: [sample], reason: a}
  - {do: map_codes, columns: [parameter], reason: b}
  - {do: remove_equal_rows, reason: c}
  - {do: keep_one, columns: [sample], survivor: largest_value, by: taken, reason: d}
  - {do: set_missing, columns: [value], where: value > 80, reason: e}
`

func TestOneWorkerAndEightMakeTheSameTable(t *testing.T) {
	content := dirty(60_000)
	one, eight := apply(t, content, book, everything, 1), apply(t, content, book, everything, 8)
	if one.Table != eight.Table || !reflect.DeepEqual(one.Ledger, eight.Ledger) ||
		!reflect.DeepEqual(one.Changes, eight.Changes) {
		t.Error("the table, the ledger or the log depends on the number of workers")
	}
}

func TestAPlanForColumnsThatTheTableDoesNotHave(t *testing.T) {
	b := testkit.Book(t, book)
	_, err := fixtest.Play(t, "sample,value\nS1,1\n", b, fixtest.Plan(t, b, "  - {do: trim, columns: [parameter], reason: r}\n"), 1)
	if err == nil || !strings.Contains(err.Error(),
		`step 1 (trim): the table has no column "parameter"; its columns are sample, value`) {
		t.Errorf("%v", err)
	}
}

func TestMistakesInAFixPlan(t *testing.T) {
	b := testkit.Book(t, book)
	for _, c := range []struct{ name, source, want string }{
		{"no name", "dataset: samples\nsteps: []\n", `a fix plan needs "fix_plan"`},
		{"a name with a space", "fix_plan: my plan\ndataset: samples\nsteps: []\n",
			"line 1, column 11: the name of a fix plan is written in lower-case letters"},
		{"another dataset", "fix_plan: p\ndataset: others\nsteps: []\n",
			`line 2, column 10: this plan is for the dataset "others", and the rulebook is that of "samples"`},
		{"no such step", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: trimm, reason: r}\n",
			`line 4, column 10: "trimm" is not a kind of step; did you mean "trim"?`},
		{"no reason", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: remove_equal_rows}\n", `a step needs "reason"`},
		{"no columns", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, reason: r}\n",
			`a step "trim" needs "columns"`},
		{"a column that is not there",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, columns: [sampel], reason: r}\n",
			`line 4, column 26: there is no column "sampel"; did you mean "sample"?`},
		{"a field of another step",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, columns: [sample], to: x, reason: r}\n",
			`a step "trim" has no "to"`},
		{"a case that is none",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: change_case, columns: [sample], to: title, reason: r}\n",
			`"title" is not a case`},
		{"no code list", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: map_codes, columns: [sample], reason: r}\n",
			`"sample" has no code list to map to`},
		{"neither values nor where",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_missing, columns: [value], reason: r}\n",
			`has "values", "where" or both`},
		{"a condition",
			"fix_plan: p\ndataset: samples\nsteps:\n  - do: set_aside\n    where: vale > 1\n    reason: r\n",
			`line 5, column 12: in the condition: there is no column "vale"; did you mean "value"?`},
		{"a condition that ends too soon",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_aside, where: value >, reason: r}\n",
			"in the condition: a column, a value or a parenthesis was expected"},
		{"a key without names",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_cell, key: S1, column: value, to: x, reason: r}\n",
			`"key" has names, each with what it stands for`},
		{"largest by nothing",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], survivor: largest_value, reason: r}\n", `"by" names the column that decides`},
		{"first by something",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], survivor: earliest_row, by: value, reason: r}\n", `"by" names the column that decides`},
	} {
		_, err := fix.Parse([]byte(c.source), b)
		var mistakes document.Problems
		if !errors.As(err, &mistakes) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %q", c.name, err, c.want)
		}
	}
	if of, makes, err := fix.DatasetsOf([]byte("fix_plan: p\ndataset: samples\n")); of != "samples" || makes != "samples" || err != nil {
		t.Errorf("%q, %q, %v", of, makes, err)
	}
	if of, makes, err := fix.DatasetsOf([]byte("makes: others\ndataset: samples\n")); of != "samples" || makes != "others" || err != nil {
		t.Errorf("%q, %q, %v", of, makes, err)
	}
	if _, _, err := fix.DatasetsOf([]byte("fix_plan: p\n")); err == nil {
		t.Error("a plan without a dataset has one")
	}
}

func FuzzParse(f *testing.F) {
	f.Add("fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, columns: [sample], reason: r}\n  - {do: keep_one, columns: [sample], survivor: earliest_row, reason: r}\n")
	b := testkit.Book(f, book)
	f.Fuzz(func(t *testing.T, source string) {
		_, err := fix.Parse([]byte(source), b)
		var mistakes document.Problems
		if err != nil && !errors.As(err, &mistakes) {
			t.Errorf("%q: the error %v has no place", source, err)
		}
	})
}

package fix_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps"
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

func plan(t testing.TB, bookSource, steps string) *fix.Plan {
	t.Helper()
	p, err := fix.Parse([]byte("fix_plan: p\ndataset: samples\nsteps:\n"+steps), testkit.Book(t, bookSource))
	if err != nil {
		t.Fatalf("the plan of the test is wrong:\n%v", err)
	}
	return p
}

type applied struct {
	table   string
	ledger  *fix.Ledger
	changes []fix.Change
}

func apply(t testing.TB, content, bookSource, steps string, workers int) *applied {
	t.Helper()
	out, err := tryApply(t, content, bookSource, steps, workers)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func tryApply(t testing.TB, content, bookSource, steps string, workers int) (*applied, error) {
	t.Helper()
	b := testkit.Book(t, bookSource)
	p := plan(t, bookSource, steps)
	var out, log bytes.Buffer
	source := testkit.File(t, content, b.Reading)
	ledger, err := fix.Apply(context.Background(), source, b, p, workers, &out, &log)
	if err != nil {
		return nil, err
	}
	if err := ledger.Balance(); err != nil {
		t.Error(err)
	}
	if err := fix.Verify(context.Background(), testkit.File(t, out.String(), intake.Standard()), b, ledger,
		workers); err != nil {
		t.Error(err)
	}
	a := &applied{table: out.String(), ledger: ledger}
	lines := json.NewDecoder(&log)
	for lines.More() {
		var c fix.Change
		if err := lines.Decode(&c); err != nil {
			t.Fatal(err)
		}
		a.changes = append(a.changes, c)
	}
	return a, nil
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
			if got.table != head+c.want {
				t.Errorf("table %q, want %q", got.table, head+c.want)
			}
			if len(got.ledger.Steps) == 0 {
				return
			}
			step := got.ledger.Steps[0]
			if step.Cells != c.cells || step.Rows != c.gone || step.Sums["value"] != c.change {
				t.Errorf("%d cells, %d rows, sum %s; want %d, %d, %s", step.Cells, step.Rows, step.Sums["value"],
					c.cells, c.gone, c.change)
			}
			if int64(len(got.changes)) != c.cells+c.gone {
				t.Errorf("%d entries in the change log, want %d", len(got.changes), c.cells+c.gone)
			}
			for _, change := range got.changes {
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
	if want := head + "S1,PH,3,\nS2,PH,4,\n"; got.table != want {
		t.Errorf("table %q, want %q", got.table, want)
	}
	l := got.ledger
	if l.RowsIn != 4 || l.RowsOut != 2 || l.SumsIn["value"] != "9" || l.SumsOut["value"] != "7" {
		t.Errorf("ledger %+v", l)
	}
	last := got.changes[len(got.changes)-1]
	for _, c := range got.changes {
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
	want := []fix.Change{{Step: 1, Row: 1, Line: 2, Column: "parameter", Old: "acidity", New: "PH", Reason: "codes"}}
	if !reflect.DeepEqual(got.changes, want) {
		t.Errorf("%+v, want %+v", got.changes, want)
	}
}

func TestTheTableIsWrittenInStandardForm(t *testing.T) {
	source := strings.Replace(book, "columns:\n",
		"reading: {delimiter: \";\", decimal_mark: \",\", dates: dd/MM/yyyy, missing: [n/a]}\ncolumns:\n", 1)
	got := apply(t,
		"sample;parameter;value;taken\nS1;PH;7,10;31/05/2024\nS2;PH;n/a;\nS3;PH;<0,5;soon\nS4;PH;8;01/06/2024\n",
		source, "  []\n", 2)
	if want := head + "S1,PH,7.10,2024-05-31\nS2,PH,,\nS3,PH,\"<0,5\",soon\nS4,PH,8,2024-06-01\n"; got.table != want {
		t.Errorf("table %q, want %q", got.table, want)
	}
	if want := map[string]int64{"value": 2, "taken": 2}; !reflect.DeepEqual(got.ledger.Written, want) {
		t.Errorf("written otherwise: %v, want %v", got.ledger.Written, want)
	}
}

func TestATextThatWouldQuietlyBecomeANumberIsRefused(t *testing.T) {
	source := strings.Replace(book, "columns:\n", "reading: {delimiter: \";\", decimal_mark: \",\"}\ncolumns:\n", 1)
	content := "sample;parameter;value;taken\nS1;PH;7,10;\nS2;PH;7.1;\n"
	_, err := tryApply(t, content, source, "  []\n", 1)
	if err == nil || !strings.Contains(err.Error(), `"7.1" in value (line 3)`) {
		t.Errorf("%v", err)
	}
	if got := apply(t, content, source,
		"  - {do: set_cell, key: {sample: S2}, column: value, to: \"7,1\", reason: A point for a comma.}\n",
		1); !strings.Contains(got.table, "S2,PH,7.1,") {
		t.Errorf("once decided, the table is %q", got.table)
	}
}

func TestWhatATableCannotHoldIsInTheLog(t *testing.T) {
	got := apply(t, head+"S1,PH,1,,more,cells\nS2,\xff,2,\n", book, "  []\n", 1)
	if len(got.changes) != 2 || got.ledger.Unheaded != 1 {
		t.Fatalf("%+v, %d unheaded", got.changes, got.ledger.Unheaded)
	}
	if c := got.changes[0]; c.Step != 0 || c.Row != 1 || c.Old != "more | cells" {
		t.Errorf("%+v", c)
	}
	if c := got.changes[1]; c.Row != 2 || c.Column != "parameter" || !strings.Contains(c.Old, `\xff`) {
		t.Errorf("%+v", c)
	}
}

func TestNotesOnStepsThatDidNotDoWhatWasMeant(t *testing.T) {
	got := apply(t, head+"S1,PH,1,\nS1,PH,2,\n", book, `  - {do: set_cell, key: {sample: S9}, column: value, to: "3", reason: r}
  - {do: set_cell, key: {sample: S1}, column: value, to: "3", reason: r}
  - {do: trim, columns: [sample], reason: r}
`, 1)
	for i, want := range []string{"No row has this key", "2 rows have this key", "nothing to do"} {
		if note := got.ledger.Steps[i].Note; !strings.Contains(note, want) {
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
	if one.table != eight.table || !reflect.DeepEqual(one.ledger, eight.ledger) ||
		!reflect.DeepEqual(one.changes, eight.changes) {
		t.Error("the table, the ledger or the log depends on the number of workers")
	}
}

func TestThePreviewShowsWhatApplyingDoes(t *testing.T) {
	content := dirty(5_000)
	b := testkit.Book(t, book)
	shown, err := fix.Show(context.Background(), testkit.File(t, content, b.Reading), b, plan(t, book, everything), 2)
	if err != nil {
		t.Fatal(err)
	}
	done := apply(t, content, book, everything, 2)
	if !reflect.DeepEqual(shown.Ledger, *done.ledger) || shown.ChangeCount != int64(len(done.changes)) {
		t.Errorf("%d changes shown and %d made", shown.ChangeCount, len(done.changes))
	}
	if len(shown.Changes) != 300 || !reflect.DeepEqual(shown.Changes, done.changes[:300]) {
		t.Error("the changes shown are not the first ones made")
	}
	surplus := func(r *audit.Result) int64 {
		for _, f := range r.Findings {
			if f.Rule == "one_sample" {
				return f.Rows
			}
		}
		return 0
	}
	if before, after := surplus(shown.Before), surplus(shown.After); before == 0 || after != 0 {
		t.Errorf("%d surplus rows before and %d after", before, after)
	}
	if shown.After.Rows != done.ledger.RowsOut || shown.After.Sums["value"] != done.ledger.SumsOut["value"] ||
		shown.Before.Score >= shown.After.Score {
		t.Errorf("before %d rows with %v, after %d with %v", shown.Before.Rows, shown.Before.Score, shown.After.Rows,
			shown.After.Score)
	}
}

func TestAPlanForColumnsThatTheTableDoesNotHave(t *testing.T) {
	_, err := tryApply(t, "sample,value\nS1,1\n", book, "  - {do: trim, columns: [parameter], reason: r}\n", 1)
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
			`has either "values" or "where"`},
		{"both",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_missing, columns: [value], values: [1], where: value > 1, reason: r}\n", `has either "values" or "where"`},
		{"a condition",
			"fix_plan: p\ndataset: samples\nsteps:\n  - do: set_aside\n    where: vale > 1\n    reason: r\n",
			`line 5, column 12: in the condition: there is no column "vale"; did you mean "value"?`},
		{"a condition that ends too soon",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_aside, where: value >, reason: r}\n",
			"in the condition: a column, a value or a parenthesis was expected"},
		{"a key without names",
			"fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_cell, key: S1, column: value, to: x, reason: r}\n",
			"a key gives each of its columns the text to look for"},
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
	if name, err := fix.DatasetOf([]byte("fix_plan: p\ndataset: samples\n")); name != "samples" || err != nil {
		t.Errorf("%q, %v", name, err)
	}
	if _, err := fix.DatasetOf([]byte("fix_plan: p\n")); err == nil {
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

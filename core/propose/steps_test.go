package propose_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/propose"
	"proudsieve/core/testkit"
)

const results = `dataset: results
reading: {delimiter: ";", decimal_mark: ",", dates: dd/MM/yyyy, missing: [n/a]}
columns:
  - {name: sample, required: true}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, required: true, from: 0, to: 1000}
  - {name: taken, type: date}
  - {name: crew}
keys:
  - {id: one_sample, columns: [sample]}
equal_rows: {severity: minor}
code_lists:
  parameters: [{code: PH, spellings: [Acidity]}, NO3, COND]
rules:
  - {id: ph, when: parameter = 'PH', condition: value <= 14}
measures: [value]
pass_mark: 90
`

// planProposed drafts a fix plan for a text, and takes it as it stands.
func planProposed(t *testing.T, content string) (source string, before, after *audit.Result) {
	t.Helper()
	ctx := context.Background()
	b := testkit.Book(t, results)
	in := fix.Input{Source: testkit.File(t, content, b.Reading), Book: b}
	before, err := audit.Run(ctx, in.Source, b, 2)
	if err != nil {
		t.Fatal(err)
	}
	if err := before.LookAgain(ctx, in.Source, 2); err != nil {
		t.Fatal(err)
	}
	if source, err = propose.FixPlan(ctx, "draft", in, before, 2); err != nil {
		t.Fatalf("%v\n%s", err, source)
	}
	plan, err := fix.Parse([]byte(source), b)
	if err != nil {
		t.Fatalf("%v\n%s", err, source)
	}
	got, err := fixtest.PlayInput(t, in, plan, 2)
	if err != nil || got.Refused != nil {
		t.Fatalf("%v, %v\n%s", err, got, source)
	}
	book := b.ForTable(got.Ledger.Reading)
	after, err = audit.Run(ctx, testkit.File(t, got.Table, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	return source, before, after
}

func TestAFixPlanIsDraftedFromWhatWasFound(t *testing.T) {
	rows := "sample;parameter;value;taken;crew\n"
	for i := range 40 {
		rows += fmt.Sprintf("S%02d;NO3;%d,5;%02d/05/2024;red\n", i, i, 1+i%28)
	}
	rows += "S39;NO3;39,5;12/05/2024;red\n" + "S40;acidity;7,1;01/05/2024;red \nS41;PH;74;01/05/2024;red\nS42;PH;(5,5);01/05/2024;red\nS43;PH;n/a;n/a;red\nS01;PH;1;01/05/2024;red\n"
	source, before, after := planProposed(t, rows)
	for _, want := range []string{"\n  - do: map_codes\n    columns: [parameter]\n", "\n  - do: remove_equal_rows\n", "\n  - do: trim\n    columns: [crew]\n",
		"\n  - do: standard_form\n", "\n  # - do: keep_one\n  #   columns: [sample]\n", "\n  # - do: convert\n", "Not taken, since",
		`where: "(parameter = 'PH') AND NOT (value <= 14)"`} {
		if !strings.Contains(source, want) {
			t.Errorf("the draft lacks %q:\n%s", want, source)
		}
	}
	if after.Score <= before.Score {
		t.Errorf("the score is %v, and was %v", after.Score, before.Score)
	}
}

// Advice that is taken as it stands does no harm, whatever the table.
func TestNoDraftMakesATableWorse(t *testing.T) {
	for seed := range 60 {
		r := rand.New(rand.NewPCG(uint64(seed), 5))
		pick := func(texts ...string) string { return texts[r.IntN(len(texts))] }
		content := "sample;parameter;value;taken;crew\n"
		for i := range 120 {
			sample, value := fmt.Sprintf("S%d", i), fmt.Sprintf("%d,%d", r.IntN(20), r.IntN(100))
			if r.IntN(8) == 0 {
				sample = pick(fmt.Sprintf("S%d ", r.IntN(120)), fmt.Sprintf("s%d", r.IntN(120)), "", "TOTAL", "n/a")
			}
			if r.IntN(8) == 0 {
				value = pick("", "7.1", "few", "12 kr", "5 %", "999", "-3", "1.000,5", " 4", "(2)", "00712", "n/a")
			}
			line := strings.Join([]string{sample, pick("PH", "NO3", "NO3", "COND", "no3", "ACIDITY ", "acidty", "XX", ""), value,
				pick("01/02/2024", "2024-02-01", "31/12/2024", "soon", ""), pick("red", "red ", "blue", "Red", "red/blue", "")}, ";") + "\n"
			content += line
			if r.IntN(20) == 0 {
				content += line
			}
		}
		source, before, after := planProposed(t, content)
		rows := map[string]int64{}
		for _, f := range before.Findings {
			rows[f.Rule] = f.Rows
		}
		for _, f := range after.Findings {
			if f.Rows > rows[f.Rule] {
				t.Errorf("seed %d: %s is broken in %d rows, and was in %d\n%s", seed, f.Rule, f.Rows, rows[f.Rule], source)
			}
		}
		for i, c := range before.Columns {
			was, is := float64(before.Rows)*(100-c.Score), float64(after.Rows)*(100-after.Columns[i].Score)
			if is > was+1 {
				t.Errorf("seed %d: more cells of %s are caught: a score of %v, and it was %v\n%s", seed, c.Name, after.Columns[i].Score, c.Score, source)
			}
		}
		if after.Score < before.Score {
			t.Errorf("seed %d: the score falls from %v to %v\n%s", seed, before.Score, after.Score, source)
		}
	}
}

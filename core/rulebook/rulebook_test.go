package rulebook_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const whole = `dataset: results
title: Results of a laboratory
reading:
  encoding: windows-1252
  delimiter: ";"
  decimal_mark: ","
  missing: [n/a, "-999"]
  dates: [dd/MM/yyyy, d.M.yy]
columns:
  - {name: sample, pattern: "[A-Z]{2}-[0-9]+", severity: stop}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, from: 0, to: 14.5, reason: It is a concentration.}
  - {name: count, type: integer, from: 1}
  - {name: good, type: boolean}
  - {name: sampled, type: date, to: 2024-12-31, dates: yyyy/MM/dd}
  - {name: received, type: datetime}
keys:
  - {id: one_sample, columns: [sample]}
  - {id: one_each, columns: [parameter, sampled], severity: warn}
equal_rows: {severity: note, reason: Exported twice.}
code_lists:
  parameters:
    - {code: PH, label: Acidity, spellings: [p.H., "Acid  value"]}
    - NO3
rules:
  - id: in_order
    condition: received >= sampled AND (value > 0 OR parameter = 'PH')
    severity: stop
    reason: Nothing arrives before it is taken.
measures: [value, count]
pass_mark: 97.5
`

func TestAWholeRulebook(t *testing.T) {
	b := testkit.Book(t, whole)
	if b.Dataset != "results" || b.Title != "Results of a laboratory" || b.PassMark != 97.5 || len(b.Digest) != 64 {
		t.Errorf("head: %q %q %v %q", b.Dataset, b.Title, b.PassMark, b.Digest)
	}
	if r := b.Reading; r.Encoding != "windows-1252" || r.Delimiter != ";" || r.DecimalMark != "," ||
		r.HeaderLine != 1 || !slices.Equal(r.Dates, []string{"dd/MM/yyyy", "d.M.yy"}) || len(r.Missing) != 2 {
		t.Errorf("reading: %+v", r)
	}
	if len(b.Columns) != 7 || b.Columns[0].Type != table.TypeText {
		t.Errorf("columns: %+v", b.Columns)
	}
	if b.Said("column value", "lowest value") != "0" || b.Said("column value", "highest value") != "14.5" ||
		b.Column("value").Reason == "" || b.Said("column count", "highest value") != "" {
		t.Error("ranges")
	}
	rules := map[string]*rulebook.Declared{}
	for _, d := range b.Rules {
		rules[d.ID] = d
	}
	for id, want := range map[string]struct {
		severity rulebook.Severity
		columns  string
	}{
		"sample.pattern": {rulebook.Major, "sample"}, "parameter.codes": {rulebook.Minor, "parameter"},
		"one_sample": {rulebook.Major, "sample"},
		"one_each":   {rulebook.Minor, "parameter sampled"}, "equal_rows": {rulebook.Note, ""},
		"in_order": {rulebook.Major, "received sampled value parameter"},
	} {
		if d := rules[id]; d == nil || d.Severity != want.severity ||
			strings.Join(d.Rule.Columns(), " ") != want.columns {
			t.Errorf("%s: %+v", id, d)
		}
	}
	if !slices.Equal(b.Measures, []string{"value", "count"}) {
		t.Errorf("measures: %v", b.Measures)
	}
	if b.Column("nobody") != nil || b.Types()["good"] != table.TypeBoolean {
		t.Error("columns are not found by their names")
	}
}

func TestDefaults(t *testing.T) {
	b := testkit.Book(t, "dataset: d\ncolumns:\n  - name: a\n")
	if b.PassMark != 100 || len(b.Rules) != 1 || b.Reading.Encoding != "utf-8" || b.Reading.Delimiter != "," ||
		b.Reading.HeaderLine != 1 {
		t.Errorf("%+v", b)
	}
}

func TestMistakesInARulebook(t *testing.T) {
	body := func(s string) string { return "dataset: d\n" + s }
	columns := "columns:\n  - {name: a}\n  - {name: n, type: integer}\n"
	for _, c := range []struct{ name, source, want string }{
		{"no dataset", "columns: []\n", `a rulebook needs "dataset"`},
		{"a dataset with a capital", "dataset: Results\ncolumns: []\n",
			"line 1, column 10: the name of a dataset is written in lower-case letters"},
		{"no columns", "dataset: d\n", `a rulebook needs "columns"`},
		{"a misspelt key", body("colums: []\n"),
			`line 2, column 1: a rulebook has no "colums"; did you mean "columns"?`},
		{"a misspelt type", body("columns:\n  - {name: a, type: interger}\n"),
			`line 3, column 21: "interger" is not a type; did you mean "integer"?`},
		{"a column without a name", body("columns:\n  - {type: text}\n"), `line 3, column 6: a column needs "name"`},
		{"a column twice", body("columns:\n  - {name: a}\n  - {name: a}\n"),
			`line 4, column 12: the column "a" is declared twice`},
		{"an old name that is a column's now", body("columns:\n  - {name: a, was: [b]}\n  - {name: b}\n"),
			`line 3, column 20: "b" is a column that is declared; only one that is no more can be what "a" was`},
		{"an old name of two columns", body("columns:\n  - {name: a, was: [c]}\n  - {name: b, was: [d, c]}\n"),
			`line 4, column 20: "c" is what "a" was already`},
		{"a code column without a list", body("columns:\n  - {name: a, type: code}\n"),
			`a column of type code needs "codes"`},
		{"codes of a text", body("columns:\n  - {name: a, codes: x}\ncode_lists:\n  x: [A]\n"),
			`codes go with type code, and "a" is of type text`},
		{"a list that is not there",
			body("columns:\n  - {name: a, type: code, codes: colours}\ncode_lists:\n  colour: [A]\n"),
			`line 3, column 34: there is no code list "colours"; did you mean "colour"?`},
		{"a list twice", body("columns:\n  - {name: a, type: code, codes: x}\ncode_lists:\n  x: [A]\n  x: [B]\n"), "x"},
		{"two codes of one spelling",
			body("columns:\n  - {name: a, type: code, codes: x}\ncode_lists:\n  x: [PH, ' ph']\n"),
			`" ph" already stands for the code "PH"`},
		{"a pattern that cannot be read", body("columns:\n  - {name: a, pattern: \"[a-\"}\n"),
			"line 3, column 24: the pattern cannot be read: missing closing ]"},
		{"a pattern with a stray parenthesis", body("columns:\n  - {name: a, pattern: \"x)|(?:y\"}\n"),
			"the pattern cannot be read: unexpected )"},
		{"a pattern with a look-around", body("columns:\n  - {name: a, pattern: \"(?=x)\"}\n"),
			"the pattern cannot be read"},
		{"a bound of another type", body("columns:\n  - {name: a, type: integer, from: 1.5}\n"),
			`"1.5" is no integer; bounds are written with a point as decimal mark`},
		{"a range of a boolean", body("columns:\n  - {name: a, type: boolean, to: true}\n"),
			"a column of type boolean has no range"},
		{"a range the wrong way round", body("columns:\n  - {name: a, type: integer, from: 5, to: 1}\n"),
			`the range of "a" ends before it starts`},
		{"a date pattern", body("columns:\n  - {name: a, type: date, dates: DD.MM.YYYY}\n"),
			`date pattern "DD.MM.YYYY"`},
		{"a severity", body("columns:\n  - {name: a, severity: fatal}\n"), `"fatal" is not a severity`},
		{"an encoding", body("reading: {encoding: utf8}\n" + columns),
			`line 2, column 21: encoding: "utf8" is not an encoding known here`},
		{"a delimiter of two characters", body("reading: {delimiter: \";;\"}\n" + columns),
			`";;" is not one character`},
		{"a key over no column", body(columns + "keys:\n  - {id: k, columns: [b]}\n"),
			`line 6, column 23: there is no column "b"`},
		{"a key over a column twice", body(columns + "keys:\n  - {id: k, columns: [a, a]}\n"),
			`"a" stands twice in the columns of a key`},
		{"an id twice", body(columns + "keys:\n  - {id: k, columns: [a]}\nrules:\n  - {id: k, condition: n > 1}\n"),
			`the id "k" is taken already`},
		{"a reserved id", body(columns + "rules:\n  - {id: equal_rows, condition: n > 1}\n"),
			`the id "equal_rows" is taken already`},
		{"a condition that ends too soon", body(columns + "rules:\n  - {id: r, condition: n >}\n"),
			"line 6, column 27: in the condition: a column, a value or a parenthesis was expected"},
		{"a condition over no column", body(columns + "rules:\n  - id: r\n    condition: \"m > 1\"\n"),
			`line 7, column 17: in the condition: there is no column "m"`},
		{"a condition of unlike kinds", body(columns + "rules:\n  - id: r\n    condition: n > 'x'\n"),
			"line 7, column 20: in the condition: > compares a number with a text"},
		{"a measure that is no number", body(columns + "measures: [a]\n"),
			`"a" is of type text; a measure is a number that can be summed`},
		{"a pass mark over a hundred", body(columns + "pass_mark: 101\n"),
			`pass_mark is a score from 0 to 100, not "101"`},
	} {
		_, err := rulebook.Parse([]byte(c.source))
		var mistakes document.Problems
		if !errors.As(err, &mistakes) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %q", c.name, err, c.want)
		}
	}
}

func TestLimits(t *testing.T) {
	var columns, rules strings.Builder
	for i := range 10_001 {
		fmt.Fprintf(&columns, "  - {name: c%d}\n", i)
	}
	if _, err := rulebook.Parse([]byte("dataset: d\ncolumns:\n" + columns.String())); err == nil ||
		!strings.Contains(err.Error(), "10001 columns are declared; at most 10000 can be") {
		t.Errorf("10,001 columns: %v", err)
	}
	for i := range 10_001 {
		fmt.Fprintf(&rules, "  - {id: r%d, condition: a = 'x'}\n", i)
	}
	if _, err := rulebook.Parse([]byte("dataset: d\ncolumns: [{name: a}]\nrules:\n" + rules.String())); err == nil ||
		!strings.Contains(err.Error(), "10001 rules are declared; at most 10000 can be") {
		t.Errorf("10,001 rules: %v", err)
	}
}

func TestOtherSpellingsOfACode(t *testing.T) {
	l := testkit.Book(t, whole).CodeLists["parameters"]
	for text, want := range map[string]string{"PH": "PH", "ph": "PH", " PH ": "PH", "p.h.": "PH", "ACID VALUE": "PH",
		"Acid   value": "PH", "no3": "NO3", "NO 3": "", "P": "", "": ""} {
		got, ok := l.Resolve(text)
		if got != want || ok != (want != "") {
			t.Errorf("%q stands for %q, want %q", text, got, want)
		}
	}
	if !l.Has("PH") || l.Has("ph") || l.Has("p.H.") {
		t.Error("a spelling passes for the code itself")
	}
}

func TestWhatACellStandsFor(t *testing.T) {
	b := testkit.Book(t, whole)
	for _, c := range []struct{ column, text, want string }{
		{"value", "7,10", "7.10"}, {"value", "7.10", "mistyped"}, {"value", "", "missing"},
		{"value", " \u00a0", "missing"}, {"value", "n/a", "missing"},
		{"value", " -999 ", "missing"}, {"value", "-999,0", "-999.0"}, {"value", "N/A", "mistyped"},
		{"sampled", "2024/05/01", "2024-05-01"},
		{"sampled", "01/05/2024", "mistyped"}, {"parameter", "PH", "PH"}, {"parameter", "p.h.", "spelling of PH"},
		{"parameter", "XX", "unknown XX"},
		{"sample", "n/a", "missing"}, {"good", "yes", "true"}, {"undeclared", "x", "x"},
	} {
		cell := b.Cells(c.column).Read(c.text)
		got := cell.Value.Standard()
		switch {
		case cell.Missing:
			got = "missing"
		case cell.Mistyped:
			got = "mistyped"
		case cell.Spelling:
			got = "spelling of " + got
		case cell.Unknown:
			got = "unknown " + got
		}
		if got != c.want {
			t.Errorf("%q in %s is %s, want %s", c.text, c.column, got, c.want)
		}
	}
}

func TestAKeysColumnsAreRequired(t *testing.T) {
	b := testkit.Book(t, whole)
	for name, want := range map[string]bool{"sample": true, "sampled": true, "parameter": true, "value": false,
		"good": false} {
		if got := b.Cells(name).Required; got != want {
			t.Errorf("%s is required: %v, want %v", name, got, want)
		}
	}
}

func TestForTableReadsTheStandardForm(t *testing.T) {
	b := testkit.Book(t, whole)
	standard := b.ForTable(rulebook.TableReading{})
	if got := standard.Cells("sampled").Read("2024-05-01"); got.Value.Standard() != "2024-05-01" {
		t.Errorf("a standard date is %+v", got)
	}
	if got := standard.Cells("value").Read("7.10"); got.Value.Standard() != "7.10" {
		t.Errorf("a standard decimal is %+v", got)
	}
	if got := standard.Cells("value").Read("n/a"); !got.Mistyped {
		t.Errorf("a mark of the delivery is %+v in a table", got)
	}
	if b.Cells("sampled").Read("2024/05/01").Mistyped {
		t.Error("the rulebook of the delivery was changed")
	}
}

func TestDraft(t *testing.T) {
	content := "id,code,amount,day,flag,text\n1,0012,1.5,2024-01-01,yes,a\n2,0013,,2024-01-02,no,b\n3,0014,n.d.,2024-01-03,yes,c\n4,0015,2,2024-01-04,no,d\n"
	content += strings.Repeat("5,0099,3.5,2024-01-05,no,e\n6,0098,4.5,2024-01-06,no,f\n", 1)
	for i := range 20 {
		content += fmt.Sprintf("%d,01%02d,%d.25,2024-02-%02d,yes,t%d\n", 10+i, i, i, 1+i, i)
	}
	f := testkit.File(t, content, intake.Reading{})
	d, err := detect.Detect(t.Context(), testkit.Opener([]byte(content)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	b := rulebook.Draft("file.csv", d, f.Columns())
	want := []table.Type{table.TypeInteger, table.TypeText, table.TypeDecimal, table.TypeDate, table.TypeBoolean,
		table.TypeText}
	for i, c := range b.Columns {
		if c.Type != want[i] {
			t.Errorf("%s is a %s, want %s", c.Name, c.Type, want[i])
		}
	}
	if b.PassMark != 0 || slices.ContainsFunc(b.Rules, func(d *rulebook.Declared) bool {
		return d.Kind.Name != "type" && d.Kind.Name != rulebook.AbsentKind || d.Severity == rulebook.Minor
	}) {
		t.Error("a draft judges more than types")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(whole)
	f.Add("dataset: d\ncolumns: [{name: a, type: code, codes: x}]\ncode_lists: {x: [a]}\n")
	f.Fuzz(func(t *testing.T, source string) {
		b, err := rulebook.Parse([]byte(source))
		var mistakes document.Problems
		if err != nil && !errors.As(err, &mistakes) {
			t.Errorf("the error %v has no place", err)
		}
		if err == nil && b.Dataset == "" {
			t.Error("a rulebook without a dataset was accepted")
		}
	})
}

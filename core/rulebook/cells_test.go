package rulebook_test

import (
	"encoding/json"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// Keys compare by value of the declared type: what is one thing has one identity.
func TestTheIdentityOfACell(t *testing.T) {
	b := testkit.Book(t, `dataset: d
reading: {decimal_mark: ",", grouping_mark: ".", dates: [dd/MM/yyyy, yyyy-MM-dd]}
columns:
  - {name: text}
  - {name: number, type: decimal}
  - {name: day, type: date}
  - {name: truth, type: boolean}
  - {name: code, type: code, codes: l}
code_lists: {l: [{code: A, spellings: [one]}]}
`)
	for _, c := range []struct {
		column, one, other string
		same               bool
	}{
		{"number", "1", "1,0", true}, {"number", "1.000", "1000,00", true}, {"number", "1", "1,01", false},
		{"number", "-0", "0", true}, {"number", "one", "one ", false},
		{"day", "01/05/2024", "2024-05-01", true}, {"day", "01/05/2024", "05/01/2024", false},
		{"truth", "yes", "true", true}, {"truth", "yes", "no", false},
		{"text", "1", "1.0", false}, {"text", "a", "A", false},
		{"code", "A", "one", true}, {"code", "a ", "one", true}, {"code", "A", "B", false},
	} {
		cells := b.Cells(c.column)
		one, other := cells.Read(c.one).Identity(c.one), cells.Read(c.other).Identity(c.other)
		if (one == other) != c.same {
			t.Errorf("%s: %q is %q and %q is %q", c.column, c.one, one, c.other, other)
		}
	}
}

func TestNumbersOfAColumnAreAddedExactly(t *testing.T) {
	b := testkit.Book(t, "dataset: d\nreading: {missing: [n/a]}\ncolumns: [{name: v, type: decimal}]\n")
	column := &table.Column{Texts: []string{"0.1", "0.2", "n/a", "much"}, Codes: []uint32{0, 1, 2, 3, 0, 1, 1}}
	cells := b.Cells("v")
	if got := cells.Sum(column, nil).Shortest(); got != "0.8" {
		t.Errorf("0.1 + 0.2 + 0.1 + 0.2 + 0.2 = %s", got)
	}
	if got := cells.Sum(column, []int{0, 1, 2, 3}).Shortest(); got != "0.3" {
		t.Errorf("0.1 + 0.2 = %s", got)
	}
	if !cells.PlainNumbers() || testkit.Book(t,
		"dataset: d\ncolumns: [{name: v, type: decimal, decimal_mark: \",\"}]\n").Cells("v").PlainNumbers() {
		t.Error("numbers with a comma are not plain")
	}
}

// What earlier versions kept of severities opens.
func TestSeveritiesOfEarlierVersionsOpen(t *testing.T) {
	var got []rulebook.Severity
	if err := json.Unmarshal([]byte(`["stop","warn","note","major","minor"]`), &got); err != nil {
		t.Fatal(err)
	}
	for i, want := range []rulebook.Severity{"major", "minor", "note", "major", "minor"} {
		if got[i] != want {
			t.Errorf("%d: %s, want %s", i, got[i], want)
		}
	}
	if err := json.Unmarshal([]byte(`[3]`), &got); err == nil {
		t.Error("a number is a severity")
	}
}

func TestHowMuchIsBrokenIsWritten(t *testing.T) {
	for want, b := range map[string]rulebook.Broken{
		"1 of 1 row has": {Rows: 1, Of: 1}, "1 of 3 rows has": {Rows: 1, Of: 3},
		"312 of 3,000 rows have": {Rows: 312, Of: 3000}, "0 of 0 rows have": {},
	} {
		if got := b.Have(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// Every kind stands in the guide under its section, with each of its fields.
func TestTheGuideOfTheKinds(t *testing.T) {
	guide := rulebook.Guide()
	rows := strings.Split(strings.TrimSpace(guide), "\n")
	for _, k := range rulebook.Kinds() {
		named := "| `" + k.Section + "` | `" + k.Name + "` |"
		if s := rulebook.SectionOf(k.Section); s.Checked {
			named = "| `" + k.Section + "` | `check: " + k.Name + "` |"
		}
		if strings.Count(guide, named) != 1 {
			t.Errorf("%s stands %d times in the guide", k.Name, strings.Count(guide, named))
		}
		for _, f := range k.Fields {
			if !strings.Contains(guide, "`"+f.Name+"` |") {
				t.Errorf("%s.%s is not in the guide", k.Name, f.Name)
			}
		}
	}
	for _, row := range rows {
		if strings.Count(row, "|") != 5 {
			t.Errorf("a row of other columns: %s", row)
		}
	}
	if rulebook.SectionOf("sums") != nil || len(rulebook.KindsOf("sums")) != 0 {
		t.Error("there is a section that is not")
	}
}

func TestMistakesInCodeLists(t *testing.T) {
	columns := "columns:\n  - {name: a, type: code, codes: x}\n"
	for name, c := range map[string]struct{ lists, want string }{
		"a list of lists":   {"code_lists: [x]\n", "line 4, column 13: code_lists gives each list its name"},
		"nothing in a list": {"code_lists:\n  x: {all_occur: true}\n", `the code list "x" has neither codes nor a dataset`},
		"two columns elsewhere": {"code_lists:\n  x: {from: {dataset: s, columns: [a, b]}}\n",
			"line 5, column 14: codes are taken from one column: 1, not 2"},
		"no columns elsewhere": {"code_lists:\n  x: {from: {dataset: s, columns: []}}\n",
			"line 5, column 35: columns names at least one"},
		"no dataset elsewhere":  {"code_lists:\n  x: {from: {columns: [a]}}\n", `needs "dataset"`},
		"a code without a code": {"code_lists:\n  x: [{label: Acidity}]\n", `line 5, column 8: a code needs "code"`},
		"a field that is none":  {"code_lists:\n  x: [{code: A, lable: Acidity}]\n", `did you mean "label"?`},
		"a spelling of two": {"code_lists:\n  x: [{code: A, spellings: [o]}, {code: B, spellings: [O ]}]\n",
			`"O" already stands for the code "A", once spaces and case are levelled`},
		"ended and needed": {"code_lists:\n  x: [{code: A, ended: true, must_occur: true}]\n",
			`the code "A" has ended, so it cannot have to occur`},
	} {
		_, err := rulebook.Parse([]byte("dataset: d\n" + columns + c.lists))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", name, err, c.want)
		}
	}
}

// What a cell is one thing with others by is the same, worked out by its token or by its value.
func TestTheTokenOfAnIdentityIsThatOfItsText(t *testing.T) {
	book := testkit.Book(t, "dataset: d\nreading: {missing: [n/a, \"-9\"], decimal_mark: \",\"}\ncolumns:\n  - {name: n, type: decimal}\n  - {name: i, type: integer}\n  - {name: t}\n  - {name: d, type: date}\n  - {name: c, type: code, codes: l}\n  - {name: b, type: boolean}\ncode_lists: {l: [{code: A, spellings: [alpha]}, B]}\n")
	for _, column := range []string{"n", "i", "t", "d", "c", "b", "open"} {
		cells := book.Cells(column)
		for _, text := range []string{"", " ", "1", "1,50", "01,5", "007", "-0", "-9", "n/a", " n/a", "1.5", "12345678901234567890,25", "2024-05-01", "alpha", "ALPHA ", "A", "x y", "é", "true", "1e3", "a text that is longer than fifteen letters"} {
			cell := cells.Read(text)
			want, missing := table.TokenOf(cell.Identity(text)), cell.Missing
			if missing {
				want = table.Token{}
			}
			if got, lacks := cells.IdentityToken(text); got != want || lacks != missing {
				t.Errorf("%s %q: %q %v, want %q %v", column, text, got.Text("(long)"), lacks, want.Text("(long)"), missing)
			}
		}
	}
}

func TestSumsAreExactHoweverNumbersAreWritten(t *testing.T) {
	cells := testkit.Book(t, "dataset: d\ncolumns: [{name: n, type: decimal}]\n").Cells("n")
	column := table.Column{Texts: []string{"0.1", "0.2", "-1e3", "x", "", "2147483647.5", "12345678901234567890.125", "0.000000001", "7"}}
	want := table.Decimal{}
	for code, text := range column.Texts {
		for range 1 + code*100 {
			column.Codes = append(column.Codes, uint32(code))
			if d, ok := table.ParseDecimal(text); ok {
				want = want.Add(d)
			}
		}
	}
	if got := cells.Sum(&column, nil); got.Cmp(want) != 0 || got.Shortest() != want.Shortest() {
		t.Errorf("%s, want %s", got.Shortest(), want.Shortest())
	}
}

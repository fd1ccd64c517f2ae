package audit_test

import (
	"context"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/testkit"
)

func TestTwoAuditsAreCompared(t *testing.T) {
	book := func(rules string) string {
		return "dataset: d\ncolumns:\n  - {name: k, required: true}\n  - {name: n, type: decimal, from: 0}\nrules:\n" +
			rules
	}
	before := audittest.Run(t, "k,n,gone\na,1,\n,2,\nb,-1,\nc,x,\n",
		book("  - {id: small, condition: n < 5}\n  - {id: old, condition: n > 1}\n"))
	after := audittest.Run(t, "k,n\na,1\n,2\n,-1\nc,9\n",
		book("  - {id: small, condition: n < 5}\n  - {id: fresh, condition: n < 2}\n"))
	c := audit.Compare(before, after)
	got := map[string]string{}
	for _, r := range c.Rules {
		got[r.Rule] = fmt.Sprintf("%s %d %d", r.Turn, r.Rows.Before, r.Rows.After)
	}
	want := map[string]string{"k.required": "worse 1 2", "n.range": "same 1 1", "n.type": "gone 1 0",
		"small": "new 0 1", "old": "not asked any more 2 0", "fresh": "not asked before 0 2"}
	for rule, w := range want {
		if got[rule] != w {
			t.Errorf("%s: %q, want %q", rule, got[rule], w)
		}
	}
	if len(got) != len(want) || c.Rules[0].Rule != "small" || c.Score.Before != 0 || c.Rows.After != 4 {
		t.Errorf("%+v", c)
	}
	turns := ""
	for _, column := range c.Columns {
		turns += column.Name + " " + string(column.Turn) + "; "
	}
	if turns != "k worse; n same; gone gone; " {
		t.Errorf("columns: %s", turns)
	}
}

func TestWhatAFindingCosts(t *testing.T) {
	// Row 2 lacks its key and breaks the rule; row 3 breaks the rule alone; row 4 is sound.
	r := audittest.Run(t, "k,n\na,1\n,9\nb,9\nc,1\n",
		"dataset: d\ncolumns:\n  - {name: k, required: true}\n  - {name: n, type: decimal}\nrules:\n  - {id: small, condition: n < 5}\n")
	if f := audittest.Finding(t, r, "k.required"); f.Cost != 25 || f.Regained != 0 {
		t.Errorf("the gap costs %v and would give back %v", f.Cost, f.Regained)
	}
	if f := audittest.Finding(t, r, "small"); f.Cost != 50 || f.Regained != 25 {
		t.Errorf("the rule costs %v and would give back %v", f.Cost, f.Regained)
	}
}

func TestFindingsForTheProvider(t *testing.T) {
	book := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: k, required: true}\n  - {name: n, type: decimal, reason: It is measured.}\n  - {name: gone}\nkeys:\n  - {id: one, columns: [k]}\nequal_rows: {}\nrules:\n  - {id: less, condition: n < 5}\n")
	content := "k,n\na,\"x,1\"\n,9\na,\"x,1\"\n"
	r, err := audit.Run(context.Background(), testkit.File(t, content, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if err := audit.WriteFindings(context.Background(), &out,
		&audit.Export{Source: testkit.File(t, content, book.Reading), Book: book, Result: r,
			Rows: (*audit.Finding).AllRows, Workers: 2}); err != nil {
		t.Fatal(err)
	}
	want := `line,row,column,value,rule,severity,must_hold,reason,key
,,gone,,gone.column,major,"The table has a column ""gone"".",The table has no column gone.,
2,1,n,"x,1",n.type,minor,Every n is a decimal.,It is measured.,k=a
3,2,k,,k.required,minor,Every row has a k.,,k=
3,2,n,9,less,minor,For every row: n < 5.,,k=
4,3,n,"x,1",n.type,minor,Every n is a decimal.,It is measured.,k=a
4,3,k,a,one,major,No two rows have the same k.,,k=a
4,3,,,equal_rows,minor,No two rows are equal in every cell.,,k=a
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

func TestATextThatASpreadsheetWouldRunIsWrittenHarmless(t *testing.T) {
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: k, pattern: \"[a-z]+\"}\n")
	texts := map[string]string{"=1+1": "'=1+1", "+cmd|x": "'+cmd|x", "-2+3": "'-2+3", "@SUM(A1)": "'@SUM(A1)",
		"-12": "-12", "+7.5": "+7.5", "-1e3": "-1e3", "A=B": "A=B", "=5": "'=5"}
	content := "k\n"
	for text := range texts {
		content += "\"" + text + "\"\n"
	}
	content += "\"\t=1\"\n"
	r, err := audit.Run(context.Background(), testkit.File(t, content, book.Reading), book, 1)
	if err != nil {
		t.Fatal(err)
	}
	write := func(exact bool) map[string]bool {
		var out strings.Builder
		if err := audit.WriteFindings(context.Background(), &out,
			&audit.Export{Source: testkit.File(t, content, book.Reading), Book: book, Result: r,
				Rows: (*audit.Finding).AllRows, Workers: 1, Exact: exact}); err != nil {
			t.Fatal(err)
		}
		lines, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		values := map[string]bool{}
		for _, line := range lines[1:] {
			values[line[3]] = true
		}
		return values
	}
	harmless, exact := write(false), write(true)
	for text, want := range texts {
		if !harmless[want] || !exact[text] {
			t.Errorf("%q is written as none of %v, or is not there to the letter in %v", text, harmless, exact)
		}
	}
	if !harmless["'\t=1"] {
		t.Errorf("a tab first: %v", harmless)
	}
}

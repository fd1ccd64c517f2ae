package propose_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// delivered makes results of samples from one number to another; sites is how many sites there are.
func delivered(from, to, sites int, extra string) string {
	var b strings.Builder
	b.WriteString("sample;site;value;taken;remark\n")
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, "S-%04d;%s;%d,5;%02d.03.2024;\n", i, []string{"weir", "ford", "mill", "Weir",
			"new"}[i%sites*(1-i%7/6)], i%90+1, i%28+1)
	}
	return b.String() + extra
}

func proposed(t *testing.T, deliveries ...string) string {
	t.Helper()
	return proposedBeside(t, nil, deliveries...)
}

func proposedBeside(t *testing.T, others []propose.Other, deliveries ...string) string {
	t.Helper()
	var all []propose.Delivery
	for i, content := range deliveries {
		all = append(all, propose.Delivery{Name: fmt.Sprint(i), Open: testkit.Opener([]byte(content))})
	}
	p, err := propose.Rulebook(context.Background(), "results", all, others, intake.Reading{}, 2)
	if err != nil {
		t.Fatal(err)
	}
	return p.Source(propose.Choice{})
}

func TestAProposalIsAGoodRulebookWithItsEvidence(t *testing.T) {
	source := proposed(t, delivered(100, 200, 4, "S-9999;mill;unknown;31.03.2024;\n"), delivered(0, 100, 4, ""))
	for _, want := range []string{
		"# Proposed from 2 deliveries.", `delimiter: ";"`, `decimal_mark: ","`, `dates: ["dd.MM.yyyy"]`,
		"# missing: [unknown]",
		"{name: sample, required: true, role: identifier}", `pattern: "[A-Z]+-[0-9]+" fits every cell`,
		"{name: site, type: code, codes: codes_site, new_codes: true, required: true}",
		"codes_site: [ford, mill, weir]",
		`{name: value, type: decimal, required: true, role: measure}   # 200 of 201 filled cells are of this type; not "unknown" (1)`,
		"from: 1.5, to: 90.5 were its extremes",
		"# it is empty", "{id: one_sample, columns: [sample]}   # every value named one row",
		"equal_rows: {severity: minor}", "measures: [value]",
	} {
		if !strings.Contains(source, want) {
			t.Errorf("the proposal has no %q", want)
		}
	}
	book := testkit.Book(t, source)
	if book.Dataset != "results" || t.Failed() {
		t.Log(source)
	}
}

// What is honest and new breaks nothing that was proposed.
func TestAProposalIsCautious(t *testing.T) {
	book := testkit.Book(t, proposed(t, delivered(0, 200, 3, "")))
	next := delivered(200, 9000, 5, "S-10001;weir;999999,25;01.01.2031;first remark\nS-10002;ford;-3;02.01.2031;\n")
	r, err := audit.Run(context.Background(), testkit.File(t, next, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Findings {
		if f.Kind != "spelling" { // Weir beside weir is for a steward to see
			t.Errorf("%s: %s", f.Rule, f.Found)
		}
	}
	if faulty, err := audit.Run(context.Background(), testkit.File(t, delivered(0, 9, 3, "S-0001;weir;x;32.03.2024;\n"),
		book.Reading), book, 2); err != nil || len(faulty.Findings) != 3 {
		t.Errorf("a repeated key, a text for a number and a date that is none: %+v, %v", faulty.Findings, err)
	}
}

// A proposal of two thousand columns is a good rulebook, and finds nothing in a table that nothing is wrong with.
func TestAProposalOfManyColumns(t *testing.T) {
	const columns, rows = 2000, 60
	r := rand.New(rand.NewPCG(11, 4))
	var b strings.Builder
	for c := range columns {
		fmt.Fprintf(&b, "%sc%d", []string{",", ""}[1-min(c, 1)], c)
	}
	for i := range rows {
		fmt.Fprintf(&b, "\nR-%03d", i)
		for c := 1; c < columns; c++ {
			switch c % 4 {
			case 0:
				fmt.Fprintf(&b, ",%d", 60+r.IntN(21))
			case 1:
				fmt.Fprintf(&b, ",%s", []string{"red", "blue", "green"}[r.IntN(3)])
			case 2:
				fmt.Fprintf(&b, ",%.2f", 9*r.Float64())
			default:
				fmt.Fprintf(&b, ",2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
			}
		}
	}
	book := testkit.Book(t, proposed(t, b.String()))
	result, err := audit.Run(context.Background(), testkit.File(t, b.String(), book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	if len(book.Columns) != columns || !result.HasPassed() {
		t.Errorf("%d columns, passed: %t", len(book.Columns), result.HasPassed())
		for _, f := range result.Findings[:min(len(result.Findings), 5)] {
			t.Errorf("%s: %s", f.Rule, f.Found)
		}
	}
}

func TestNamesThatYAMLWouldMisread(t *testing.T) {
	source := proposed(t, "\"true\",\"a: b\",\"x #y\",\"1\",\"- z\",\"é\u200b\"\n1,2,3,4,5,6\n")
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatalf("%v\n%s", err, source)
	}
	for i, want := range []string{"true", "a: b", "x #y", "1", "- z", "é\u200b"} {
		if book.Columns[i].Name != want {
			t.Errorf("column %d is %q, want %q", i, book.Columns[i].Name, want)
		}
	}
}

// A steward takes a proposal line by line: what is left out is not in it, what is suggested is where it is taken.
func TestPartsOfAProposalAreTakenAndLeft(t *testing.T) {
	p, err := propose.Rulebook(context.Background(), "results", []propose.Delivery{{Name: "a", Open: testkit.Opener([]byte(
		delivered(100, 200, 4, "S-9999;mill;unknown;31.03.2024;\n")))}}, nil, intake.Reading{}, 2)
	if err != nil {
		t.Fatal(err)
	}
	mark := 97.5
	source := p.Source(propose.Choice{PassMark: &mark,
		Left: []propose.Pick{{Section: "columns", Item: "site", Part: "codes"}, {Section: "columns", Item: "value", Part: "required"},
			{Section: "columns", Item: "value", Part: "type"}, // which cannot be left
			{Section: "keys", Item: "one_sample"}, {Section: "equal_rows", Item: "equal_rows"}, {Section: "measures", Item: "measures", Part: "value"}},
		Taken: []propose.Pick{{Section: "columns", Item: "value", Part: "range"}, {Section: "columns", Item: "sample", Part: "pattern"},
			{Section: "reading", Item: "missing", Part: "unknown"}}})
	book := testkit.Book(t, source)
	if len(book.CodeLists) > 0 || strings.Contains(source, "equal_rows") || strings.Contains(source, "\nmeasures") || book.PassMark != mark ||
		len(book.Reading.Missing) != 1 || !strings.Contains(source, "# keys:") && strings.Contains(source, "\nkeys:") {
		t.Errorf("the rulebook has what was left, or lacks what was taken:\n%s", source)
	}
	for _, want := range []string{"{name: value, type: decimal, role: measure, from: 1.5, to: 90.5}", `pattern: "[A-Z]+-[0-9]+"}`, "missing: [unknown]\n"} {
		if !strings.Contains(source, want) {
			t.Errorf("the rulebook has no %q:\n%s", want, source)
		}
	}
	if whole := p.Source(propose.Choice{}); !strings.Contains(whole, "codes_site") || !strings.Contains(whole, "# missing: [unknown]") {
		t.Errorf("a choice changed the proposal:\n%s", whole)
	}
}

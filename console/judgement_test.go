package console_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const visitsBook = `# What the crews owe us
dataset: visits
columns:
  - {name: visit}   # on the sheet
  - {name: station, type: code, codes: stations}
  - {name: flow, type: decimal}
keys:
  - {id: one_visit, columns: [visit]}
code_lists:
  stations: [{code: AV-001, label: Fennoholt Bridge}, AV-002]
pass_mark: 10
`

const visitsTable = "visit,station,flow\nV1,AV-001,5\nV1,AV-001,6\nV2,Fennoholt-Bridge,7\nV3,AV-020,1\nV4,XX,1\nV5,AV-002,9\nV5,AV-002,9\nv5,AV-002,9\n"

// visited is a service with two deliveries of visits, and a steward in front of it.
func visited(t *testing.T) (*servicetest.Running, *person, int64) {
	t.Helper()
	r := servicetest.Start(t, nil)
	ctx := context.Background()
	if _, err := r.Steward.Declare(ctx, "rulebooks", []byte(visitsBook)); err != nil {
		t.Fatal(err)
	}
	var table int64
	for _, content := range []string{"visit,station,flow\nV1,AV-001,5\n", visitsTable} {
		d, err := r.Steward.Deliver(ctx, "visits", "visits.csv", records.SourceNotes{}, strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Steward.AuditOf(ctx, d.Table.ID, nil); err != nil {
			t.Fatal(err)
		}
		table = d.Table.ID
	}
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees("visits")
	return r, p, table
}

func TestFindingsGroupsAndCodesInTheConsole(t *testing.T) {
	t.Parallel()
	r, p, table := visited(t)
	p.visit(fmt.Sprintf("/tables/%d?view=findings", table))
	p.sees("Since the audit before", "8 rows, before 1.", "wins back", "Report for the owner of the data",
		"2 of 8 rows are surplus")
	p.presses("(side by side)")
	p.sees("one key, different cells", "V1", "Once spellings are made consistent, 3 of 8 rows are surplus.")
	if differs := evaluate[int](p,
		`document.querySelectorAll('[aria-label="Groups side by side"] td[title$="differs within the group"]').length`); differs != 2 {
		t.Errorf("%d cells are shown to differ, want the two flows", differs)
	}
	p.presses("one key once spellings are levelled")
	p.sees("v5")
	p.presses("equal in every cell")
	p.sees("V5")
	p.writes(`select[aria-label="Another column of the key"]`, "flow")
	p.sees("flow ×")

	p.visit(fmt.Sprintf("/tables/%d?view=codes", table))
	p.sees("3 of 8 filled cells hold no code of the list stations to the letter", "Fennoholt-Bridge", "its label",
		"nothing known", "ask the owner of the data", "Accept all 1 that are 90% sure or more")
	p.presses("Accept all 1")
	p.sees("Version 2 of the rulebook has 1 spelling more.", "accepted")
	saved, err := servicetest.Get[records.Declaration](context.Background(), r.Reader, "/rulebooks/visits/visits")
	if err != nil || saved.Source != strings.Replace(visitsBook, "label: Fennoholt Bridge}",
		"label: Fennoholt Bridge, spellings: [Fennoholt-Bridge]}", 1) {
		t.Errorf("the rulebook is\n%s, %v", saved.Source, err)
	}
	p.presses("show the rulebook")
	p.sees("version 2 by Mara")
}

func TestTheRulebookAsTextAndAsForms(t *testing.T) {
	t.Parallel()
	r, p, _ := visited(t)
	p.visit("/datasets/visits")
	p.presses("Read, change and try it")
	p.sees("It is a good rulebook.")

	// Mistakes at their place, while it is written.
	area := "Rulebook"
	p.composes(area, strings.Replace(visitsBook, "type: decimal", "type: decimel", 1))
	p.sees("1 mistake", `line 6, column 24: "decimel" is not a type; did you mean "decimal"?`)
	p.awaits(`document.querySelector(".cm-lint-marker-error") !== null`)
	p.presses("line 6, column 24")
	for range "decimel" {
		p.do("selecting the word", chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(chromedp.ModifierShift)))
	}
	if word := p.copied(area); word != "decimel" {
		t.Errorf("pressing the place of a mistake goes to %q", word)
	}

	// What can come next, by keyboard alone.
	end := func() {
		p.do("going to the end", chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	}
	p.composes(area, visitsBook+"rules:\n  - {id: small, condition: ")
	end()
	p.do("asking what can come next", chromedp.KeyEvent(" ", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.sees("a column", "a function")
	p.composes(area, visitsBook)
	p.sees("It is a good rulebook.")
	end()
	p.keys("ru")
	p.sees("rules:")
	time.Sleep(150 * time.Millisecond) // what has just opened is not taken by a key that was meant for the text
	p.do("taking it", chromedp.KeyEvent(kb.Tab))
	if text := p.composed(area); !strings.HasSuffix(text, "pass_mark: 10\nrules:") {
		t.Errorf("the text ends with %q", text[max(len(text)-20, 0):])
	}

	// A trial on a chosen delivery.
	p.composes(area, visitsBook+"rules:\n  - {id: small, condition: flow < 6}\n")
	p.sees("It is a good rulebook.")
	p.do("trying it",
		chromedp.Click(
			chromedp.Search(`//section[@aria-label="Trial"]//button[normalize-space(.) = "Try it"] | //*[@aria-label="Trial"]//button[normalize-space(.) = "Try it"]`)))
	p.sees("by the last audit", "small", "5 of 8 rows break the rule flow < 6.")

	// The same rulebook as forms.
	p.presses("forms")
	p.sees("rules 1")
	p.presses("columns 3")
	p.presses("flow decimal")
	p.writes(`input[aria-label="from"]`, "0")
	p.do("leaving the field", chromedp.Focus(chromedp.CSS(`input[aria-label="from"]`)), chromedp.KeyEvent(kb.Tab))
	p.writes(`select[aria-label="required"]`, "true")
	p.writes(`input[aria-label="The name of a column more"]`, "crew")
	p.do("adding it", chromedp.Click(chromedp.Search(`//button[normalize-space(.) = "Add"]`)))
	p.sees("columns 4")
	p.presses("references 0")
	p.sees("The rulebook has no reference yet. Add the first one.")
	p.writes(`input[aria-label="The id of a reference more"]`, "known")
	p.writes(`select[aria-label="Its columns"]`, "crew")
	p.writes(`input[aria-label="Its to"]`, "crews: colour")
	p.do("adding it", chromedp.Click(chromedp.Search(`//button[normalize-space(.) = "Add"]`)))
	p.sees("references 1", "known crew, crews: colour")
	p.presses("text")
	p.sees("It is a good rulebook.")
	want := strings.Replace(visitsBook, "{name: flow, type: decimal}",
		"{name: flow, type: decimal, from: 0, required: true}\n  - {name: crew}", 1) +
		"rules:\n  - {id: small, condition: flow < 6}\n" +
		"references:\n  - {id: known, columns: [crew], to: {dataset: crews, columns: [colour]}}\n"
	if text := p.composed("Rulebook"); text != want {
		t.Errorf("the text is\n%s\nwant\n%s", text, want)
	}
	p.presses("Save as the next version")
	p.sees("version 2 by Mara")
	p.presses("versions")
	p.sees("What changed from version 1 to version 2", "The column crew is new",
		"The column flow now has required yes.")
	saved, err := servicetest.Get[records.Declaration](context.Background(), r.Reader, "/rulebooks/visits/visits")
	if err != nil || saved.Source != want {
		t.Errorf("%v", err)
	}
	p.presses("text")
	p.presses("See what could hold")
	p.sees("or nearly holds, is ticked", "Version 2 of the rulebook is in force")
	p.presses("Change it in forms first")
	p.sees("changed here and not saved")
}

// Everything that a rulebook can say is said in forms, with mistakes at the field; comments stay.
func TestFormsForAllOfARulebook(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	const before = "# kept by the office\ndataset: gauges\ncolumns:\n  - {name: id}\n  - {name: flow, type: decimal}   # in litres\n"
	if _, err := r.Steward.Declare(context.Background(), "rulebooks", []byte(before)); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/datasets/gauges/rulebook?view=forms&section=rulebook")
	p.signsIn(r.Steward.Token)
	fill := func(field, text string) {
		t.Helper()
		p.writes(fmt.Sprintf(`input[aria-label=%q]`, field), text)
		p.do("leaving "+field, chromedp.Focus(chromedp.CSS(fmt.Sprintf(`input[aria-label=%q]`, field))), chromedp.KeyEvent(kb.Enter))
	}
	p.sees("The least score of a table that passes")
	fill("pass_mark", "5O")
	p.sees("1 mistake in the text", `not "5O"`)
	fill("pass_mark", "50")
	p.sees("No mistake in the text.")
	fill("measures", "flow")
	p.presses("reading")
	p.writes(`select[aria-label="delimiter"]`, ";")
	fill("missing", "n/a, -999")
	p.presses("columns")
	p.presses("flow")
	fill("from", "zero")
	p.sees(`"zero"`)
	fill("from", "0")
	p.presses("code lists")
	p.sees("There is no list yet.")
	p.writes(`input[aria-label="The name of a list more"]`, "rivers")
	p.writes(`input[aria-label="Its codes"]`, "Asmel, Briag, Fenn")
	p.presses("Add the list")
	p.sees("rivers, 3 codes")
	fill("What Briag stands for", "the Briag below the weir")
	fill("Other spellings of Asmel", "Assmel, asml")
	p.do("removing a code", chromedp.Click(chromedp.CSS(`button[aria-label="Remove Fenn"]`)))
	p.sees("rivers, 2 codes")
	p.presses("equal rows")
	p.presses("Declare it")
	p.sees("What it means for the table when it is broken")
	p.presses("text")
	p.sees("It is a good rulebook.")
	want := "# kept by the office\ndataset: gauges\ncolumns:\n  - {name: id}\n  - {name: flow, type: decimal, from: 0}   # in litres\n" +
		"pass_mark: 50\nmeasures: [flow]\nreading:\n  delimiter: \";\"\n  missing: [\"n/a\", \"-999\"]\n" +
		"code_lists:\n  rivers: [{code: Asmel, spellings: [Assmel, asml]}, {code: Briag, label: \"the Briag below the weir\"}]\nequal_rows: {severity: minor}\n"
	if text := p.composed("Rulebook"); text != want {
		t.Errorf("the text is\n%s\nwant\n%s", text, want)
	}
	// A spelling with a comma in it is one, and stays one when another is added beside it.
	p.presses("forms")
	p.presses("code lists")
	fill("Other spellings of Asmel", `Assmel, "Asmel, upper"`)
	p.awaits(`document.querySelector('input[aria-label="Other spellings of Asmel"]').value === 'Assmel, "Asmel, upper"'`)
	p.presses("text")
	p.sees("It is a good rulebook.")
	if text := p.composed("Rulebook"); !strings.Contains(text, `{code: Asmel, spellings: [Assmel, "Asmel, upper"]}`) {
		t.Errorf("the text is\n%s", text)
	}
}

// A rulebook of 300 columns opens and is checked without a wait that a person notices.
func TestARulebookOfManyColumns(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	var b strings.Builder
	b.WriteString("dataset: wide\ncolumns:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  - {name: column_%03d, type: decimal, from: 0, to: 100, required: true}\n", i)
	}
	if _, err := r.Steward.Declare(context.Background(), "rulebooks", []byte(b.String())); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/datasets/wide/rulebook")
	p.signsIn(r.Steward.Token)
	p.sees("It is a good rulebook.")
	p.composes("Rulebook", strings.Replace(b.String(), "column_299, type: decimal",
		"column_299, type: desimal", 1))
	p.sees(`"desimal" is not a type`)
	p.presses("forms")
	p.writes(`input[aria-label="Find"]`, "column_250")
	p.presses("column_250 decimal, required")
	p.sees("line 253 of the text")
}

// Two people change one rulebook: the second is told who saved what, and nobody's text is lost.
func TestTheSecondOfTwoWhoSaveIsToldOfTheFirst(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	ctx := context.Background()
	if _, err := r.Steward.Declare(ctx, "rulebooks", []byte(visitsBook)); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/datasets/visits/rulebook")
	p.signsIn(r.Steward.Token)
	p.sees("It is a good rulebook.")
	mine := visitsBook + "rules:\n  - {id: small, condition: flow < 6}\n"
	p.composes("Rulebook", mine)
	p.sees("changed here and not saved")
	theirs := strings.Replace(visitsBook, "{name: flow, type: decimal}", "{name: flow, type: decimal, from: 0}", 1)
	if _, err := r.Admin.DeclareAfter(ctx, "rulebooks", []byte(theirs), 1); err != nil {
		t.Fatal(err)
	}
	p.presses("Save as the next version")
	p.sees("it was made from version 1, and administrator saved version 2", "The column flow now has lowest value 0")
	p.presses("I have seen the newest version: let mine come after it")
	for deadline := time.Now().Add(patience); strings.Contains(p.page(),
		"was not saved"); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the refusal stays after the newest version was seen")
		}
	}
	p.presses("Save as the next version")
	p.gives("theirs asked for more")
	p.sees("version 3 by Mara")
	saved, err := servicetest.Get[records.Declaration](ctx, r.Reader, "/rulebooks/visits/visits")
	if err != nil || saved.Source != mine || saved.Version != 3 {
		t.Errorf("%+v, %v", saved, err)
	}
}

func TestADeliveryIsWithdrawnInTheConsole(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	ctx := context.Background()
	if _, err := r.Steward.Declare(ctx, "rulebooks", []byte(visitsBook)); err != nil {
		t.Fatal(err)
	}
	d, err := r.Steward.Deliver(ctx, "visits", "may.csv", records.SourceNotes{},
		strings.NewReader("station,flow\nAV-1,5\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(ctx, d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit(fmt.Sprintf("/tables/%d?view=source", d.Table.ID))
	p.signsIn(r.Steward.Token)
	p.sees("Withdraw: it was taken in by mistake")
	p.writes(`textarea[aria-label="Why the delivery is withdrawn"]`, "The file of another month.")
	p.presses("Withdraw the delivery")
	p.sees("Withdrawn by Mara", "The file of another month.", "It counts in no score, no issue and no merge any more.")
}

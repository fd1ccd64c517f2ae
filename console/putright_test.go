package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/service/servicetest"
)

const pumpsBook = `dataset: pumps
reading: {missing: [n/a]}
columns:
  - {name: pump, required: true}
  - {name: crew, type: code, codes: crews}
  - {name: flow, type: decimal, from: 0, to: 100}
  - {name: note}
keys:
  - {id: one_pump, columns: [pump]}
code_lists:
  crews: [red, blue]
measures: [flow]
pass_mark: 100
`

const pumps = "pump,crew,flow,note\nM1,red,7,a\nM2,Red,8,b\nM3,blue,900,c\nM4,blue,5,d\nM4,blue,6,e\nM5, red,n/a,\n"

// A plan is made, tried and applied without a line of YAML: from where the trouble is seen, by forms, by mouse and keyboard.
func TestAPlanIsMadeWithoutYAML(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "pumps", pumpsBook, pumps)
	address := fmt.Sprintf("/tables/%d", table)
	p.visit(address + "?view=findings")
	p.sees("have another spelling of a code in crew", "put right:")
	p.presses("map codes")
	p.sees("1 map codes", "not saved", "It writes codes for what stands for them")
	// The link brought the step along once; the page can be loaded again without another one.
	p.visit(p.address())
	p.sees("1 map codes")
	if strings.Contains(p.page(), "2 map codes") {
		t.Error("the step was added twice")
	}

	// What else was found is offered, with why it has to be decided.
	p.sees("for what was found")
	p.do("opening what is proposed", clicks(`//summary[contains(., "for what was found")]`))
	p.sees("To be decided, since which of the rows stays is for a person to decide")
	p.do("adding keep one", clicks(`//*[contains(., "keep one")]/following-sibling::button[normalize-space(.)="Add"]`))
	p.sees("2 keep one", "It keeps one of several rows with the same key")
	p.writes(`select[aria-label="survivor"]`, "largest_value")
	p.sees("\"by\" names the column that decides") // the form says what is wrong
	p.writes(`select[aria-label="by"]`, "flow")
	p.awaits(`!document.body.innerText.includes("names the column that decides")`)

	// A step is added from the list of all kinds, and filled in.
	p.writes(`select[aria-label="Add a step"]`, "set_missing")
	p.sees("3 set missing", `a step needs "reason"`)
	p.writes(`select[aria-label="columns: one more"]`, "flow")
	p.sees("flow ×")
	p.fills("where", "flow > 100")
	p.fills("reason", "The decimal point slipped.")
	p.awaits(`!document.body.innerText.includes("has a mistake")`)

	// Nothing is saved by a preview, and each step says what it would do.
	p.tries()
	p.sees("Nothing has been done yet.", "2 cells: Red → red", "1 row leaves", "1 cell: 900 → empty", "changed, and not saved")
	plans, err := servicetest.Get[struct{ Items []any }](t.Context(), r.Steward, "/fix-plans?dataset=pumps")
	if err != nil || len(plans.Items) != 0 {
		t.Fatalf("a preview saved %d plans, %v", len(plans.Items), err)
	}
	p.do("the changes of a step", clicks(`//button[normalize-space(.)="2 keep one"][@title="Show what it changes"]`))
	p.writes(`select[aria-label="What was changed"]`, "rows")
	p.sees("stays")

	// Moved by the keyboard, switched off, taken out: the numbers are those of before, and the page says so.
	p.do("to the third step", chromedp.Focus(chromedp.CSS(`ol[aria-label="Steps of the plan"] li:nth-child(3) button[aria-expanded]`)),
		chromedp.KeyEvent(kb.ArrowUp, chromedp.KeyModifiers(chromedp.ModifierAlt)))
	p.sees("2 set missing", "3 keep one", "The plan was changed since")
	p.do("switching a step off", chromedp.Click(chromedp.CSS(`button[aria-label="Switch step 3 off"]`)))
	p.awaits(`document.querySelector('button[aria-label="Switch step 3 on"]') !== null`)
	p.tries()
	p.awaits(`!document.body.innerText.includes("The plan was changed since")`)
	p.sees("This step is switched off.")
	p.do("switching it on", chromedp.Click(chromedp.CSS(`button[aria-label="Switch step 3 on"]`)))
	p.awaits(`document.querySelector('button[aria-label="Switch step 3 off"]') !== null`)

	// The text is the same plan.
	p.writes(`select[aria-label="How it is shown"]`, "text")
	text := p.composed("Steps of the fix plan")
	for _, want := range []string{"do: map_codes", "do: set_missing", "where: \"flow > 100\"", "do: keep_one", "by: flow"} {
		if !strings.Contains(text, want) {
			t.Errorf("the text lacks %s:\n%s", want, text)
		}
	}
	p.writes(`select[aria-label="How it is shown"]`, "")
	p.presses("Apply it")
	p.sees("The plan is applied")
	p.presses("Apply it")
	p.sees("makes of table 1 already, byte for byte; no second one was made")
	p.presses("Apply this one to every delivery")
	p.sees("It is applied to every delivery once it was audited.")
	p.presses("table ")
	p.sees("handed over", "Every change", "Red")

	// "Why is this red?"
	p.writes(`input[aria-label="Row"]`, "2")
	p.sees("step 1 map codes", "It came with row 2 of table 1")
	p.writes(`select[aria-label="Column of the cell"]`, "flow")
	p.sees("No step had to do with it: it stands as it arrived.")
}

// What no rule settles is decided by a press, and goes into the plan.
func TestWhatNoRuleSettlesIsDecidedByAPress(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "pumps", pumpsBook, pumps)
	p.visit(fmt.Sprintf("/tables/%d/fix?as=text", table))
	p.composes("Steps of the fix plan", `fix_plan: meters_clean
dataset: pumps
steps:
  - do: keep_one
    columns: [pump]
    cells: {note: longest}
    reason: One row for each pump.
`)
	p.writes(`select[aria-label="How it is shown"]`, "")
	p.tries()
	p.sees("The plan cannot be applied as it stands.", "no rule settles which value stays", "which of these stays?", "M4")
	p.do("deciding", clicks(`//td//button[contains(., "6")]`))
	p.do("deciding", clicks(`//td//button[contains(., "e (1)") or contains(., "e(1)")]`))
	p.writes(`select[aria-label="How it is shown"]`, "text")
	p.awaits(`document.body.innerText.includes("choices")`)
	p.writes(`select[aria-label="How it is shown"]`, "")
	p.tries()
	p.awaits(`!document.body.innerText.includes("cannot be applied as it stands")`)
	p.sees("1 row leaves")
}

// A cell that is wrong is pointed at in the rows, and a column in its menu; what only the person knows is asked for.
func TestAStepForACellAndForAColumn(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "pumps", pumpsBook, pumps)
	rows := fmt.Sprintf("/tables/%d?view=rows", table)
	p.visit(rows)
	p.do("choosing the third row", chromedp.Click(chromedp.CSS(`input[aria-label="Choose row 3"]`)))
	p.presses("Put right …")
	p.sees("set aside")
	p.writes(`select[aria-label="What of the row"]`, "flow")
	p.presses("set this cell")
	p.sees("1 set cell", `a step "set_cell" needs "to"`)
	p.fills("to", "90")
	p.fills("reason", "The decimal point slipped.")
	// At once: the field that was just left belongs to what is shown.
	p.tries()
	p.sees("1 cell: 900 → 90")

	// Two rows of one pump cannot be told by their key: the step names them by all their cells.
	p.visit(rows)
	p.do("choosing one of two", chromedp.Click(chromedp.CSS(`input[aria-label="Choose row 4"]`)))
	p.presses("Put right …")
	p.presses("set aside")
	p.sees("2 set aside", "pump = 'M4' AND crew = 'blue' AND flow = 5 AND note = 'd'")
	p.fills("reason", "The pump was changed.")
	p.awaits(`!document.body.innerText.includes("has a mistake")`)
	p.tries()
	p.sees("1 row leaves")

	p.visit(rows)
	p.do("the menu of a column", chromedp.Click(chromedp.CSS(`button[aria-label="Filter and arrange note"]`)))
	p.writes(`select[aria-label="Put note right"]`, "change_case")
	p.sees("3 change case", "note")
	p.awaits(`new URLSearchParams(location.search).get("put") === null`)
}

// tries has the plan shown, by the keyboard: the button moves while what stands above it comes in.
func (p *person) tries() {
	p.t.Helper()
	button := chromedp.Search(`//button[contains(., "Show what it would do")]`)
	p.do("showing what it would do", chromedp.WaitVisible(button), chromedp.Focus(button), chromedp.KeyEvent(kb.Enter))
}

// fills writes into a field of a step, and leaves it.
func (p *person) fills(label, text string) {
	p.t.Helper()
	p.writes(fmt.Sprintf(`input[aria-label=%q]`, label), text)
	p.do("leaving it", chromedp.Focus(chromedp.CSS(fmt.Sprintf(`input[aria-label=%q]`, label))), chromedp.KeyEvent(kb.Enter))
}

// A sheet with a column for every day becomes a row for every day; what two sheets say otherwise is settled by cell, a column
// is derived, and the gaps are estimated, by the method that does best: all of it by hand, and the estimates stay marked.
func TestAWideTableIsTurnedSettledAndEstimatedWithoutYAML(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "gauge_sheets", demoText(t, "rulebooks/gauge_sheets.yaml"), demoText(t, "data/gauge_sheets.csv"))
	if _, err := r.Steward.Declare(t.Context(), "rulebooks", []byte(demoText(t, "rulebooks/levels.yaml"))); err != nil {
		t.Fatal(err)
	}
	p.visit(fmt.Sprintf("/tables/%d?view=columns", table))
	p.sees("30 columns are named by dates, 01/06/2024 to 30/06/2024")
	p.presses("columns to rows")
	p.sees("1 columns to rows", "dd/MM/yyyy")
	p.writes(`select[aria-label="It makes tables of"]`, "levels")
	p.fills("values_to", "reading")

	adds := func(kind, reason string) {
		p.writes(`select[aria-label="Add a step"]`, kind)
		p.sees(`a step needs "reason"`)
		p.fills("reason", reason)
	}
	columns := func(field string, names ...string) {
		for _, name := range names {
			p.writes(fmt.Sprintf(`select[aria-label="%s: one more"]`, field), name)
			p.awaits(fmt.Sprintf(`document.querySelector('button[aria-label="Without %s"]') !== null`, name))
		}
	}
	// The columns that are offered are those that the step finds.
	adds("keep_one", "The sheet that was typed in last was corrected.")
	columns("columns", "station", "day")
	p.writes(`select[aria-label="by"]`, "entered")
	for _, one := range []string{"reading latest", "read_by latest", "entered latest", "zero only_value"} {
		name, rule, _ := strings.Cut(one, " ")
		p.writes(`input[aria-label="cells: a name more"]`, name)
		p.writes(`input[aria-label="cells: what it stands for"]`, rule)
		p.do("adding it", chromedp.Click(chromedp.CSS(`button[aria-label="cells: add it"]`)))
		p.awaits(fmt.Sprintf(`document.querySelector('button[aria-label="Without %s"]') !== null`, name))
	}
	adds("derive", "Levels of all stations are compared above one datum.")
	p.fills("into", "level")
	p.fills("expression", "zero + reading / 100")
	adds("drop_columns", "What the level was worked out of stays in the sheets.")
	columns("columns", "read_by", "entered", "zero", "reading")
	adds("estimate", "The level follows from the days around it.")
	p.writes(`select[aria-label="column"]`, "level")
	p.writes(`select[aria-label="method"]`, "near_predictions")
	columns("alike_in", "station", "day")
	p.awaits(`!document.body.innerText.includes("has a mistake")`)

	// The methods are compared on the table as the step finds it, and the best is taken.
	p.presses("Compare the methods")
	p.sees("How the gaps of level could be estimated", "correlations kept", "level: its estimates by near predictions, draw by draw")
	p.do("taking in time", chromedp.Click(chromedp.CSS(`button[aria-label="Take in time"]`)))
	p.sees("5 estimate", "in_time")
	p.awaits(`document.querySelector('select[aria-label="method"]').value === "in_time" && document.querySelector('button[aria-label="Without day"]') !== null`)
	p.awaits(`!document.body.innerText.includes("has a mistake")`)

	// Two sheets of one day say otherwise, and no rule settles it: a person does.
	p.tries()
	p.sees("The plan cannot be applied as it stands.", "no rule settles which value stays", "AV-048")
	p.do("deciding", clicks(`//td//button[contains(., "93,5")]`))
	p.do("deciding", clicks(`//td//button[contains(., "92,1")]`))
	p.writes(`select[aria-label="How it is shown"]`, "text")
	p.awaits(`(document.body.innerText.match(/column: reading/g) ?? []).length === 2`)
	p.writes(`select[aria-label="How it is shown"]`, "")
	p.tries()
	p.awaits(`!document.body.innerText.includes("cannot be applied as it stands")`)
	p.sees("12 of 12 gaps of level are filled by in time, from 708 values that were observed", "810 of 27")
	p.presses("Apply it")
	p.sees("The plan is applied")
	p.presses("table ")
	p.sees("handed over")
	p.presses("columns")
	p.sees("12 cells are estimates, which count as missing where a value is required")
	p.do("the column", clicks(`//td//a[normalize-space(.)="level"]`))
	p.sees("of these estimated")
	p.do("its estimates", clicks(`//a[normalize-space(.)="12"]`))
	p.sees("level is an estimate", "AV-053")
	p.awaits(`document.querySelectorAll('td.estimated span[aria-label="an estimate"]').length === 12`)
}

package console_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"proudsieve/client"
	"proudsieve/service/records"
)

const samplesBook = `dataset: samples
columns:
  - {name: id}
  - {name: parameter, type: code, codes: parameters, severity: major}
  - {name: value, type: decimal, to: 14}
code_lists: {parameters: {codes: [{code: PH}, {code: NO3}]}}
keys: [{id: one, columns: [id]}]
pass_mark: 0
`

const samplesFile = "id,parameter,value\na,PH,99\nb,Acidity,7\nc,Acidity,6\nd,Zink,140\n"

// clicks presses what a selector finds.
func (p *person) clicks(selector string) {
	p.t.Helper()
	p.do("clicking "+selector, chromedp.WaitVisible(chromedp.CSS(selector)), chromedp.Click(chromedp.CSS(selector)))
}

// gives says why less is asked of a table.
func (p *person) gives(reason string) {
	p.t.Helper()
	p.writes(`textarea[aria-label="Why less is asked"]`, reason)
	p.presses("Save it with this reason")
}

// Three people: a steward asks, the owner of the data answers without an account on a telephone, the steward takes the answers up.
func TestTheOwnerIsAskedAndTheAnswersAreTakenUp(t *testing.T) {
	t.Parallel()
	r, mara, _ := seated(t, "samples", samplesBook, samplesFile)
	ctx := context.Background()
	mara.visit("/issues")
	mara.clicks(`input[aria-label="Choose issue 1"]`)
	mara.clicks(`input[aria-label="Choose issue 2"]`)
	mara.sees("2 issues are chosen.")
	mara.presses("Write the questions")
	mara.sees("Ask the owner of the data", "About 2 issues")
	mara.writes(`input[aria-label="Whom you ask"]`, "Ada Moss")
	mara.writes(`input[aria-label="What you suppose of issue 1"]`, "Acidity is PH.")
	mara.presses("Ask them")
	mara.sees("Sheet 1: Ada Moss", "4 questions", "not answered yet")
	link := evaluate[string](mara, `document.querySelector('a[href*="/answer/"]').getAttribute("href")`)

	ada := sitDown(t, r.URL)
	ada.do("holding a telephone", chromedp.EmulateViewport(390, 844))
	ada.visit(strings.TrimPrefix(link, r.URL))
	ada.sees("Questions about your data", "Mara asks Ada Moss", "We suppose: Acidity is PH.", "It will be delivered again.")
	if wide := evaluate[bool](ada, `document.documentElement.scrollWidth > innerWidth`); wide {
		t.Error("the page is wider than a telephone")
	}
	chosen := func(text, answer string) string {
		return fmt.Sprintf(`(() => { const f = [...document.querySelectorAll("fieldset")].find((f) => f.innerText.includes(%q)); const i = f.querySelector('input[value="%s"]'); i.click(); return f.id; })()`, text, answer)
	}
	code := evaluate[string](ada, chosen("Acidity", "wrong"))
	ada.writes(fmt.Sprintf(`input[name="right %s parameter"]`, code), "PH")
	evaluate[string](ada, chosen("Zink", "wrong"))
	evaluate[string](ada, chosen("99", "meant_so"))
	ada.writes(`input[name="by"]`, "Ada Moss")
	ada.presses("Send the answers")
	ada.sees("2 answers taken", "1 answer could not be taken", "not what is right; write that, or a remark.")
	evaluate[string](ada, chosen("Zink", "unknown"))
	ada.presses("Send the answers")
	ada.sees("3 answers taken")

	mara.visit("/")
	mara.sees("Asked and answered", "Ada Moss answered 3 of 4 questions")
	mara.presses("take up the answers of sheet 1")
	mara.sees("What the answers about samples would become", `"Acidity" becomes "PH" in 2 cells of parameter.`, "the row id a, value 99")
	mara.presses("Show what the plan would do then")
	mara.sees("The plan would change 2 cells and rows", "the score goes from 0 to 50.00")
	mara.presses("Take up 3 answers")
	mara.sees("Taken up by Mara: A step of version 1 of the fix plan answers", "A waiver for 1 row, by id and value")
	mara.visit("/issues?text=value.range")
	mara.presses("2 of 4 rows have a value out of range in value.")
	mara.sees("What is accepted of it", "1 row, by id and value, for good, by Mara", "What the owner of the data was asked", "1 more than was waived")
	mara.presses("End this waiver")
	mara.sees("Ended by Mara")
	plan, err := r.Steward.ShowFixPlans(ctx, "samples", "answers", nil)
	if err != nil || !strings.Contains(plan.Source, "find: Acidity") {
		t.Errorf("%+v, %v", plan, err)
	}
}

// What is meant so becomes a waiver, or what the rulebook says, as the steward chooses, with its effect before it is done.
func TestWhatIsMeantSoIsSaidInTheRulebook(t *testing.T) {
	t.Parallel()
	r, mara, _ := seated(t, "samples", samplesBook, samplesFile)
	sheet, err := r.Steward.AddSheet(t.Context(), client.NewSheet{Issues: []int64{1, 2}, Recipient: "Ada Moss"})
	if err != nil {
		t.Fatal(err)
	}
	given := []client.Given{}
	for _, q := range sheet.Asked {
		if strings.Contains(string(q.Item), "Acidity") || strings.Contains(string(q.Item), "99") {
			given = append(given, client.Given{Code: q.Code, Answer: "meant_so"})
		}
	}
	if _, err := r.Steward.TakeAnswers(t.Context(), client.AnswersGiven{By: "Ada Moss", Given: given}); err != nil || len(given) != 2 {
		t.Fatal(err)
	}
	mara.visit("/questions/1")
	mara.sees("What the answers about samples would become", "the row id a, value 99")
	mara.writes(fmt.Sprintf(`select[aria-label="What %s becomes"]`, given[0].Code), "rulebook")
	mara.sees(`"Acidity" becomes a code of the list parameters`, "which is a decision of yours")
	mara.presses("Try the rulebook as it would be")
	mara.sees("would score", "by it.")
	mara.presses("Take up 2 answers")
	mara.sees(`Version 2 of the rulebook: "Acidity" becomes a code`, "A waiver for 1 row, by id and value")
	mara.visit("/decisions?dataset=samples")
	mara.sees("Ada Moss says that it is meant so.")
}

func TestAWeakerRulebookWaitsForASecondPerson(t *testing.T) {
	t.Parallel()
	r, mara, _ := seated(t, "samples", samplesBook, samplesFile)
	if _, err := r.Admin.AskSecondPerson(t.Context(), "samples", client.SecondBody{Asked: true}); err != nil {
		t.Fatal(err)
	}
	mara.visit("/datasets/samples/rulebook")
	mara.composes("Rulebook", strings.Replace(samplesBook, "value, type: decimal, to: 14}", "value, type: decimal}", 1))
	mara.presses("Save as the next version")
	mara.sees("Less is asked of a table by this version", "The column value no longer has highest value 14.", "loses its rule value.range")
	mara.gives("There are other parameters than pH.")
	mara.sees("Kept as decision 1, which waits for a second person.")
	mara.visit("/decisions")
	mara.sees("It waits for somebody else to agree.")

	jonas := sitDown(t, r.URL)
	jonas.visit("/")
	jonas.signsIn(r.Certifier.Token)
	jonas.sees("Mara wants the rulebook of samples to ask less")
	jonas.presses("decision 1 waits for a second person")
	jonas.sees("There are other parameters than pH.", "The open issue of the rule value.range is closed.")
	jonas.presses("Agree")
	jonas.sees("Agreed to by Jonas")
	jonas.visit("/datasets/samples/rulebook?view=versions")
	jonas.sees("no longer has highest value 14. Weaker.")
	all, err := r.Reader.ListIssues(t.Context(), &client.ListIssuesParams{Dataset: "samples", Text: "value.range"})
	if err != nil || len(all.Items) != 1 || *all.Items[0].Ended != "rule_changed" {
		t.Errorf("%+v, %v", all, err)
	}
}

// A waiver is given for texts in the console, and what is beyond stays open; several issues are settled at once.
func TestWaivingAndSettlingInTheConsole(t *testing.T) {
	t.Parallel()
	r, mara, table := seated(t, "samples", samplesBook, samplesFile)
	for tries := 0; tries < 100; tries++ { // issues come once the audit is recorded
		if _, err := r.Steward.ShowIssue(t.Context(), 1); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	mara.visit("/issues/1")
	mara.writes(`textarea[aria-label="Reason"]`, "Their name for pH.")
	mara.writes(`select[aria-label="What is accepted"]`, "texts")
	mara.writes(`input[aria-label="The texts that are accepted"]`, "Acidity")
	mara.writes(`select[aria-label="How long"]`, "good")
	mara.presses("Waive")
	mara.sees("1 text of parameter", "for good, by Mara", "1 more than were waived")
	mara.visit(fmt.Sprintf("/tables/%d?view=findings", table))
	mara.sees("Waived in part: 2 of 3 rows, 1 beyond.", "Their name for pH.")
	mara.visit("/issues")
	mara.clicks(`input[aria-label="Choose issue 1"]`)
	mara.clicks(`input[aria-label="Choose issue 2"]`)
	mara.writes(`select[aria-label="What is done with them"]`, "owner")
	mara.writes(`input[aria-label="The owner of the data"]`, "Ada Moss")
	mara.writes(`input[aria-label="The reason for all of them"]`, "Both are of one sheet.")
	mara.presses("Do it with all of them")
	mara.sees("2 issues were changed.")
	mara.awaits(`[...document.querySelectorAll('[aria-label="Issues"] tbody tr')].filter((r) => r.innerText.includes("Ada Moss")).length === 2`)
	all, err := r.Reader.ListIssues(t.Context(), &client.ListIssuesParams{Owner: "Ada Moss"})
	if err != nil || len(all.Items) != 2 {
		t.Errorf("%+v, %v", all, err)
	}
	var one *records.IssueShown
	if one, err = r.Reader.ShowIssue(t.Context(), 1); err != nil || one.Entries[len(one.Entries)-1].Text != "Both are of one sheet." {
		t.Errorf("%+v, %v", one, err)
	}
}

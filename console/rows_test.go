package console_test

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const metersBook = `dataset: meters
columns:
  - {name: meter, required: true}
  - {name: flow, type: decimal, to: 50}
  - {name: read_on, type: date}
  - {name: remark}
`

const metersFile = "meter,flow,read_on,remark\n" +
	"M-1,5.5,2024-01-02,\nM-2,7.25,2024-01-03,by hand\nM-3,,2024-01-04,\nM-4,99,2024-02-05,twice read\n,8,2024-02-06,by hand\n"

// The rows in the grid, from above.
const meters = `[...document.querySelectorAll('[aria-label="Rows"] tbody tr')].map((r) => r.cells[1].innerText.trim()).join(" ")`

// What is asked of one column is asked in its own menu, without a word of a condition.
func TestRowsAreFilteredByPressing(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "meters", metersBook, metersFile)
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 5 rows", "decimal")
	menu := func(column, press string) {
		t.Helper()
		p.do("opening the menu of "+column, chromedp.Click(chromedp.CSS(fmt.Sprintf(`button[aria-label="Filter and arrange %s"]`, column))),
			chromedp.WaitVisible(chromedp.CSS(`[role="dialog"]`)))
		if press != "" {
			p.do("pressing "+press, chromedp.Click(chromedp.Search(fmt.Sprintf(`//*[@role="dialog"]//button[contains(normalize-space(.), %q)]`, press))))
		}
	}
	menu("flow", "only missing (1)")
	p.sees("flow is missing ×", "of 1 row", "M-3")
	p.presses("flow is missing")
	p.sees("of 5 rows")
	menu("flow", "")
	p.writes(`input[aria-label="Least flow"]`, "6")
	p.writes(`input[aria-label="Greatest flow"]`, "1O")
	p.sees("A bound is a number, as 12.5.")
	p.writes(`input[aria-label="Greatest flow"]`, "10")
	p.do("showing", chromedp.Click(chromedp.Search(`//*[@role="dialog"]//button[.="Show"]`)))
	p.sees("flow from 6 to 10 ×", "of 2 rows", "M-2")
	menu("read_on", "")
	p.writes(`input[aria-label="Greatest read_on"]`, "2024-01-31")
	p.do("showing", chromedp.Click(chromedp.Search(`//*[@role="dialog"]//button[.="Show"]`)))
	p.sees("read_on to 2024-01-31 ×", "of 1 row", "M-2")
	p.presses("all rows")
	p.sees("of 5 rows")
	menu("remark", "by hand")
	p.sees("remark is by hand ×", "of 2 rows")
	p.presses("all rows")
	p.sees("of 5 rows")
	menu("flow", "only caught here")
	p.sees("caught in flow ×", "of 1 row", "M-4")
	p.presses("all rows")
	p.sees("of 5 rows")
	p.do("only what is amiss", chromedp.Click(chromedp.Search(`//label[contains(., "only missing or caught")]/input`)))
	p.sees("of 4 rows") // all but the second: two lack a remark, one its flow, one its meter, one is beyond 50
	if got := evaluate[string](p, meters); got != "M-1 M-3 M-4 □" && got != "M-1 M-3 M-4 □ " {
		t.Errorf("the rows with something missing or caught are %q", got)
	}
	// What is found is marked.
	p.visit(fmt.Sprintf("/tables/%d?view=rows&find=HAND", table))
	p.sees("of 2 rows")
	if marks := evaluate[int](p, `document.querySelectorAll("mark").length`); marks != 2 {
		t.Errorf("%d places are marked, want 2", marks)
	}
}

// A last day counts with all of its hours.
func TestTheLastDayOfBoundsCountsToItsEnd(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "logs", "dataset: logs\ncolumns: [{name: at, type: datetime}]\n", "at\n2024-01-30 08:00:00\n2024-01-31 00:00:00\n2024-01-31 23:59:59\n2024-02-01 00:00:00\n")
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 4 rows")
	p.do("opening the menu", chromedp.Click(chromedp.CSS(`button[aria-label="Filter and arrange at"]`)), chromedp.WaitVisible(chromedp.CSS(`[role="dialog"]`)))
	p.writes(`input[aria-label="Least at"]`, "2024-01-31")
	p.writes(`input[aria-label="Greatest at"]`, "2024-01-31")
	p.do("showing", clicks(`//*[@role="dialog"]//button[.="Show"]`))
	p.sees("of 2 rows", "23:59:59")
}

// A condition says what can come next and what is wrong while it is written.
func TestAConditionIsHelpedAlong(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "meters", metersBook, metersFile)
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 5 rows")
	label := "Only rows for which a condition holds"
	p.composes(label, "flwo > 6")
	p.sees("character 1:", `"flwo"`)
	p.composes(label, "fl")
	p.do("asking what can come", chromedp.KeyEvent(kb.End), chromedp.KeyEvent(" ", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.sees("a column")
	p.keys("ow > 6\r")
	p.sees("of 3 rows")
	if !strings.Contains(p.address(), "where="+url.QueryEscape("flow > 6")) && !strings.Contains(p.address(), "flow%20%3E%206") {
		t.Errorf("the condition is not in the address %s", p.address())
	}
}

// How the columns stand is kept for the dataset, and an address that says otherwise is followed.
func TestTheGridStandsAsItWasLeft(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "meters", metersBook, metersFile)
	page := fmt.Sprintf("/tables/%d?view=rows", table)
	heads := `[...document.querySelectorAll('[aria-label="Rows"] thead th button[title^="Sort by"]')].map((b) => b.title.slice(8)).join(" ")`
	stand := func(want string) {
		t.Helper()
		p.awaits(fmt.Sprintf("%s === %q", heads, want))
	}
	p.visit(page)
	stand("meter flow read_on remark")
	act := func(column, press string) {
		t.Helper()
		p.do(press+" "+column, chromedp.Click(chromedp.CSS(fmt.Sprintf(`button[aria-label="Filter and arrange %s"]`, column))),
			chromedp.WaitVisible(chromedp.CSS(`[role="dialog"]`)),
			chromedp.Click(chromedp.Search(fmt.Sprintf(`//*[@role="dialog"]//button[.=%q]`, press))))
		p.do("closing the menu", chromedp.KeyEvent(kb.Escape))
		p.awaits(`document.querySelector('[role="dialog"]') === null`)
	}
	act("remark", "keep in sight")
	stand("remark meter flow read_on")
	act("read_on", "to the left")
	stand("remark meter read_on flow")
	act("meter", "hide")
	stand("remark read_on flow")
	p.sees("3 of 4 columns")
	width := `document.querySelector('button[title="Sort by flow"]').closest("th").getBoundingClientRect().width`
	was := evaluate[float64](p, width)
	act("flow", "wider")
	p.awaits(fmt.Sprintf("%s === %v", width, was+40))
	p.visit(page)
	stand("remark read_on flow")
	p.awaits(fmt.Sprintf("%s === %v", width, was+40))
	p.visit(page + "&pin=" + url.QueryEscape(`["flow"]`) + "&hide=" + url.QueryEscape(`["remark"]`))
	p.awaits(heads + `.startsWith("flow ")`)
}

// Rows that are ticked become an issue, or a table for elsewhere.
func TestChosenRowsBecomeAnIssue(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "meters", metersBook, metersFile)
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 5 rows")
	p.do("choosing two", chromedp.Click(chromedp.CSS(`input[aria-label="Choose row 2"]`)), chromedp.Click(chromedp.CSS(`input[aria-label="Choose row 5"]`)))
	p.sees("2 rows are chosen.")
	evaluate[bool](p, `(() => { window.copied = ""; navigator.clipboard.write = async ([item]) => { window.copied = await (await item.getType("text/plain")).text(); }; return true })()`)
	p.presses("Copy as a table")
	p.awaits(`window.copied !== ""`)
	if got := evaluate[string](p, "window.copied"); got != "row\tmeter\tflow\tread_on\tremark\n2\tM-2\t7.25\t2024-01-03\tby hand\n5\t\t8\t2024-02-06\tby hand" {
		t.Errorf("copied is %q", got)
	}
	p.presses("Make an issue of them")
	p.sees("It is issue")
	all, err := servicetest.All[records.Issue](context.Background(), r.Steward, "/issues?dataset=meters")
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, i := range all {
		found = found || i.Subject == "rows" && i.Rows == 2
	}
	if !found {
		t.Errorf("%+v", all)
	}
}

// A link to rows names the audit that says what is caught, so that it shows the same once there is a newer one.
func TestALinkToRowsShowsTheSameForEver(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "meters", metersBook, metersFile)
	ctx := context.Background()
	p.visit(fmt.Sprintf("/tables/%d?view=rows&rule=flow.range", table))
	p.sees("of 1 row", "M-4")
	p.awaits(`location.search.includes("audit=")`)
	link := p.address()
	if _, err := r.Steward.Ease(ctx, []byte(strings.Replace(metersBook, "to: 50", "to: 500", 1)), 1, "a flood"); err != nil {
		t.Fatal(err)
	}
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/audits", table), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	p.visit(link)
	p.sees("of 1 row", "M-4", "which is not the newest")
	p.presses("See the rows by the newest one")
	p.sees("No row is left by this choice")
}

// Of 600 columns only those in sight are drawn, and each is reached.
func TestOfManyColumnsThoseInSightAreDrawn(t *testing.T) {
	t.Parallel()
	var head, row []string
	for i := range 600 {
		head, row = append(head, fmt.Sprintf("reading_%03d", i)), append(row, fmt.Sprint(i))
	}
	_, p, table := seated(t, "wide", "dataset: wide\ncolumns: [{name: reading_000}]\n",
		strings.Join(head, ",")+"\n"+strings.Join(row, ",")+"\n")
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 1 row", "reading_000")
	drawn := `document.querySelectorAll('[aria-label="Rows"] thead th').length`
	if n := evaluate[int](p, drawn); n > 40 {
		t.Errorf("%d headings are drawn at once", n)
	}
	evaluate[any](p, `(() => { const g = document.querySelector('[aria-label="Rows"]'); g.scrollLeft = g.scrollWidth; return null })()`)
	p.sees("reading_599", "caught by")
	if n := evaluate[int](p, `Number([...document.querySelectorAll('[aria-label="Rows"] thead th')].at(-2).getAttribute("aria-colindex"))`); n != 601 {
		t.Errorf("the last column is counted %d", n)
	}
	p.presses("which columns")
	p.writes(`input[aria-label="Find a column"]`, "_41")
	p.presses("Only these 10")
	p.sees("10 of 600 columns")
}

// What cannot be written with its type is told before anything is saved, with a way on.
func TestRowsAreSavedForAnalysis(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "meters", metersBook, metersFile+"M-6,about 9,2024-03-01,\n")
	p.visit(fmt.Sprintf("/tables/%d?view=rows", table))
	p.sees("of 6 rows", "Save all 6 as they stand")
	p.writes(`select[aria-label="Save for analysis"]`, "parquet")
	p.sees(`1 cell of flow is no decimal, as "about 9"`)
	p.presses("Save such columns as text")
	exported := func() bool {
		entries, err := r.Steward.ListHistory(context.Background(), &client.ListHistoryParams{})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries.Items {
			if e.Action == "exported a table" {
				return true
			}
		}
		return false
	}
	for tries := 0; !exported(); tries++ {
		if tries > 50 {
			t.Fatal("nothing was saved")
		}
		time.Sleep(100 * time.Millisecond)
	}
}

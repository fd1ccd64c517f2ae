package console_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/client"
	"proudsieve/core/rulebook"
	"proudsieve/service/servicetest"
)

// reaches moves on by the tab key until what is focused is called so, by its text, its label or its own name.
func (p *person) reaches(called string) {
	p.t.Helper()
	const name = `((e) => e.getAttribute("aria-label") ?? (e.labels?.length ? [...e.labels].map((l) => l.innerText).join(" ") : e.matches("a, button, summary") ? e.innerText : ""))(document.activeElement)`
	for range 400 {
		if strings.Contains(evaluate[string](p, name), called) {
			return
		}
		p.do("moving on", chromedp.KeyEvent(kb.Tab))
	}
	p.t.Fatalf("the keyboard does not reach %q at %s", called, p.address())
}

// keys presses keys, or writes, where the keyboard is.
func (p *person) keys(text string) {
	p.t.Helper()
	p.do("pressing keys", chromedp.KeyEvent(text))
}

// A steward's morning: a file comes that nobody has seen before. It is looked at, read rightly, taken in, and judged by
// what could hold, all by the keyboard and without a line of YAML.
func TestAStewardsMorning(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	p := sitDown(t, r.URL)
	p.visit("/")
	p.do("signing in", chromedp.WaitVisible(chromedp.CSS("#token")), chromedp.SendKeys(chromedp.CSS("#token"), r.Steward.Token+kb.Enter))

	// Nothing is there yet, and the page says how to begin.
	p.sees("Nothing has arrived yet. From a file to a verdict it is three steps")
	p.reaches("Take in a file")
	p.keys(kb.Enter)
	p.sees("Drop a file anywhere")
	file := filepath.Join(t.TempDir(), "returns_2024.csv")
	if err := os.WriteFile(file, []byte(demoText(t, "data/returns.csv")), 0o600); err != nil {
		t.Fatal(err)
	}
	p.reaches("Choose a file")
	p.do("choosing the file", chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{file}))

	// It is read at once, and says why. A wrong reading shows in the rows, and is taken back.
	p.sees("windows-1252", "it divides", "L-0001", "The first rows, as they are read", "lines set aside")
	p.reaches("cells end with")
	p.keys(kb.ArrowUp) // from semicolon to comma
	p.sees("You said so.", "broken as bytes")
	p.reaches("Take that back")
	p.keys(kb.Enter)
	p.sees("it divides")
	p.awaits(`!document.body.innerText.includes("broken as bytes")`)
	// What cannot be meant is told where it is written.
	p.reaches("line with the names")
	p.keys("0")
	p.sees("A line counts from 1; or write none.")
	p.keys(kb.Backspace + "3")
	p.awaits(`!document.body.innerText.includes("A line counts from 1")`)

	// It gets a name, and is taken in.
	p.reaches("Name")
	if name := evaluate[string](p, "document.activeElement.value"); name != "returns" {
		t.Errorf("the name that is offered is %q", name)
	}
	p.reaches("What it is, in a few words")
	p.keys("Returns of water taken")
	p.reaches("Provider")
	p.keys("the office")
	p.reaches("Take it in")
	p.keys(kb.Enter)

	// What looks odd is told unasked, and the next step is named.
	p.sees("What looks odd", "there is no verdict")
	p.reaches("See what could hold")
	p.keys(kb.Enter)

	// What could hold, line by line: a thing is left, one is taken, and the mark is set.
	p.sees("or nearly holds, is ticked", "When a delivery is good enough")
	p.reaches("holder: required")
	p.keys(" ")
	p.sees("1 left out")
	p.reaches("The least score of a table that passes")
	p.keys("101")
	p.sees("A score is a number from 0 to 100.")
	for range 3 {
		p.keys(kb.Backspace)
	}
	p.keys("95")
	p.reaches("Save it, and judge the newest delivery")
	p.keys(kb.Enter)

	// It is judged: the findings are there, with their rows behind them.
	p.awaits(`location.search.includes("findings")`)
	p.sees("below the pass mark of 95", "rules are broken", "days <> 365")
	books, err := r.Steward.ListRulebooks(t.Context(), &client.ListRulebooksParams{Dataset: "returns"})
	if err != nil || len(books.Items) != 1 {
		t.Fatal(books, err)
	}
	book, err := rulebook.Parse([]byte(books.Items[0].Source))
	if err != nil {
		t.Fatal(err)
	}
	if book.PassMark != 95 || book.Column("holder").Required || !book.Column("licence").Required || book.Reading.Delimiter != ";" {
		t.Errorf("the rulebook is not what was chosen: mark %v, holder %+v", book.PassMark, book.Column("holder"))
	}
	tables, err := r.Steward.ListTables(t.Context(), "returns", nil)
	if err != nil || len(tables.Items) != 1 || !strings.Contains(string(tables.Items[0].Source), "the office") ||
		tables.Items[0].FileName != "returns_2024.csv" || tables.Items[0].Passed == nil {
		t.Errorf("the delivery: %+v, %v", tables, err)
	}
}

// What a person said of the reading of a delivery is told with it, apart from what was found out.
func TestWhatWasSaidOfTheReadingIsTold(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	a, err := r.Steward.Arrive(t.Context(), "gauges.csv", strings.NewReader("id;flow\nG1;n/a\nG2;2,5\nTotal;4,0\n"))
	if err != nil {
		t.Fatal(err)
	}
	said := &client.ReadingWish{Closing: &[]string{}, Missing: []string{"n/a", "none, so far"}}
	delivered, err := r.Steward.DeliverArrival(t.Context(), a.ID, client.BecomingBody{Dataset: "gauges", Reading: said})
	if err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit(fmt.Sprintf("/tables/%d?view=reading", delivered.Table.ID))
	p.signsIn(r.Reader.Token)
	p.sees(`Said when it was delivered, and not found out: closing none; missing n/a, "none, so far".`, "delimiter")
}

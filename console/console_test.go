package console_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/browser"
	"proudsieve/demo"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// person is somebody in front of the console.
type person struct {
	t   *testing.T
	tab context.Context
	url string
}

// Tests run side by side, each with a service and a browser of its own.
const patience = 40 * time.Second

func sitDown(t *testing.T, url string) *person {
	t.Helper()
	if _, err := os.Stat("dist/index.html"); err != nil {
		t.Fatal("the console is not built; run: make build")
	}
	tab, stop, err := browser.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	p := &person{t, tab, url}
	// The browser lives as long as the context of its first step, which so has no deadline.
	if err := chromedp.Do(tab, chromedp.EmulateViewport(browser.Width, browser.Height)); err != nil {
		t.Fatal(err)
	}
	return p
}

// do carries out steps; where one cannot be, the test ends with what the page says.
func (p *person) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		p.t.Fatalf("%s: %v; at %s the page says:\n%s", what, err, p.address(), p.page())
	}
}

func evaluate[T any](p *person, expression string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, patience)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	if err != nil {
		p.t.Fatalf("%s: %v", expression, err)
	}
	return v
}

func (p *person) page() string    { return evaluate[string](p, `document.body?.innerText ?? ""`) }
func (p *person) address() string { return evaluate[string](p, "location.pathname + location.search") }

func (p *person) visit(path string) {
	p.t.Helper()
	p.do("going to "+path, chromedp.Navigate(p.url+path))
}

// sees waits until the page says something.
func (p *person) sees(texts ...string) {
	p.t.Helper()
	for _, text := range texts {
		deadline := time.Now().Add(patience)
		for !strings.Contains(p.page(), text) {
			if time.Now().After(deadline) {
				p.t.Fatalf("%q is not on the page at %s, which says:\n%s", text, p.address(), p.page())
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
}

// awaits waits until an expression is true in the page.
func (p *person) awaits(expression string) {
	p.t.Helper()
	for deadline := time.Now().Add(patience); !evaluate[bool](p, expression); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			p.t.Fatalf("%s does not become true at %s", expression, p.address())
		}
	}
}

// presses clicks the link or button that says something. What arrives from the service meanwhile moves the page, so that
// a click can land beside it: then it is made again, as a person would.
func (p *person) presses(text string) {
	p.t.Helper()
	for deadline := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		evaluate[bool](p, fmt.Sprintf(watchForPress, text))
		p.do("pressing "+text,
			chromedp.Click(chromedp.Search(
				fmt.Sprintf(`//*[(self::a or self::button) and not(@disabled) and contains(normalize-space(.), %q)]`,
					text))))
		if !evaluate[bool](p, "window.beside ?? false") { // undefined where the press has led to another document
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("%q cannot be pressed at %s, which says:\n%s", text, p.address(), p.page())
		}
	}
}

// watchForPress has the page note whether the pointer went down beside the link or button that says something, or came up
// beside the one on which it had gone down.
const watchForPress = `(() => {
	const says = (e) => e instanceof Element ? e.closest("a, button") : null;
	let down = null;
	window.beside = true;
	document.addEventListener("pointerdown", (e) => {
		down = says(e.target);
		window.beside = !down?.textContent.replace(/\s+/g, " ").includes(%q);
	}, { capture: true, once: true });
	document.addEventListener("click", (e) => {
		if (down?.isConnected && e.target !== down && e.target.contains(down)) window.beside = true;
	}, { capture: true, once: true });
	return true;
})()`

// writes replaces the text of a field, or chooses what a list has, once it has it; the page's own code sees it as typing.
func (p *person) writes(selector, text string) {
	p.t.Helper()
	p.do("waiting for "+selector, chromedp.WaitVisible(chromedp.CSS(selector)))
	p.awaits(fmt.Sprintf(`((e) => !(e instanceof HTMLSelectElement) || [...e.options].some((o) => o.value === %[2]q))(document.querySelector(%[1]q))`, selector, text))
	evaluate[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector(%q);
		const proto = e instanceof HTMLTextAreaElement ? HTMLTextAreaElement : e instanceof HTMLSelectElement ? HTMLSelectElement : HTMLInputElement;
		Object.getOwnPropertyDescriptor(proto.prototype, "value").set.call(e, %q);
		e.dispatchEvent(new Event(e instanceof HTMLSelectElement ? "change" : "input", { bubbles: true })); return true; })()`, selector, text))
}

func (p *person) signsIn(token string) {
	p.t.Helper()
	p.do("signing in", chromedp.WaitVisible(chromedp.CSS("#token")))
	p.writes("#token", token)
	p.presses("Sign in")
}

func demoText(t *testing.T, name string) string {
	t.Helper()
	raw, err := demo.Files.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

func (p *person) delivers(dataset, file string) {
	p.t.Helper()
	path := filepath.Join(p.t.TempDir(), filepath.Base(file))
	if err := os.WriteFile(path, []byte(demoText(p.t, file)), 0o600); err != nil {
		p.t.Fatal(err)
	}
	p.visit("/new?dataset=" + dataset)
	p.sees("Choose a file")
	p.do("choosing the file", chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{path}))
	p.sees("The first rows, as they are read", "the next delivery of")
	p.presses("Take it in")
}

const smallMergeBook = `dataset: results_by_river
columns:
  - {name: sample_id}
  - {name: value, type: decimal}
  - {name: river, required: true, severity: major}
keys:
  - {id: one_result, columns: [sample_id]}
measures: [value]
pass_mark: 90
`

// TestTheWholePathInTheConsole goes from an empty service to a certificate with mouse and keyboard.
func TestTheWholePathInTheConsole(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	p := sitDown(t, r.URL)

	// Sign in.
	p.visit("/")
	p.signsIn("ps_guessed")
	p.sees("This token is not in force")
	p.signsIn(r.Steward.Token)
	p.sees("Begin here", "Nothing has arrived yet.", "Mara, steward")
	if cookie := evaluate[string](p, "document.cookie"); cookie != "" {
		t.Errorf("a script can read the cookie %q", cookie)
	}

	// Declare, with a mistake first.
	p.visit("/datasets")
	p.writes(`input[aria-label="Name of the dataset"]`, "Stations")
	p.sees("A name is of lower-case letters")
	p.writes(`input[aria-label="Name of the dataset"]`, "stations")
	p.presses("Add it, and declare what must hold")
	p.awaits(`location.pathname === "/datasets/stations/rulebook"`)
	p.presses("text")
	p.composes("Rulebook", "dataset: stations\ncolums: []\n")
	p.sees("line 2, column 1", `did you mean "columns"?`)
	p.presses("line 2, column 1")
	p.keys("# ")
	if text := p.composed("Rulebook"); text != "dataset: stations\n# colums: []\n" {
		t.Errorf("pressing the mistake's place goes elsewhere: %q", text)
	}
	p.composes("Rulebook", demoText(t, "rulebooks/stations.yaml"))
	p.presses("Save as the next version")
	p.sees("version 1 by Mara")
	p.visit("/datasets/stations")
	p.sees("Register of the sampling stations", "Nothing has arrived yet. Take in the first file")
	for name, book := range map[string]string{"highgarth_results": demoText(t, "rulebooks/highgarth_results.yaml"), "results_by_river": smallMergeBook} {
		p.visit("/datasets/" + name + "/rulebook")
		p.composes("Rulebook", book)
		p.presses("Save as the next version")
		p.sees("version 1 by Mara")
	}

	// Take delivery and look.
	p.delivers("stations", "data/stations.csv")
	p.sees("60 records: 60 rows and 0 lines set aside.", "91.67 fell short", "received", "certified")
	stations := p.address()
	p.delivers("stations", "data/stations.csv")
	p.sees("These bytes arrived before, as delivery 1 of stations; nothing was added.")
	p.delivers("highgarth_results", "data/highgarth_results.csv")
	p.sees("3,000 records", "92.00 fell short", "pass mark 95.00")
	delivery := p.address()
	p.presses("value")
	p.sees("What cost it", "25 of 3,000 rows have nothing in value.", "score 98.50", "first quartile", "By group")
	if !strings.Contains(p.address(), "column=value") {
		t.Errorf("the opened column is not in the address %s", p.address())
	}
	p.visit(delivery)
	p.sees("What looks odd", "What misses together")
	p.do("pressing a cell of the mesh by keyboard",
		chromedp.Focus(chromedp.CSS(`svg[aria-label^="station:"] [data-cell][tabindex="0"]`)),
		chromedp.KeyEvent(kb.Enter))
	p.sees("of 8 rows")
	for _, part := range []string{"view=rows", "column=station", "dimension=validity"} {
		if !strings.Contains(p.address(), part) {
			t.Errorf("%s is not in the address %s", part, p.address())
		}
	}
	p.visit(delivery + "?view=findings")
	p.sees("17 rules are broken", "21 of 3,000 rows are surplus", "AV-071")
	p.presses("21 of 3,000 rows are surplus")
	p.sees("of 21 rows", "one_result, equal_rows")
	p.writes(`select[aria-label="Only rows that break a rule"]`, "ph_plausible")
	p.sees("of 6 rows")
	p.visit(delivery + "?view=rows&after=2990")
	p.sees("TOTAL", "of 3,000 rows")

	// Issues.
	p.visit("/")
	p.sees("19 issues are open", "major")
	p.visit("/issues?dataset=highgarth_results")
	p.presses("15 of 3,000 rows break the rule received >= sampled.")
	p.sees("What happened", "audit 2 opened it")
	p.writes(`select[aria-label="Assigned to"]`, "Jonas")
	p.sees("Assigned to Jonas.")
	p.writes(`textarea[aria-label="Comment"]`, "Which of the two dates is right?")
	p.presses("Add to the record")
	p.sees("Which of the two dates is right?")
	p.presses("The owner was asked")
	p.sees("asked the owner of the data")
	p.writes(`textarea[aria-label="Reason"]`, "The clock was wrong.")
	p.writes("#until", time.Now().AddDate(1, 0, 0).Format(time.DateOnly))
	p.presses("Waive")
	p.sees("What is accepted of it", "15 rows of 3,000", "by Mara")

	// Put right: see before doing.
	for address, plan := range map[string]string{stations: "stations_clean", delivery: "highgarth_clean"} {
		p.visit(address + "/fix?as=text")
		p.composes("Steps of the fix plan", "fix_plan: x\n")
		p.presses("Show what it would do")
		p.sees(`a fix plan needs "dataset"`)
		p.composes("Steps of the fix plan", demoText(t, "fixes/"+plan+".yaml"))
		p.presses("Show what it would do")
		p.sees("Nothing has been done yet.", "Old and new, side by side")
		p.presses("Apply it")
		p.sees("The plan is applied")
	}
	p.presses("table ")
	p.sees("handed over", "arrived")
	p.visit("/datasets/highgarth_results")
	p.sees("cleaned table", "98.22 passed", "highgarth_clean version 1")

	// Put together.
	p.visit("/merges")
	p.fills("merge", "results_by_river")
	p.writes(`select[aria-label="stack: one more"]`, "highgarth_results")
	p.awaits(`document.querySelector('button[aria-label="Without highgarth_results"]') !== null`)
	p.writes(`select[aria-label="Add a join"]`, "stations")
	p.sees("Join with stations", "match names at least one column")
	p.presses("station on both sides")
	p.sees("station = station of stations")
	for _, column := range []string{"river", "region"} {
		p.writes(`select[aria-label="take: one more"]`, column)
		p.awaits(fmt.Sprintf(`document.querySelector('button[aria-label="Without %s"]') !== null`, column))
	}
	p.fills("title", "Results with their rivers")
	p.presses("Show what it would do")
	p.sees("Nothing has been done yet. The merged table would have 2,970 rows", "joined with stations", "307,577.339")
	p.presses("Save and run it")
	p.sees("joined with stations", "2,970", "307,577.339", "rows of stations that no row asked for", "column taken", "rows with a value")
	p.presses("To its certificate")
	p.sees("Mara applied the fixes, so somebody else has to certify the table.",
		"Certificates are signed by somebody with the role certifier.")
	merged := p.address()

	// Certify, as somebody else.
	p.presses("Sign out")
	p.signsIn(r.Certifier.Token)
	p.sees("Jonas, certifier", "Nothing stands in the way of a certificate.")
	p.presses("Certify the table")
	p.sees("Certificate 1 of results_by_river", "Jonas certified", "From what arrived to what is handed over",
		"highgarth_clean version 1, Mara", "The clock was wrong.")
	p.visit(merged)
	p.sees("The table has certificate 1.")
	p.visit(delivery)
	p.sees("The certificate is signed.")
	p.visit("/history")
	p.sees("certified", "took in a delivery", "waived an issue")
}

func TestWhatIsNotThereAndWhoMayNot(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	if _, err := r.Steward.Declare(context.Background(), "rulebooks",
		[]byte(demoText(t, "rulebooks/stations.yaml"))); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/nowhere")
	p.signsIn(r.Reader.Token)
	p.sees("There is no view at this address.")
	p.visit("/tables/99")
	p.sees("there is no table 99")
	p.visit("/datasets/none")
	p.sees(`there is no dataset "none"`)
	p.visit("/issues")
	p.sees("No issue is so.")
	p.visit("/merges")
	p.sees("not saved yet")
	p.visit("/certificates")
	p.sees("Nothing has been certified yet.")
	p.visit("/new")
	p.sees("You are a reader; this needs the right to work. Ask an administrator.")
}

func TestKeyboardThemeAndSize(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	p := sitDown(t, r.URL)
	p.visit("/")
	p.do("signing in by keyboard", chromedp.WaitVisible(chromedp.CSS("#token")),
		chromedp.SendKeys(chromedp.CSS("#token"), r.Steward.Token+kb.Enter))
	p.sees("Begin here")
	p.visit("/")
	p.sees("Begin here")
	seen := []string{}
	for range 6 {
		p.do("moving on", chromedp.KeyEvent(kb.Tab))
		seen = append(seen, evaluate[string](p, "document.activeElement.innerText.trim()"))
	}
	if got := strings.Join(seen, "|"); got != "To the view|Desk|Datasets|Issues|Questions|Merges" {
		t.Errorf("the keyboard meets %s", got)
	}
	if outline := evaluate[string](p, "getComputedStyle(document.activeElement).outlineStyle"); outline != "solid" {
		t.Errorf("what is focused is not shown: outline %s", outline)
	}
	before := evaluate[string](p, "getComputedStyle(document.body).backgroundColor")
	p.do("changing the theme", chromedp.Click(chromedp.CSS(`button[aria-label="Change between light and dark"]`)))
	after := evaluate[string](p, "getComputedStyle(document.body).backgroundColor")
	if before == after {
		t.Errorf("both themes have the ground %s", before)
	}
	p.visit("/")
	p.sees("Begin here")
	if kept := evaluate[string](p, "getComputedStyle(document.body).backgroundColor"); kept != after {
		t.Errorf("the theme is forgotten: %s, was %s", kept, after)
	}
	if wide := evaluate[int](p, "document.documentElement.scrollWidth"); wide > browser.Width {
		t.Errorf("at %d pixels the page is %d wide", browser.Width, wide)
	}
	// First view within the bar: scripts that were loaded for it, as they went over the wire or compressed.
	if kB := evaluate[float64](p,
		`performance.getEntriesByType("resource").filter((e) => e.name.endsWith(".js")).reduce((n, e) => n + e.encodedBodySize, 0) / 1000`); kB > 300 {
		t.Errorf("the first view loads %.0f kB of script", kB)
	}
}

// TestInsideALargerTable goes through the views of a table of 120,000 rows, to its last one.
func TestInsideALargerTable(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	var content strings.Builder
	content.WriteString("id,river,depth,flow\n")
	const rows = 120_000
	for i := range rows {
		depth := float64(i*7919%1000)/100 + 1
		flow := fmt.Sprintf("%.2f", depth*3+float64(i%7))
		switch {
		case i%50 == 0:
			flow = ""
		case i == 77_777:
			flow = "9999"
		}
		fmt.Fprintf(&content, "G-%06d,%s,%.2f,%s\n", i+1, []string{"Alder", "Bram", "Coll"}[i%3], depth, flow)
	}
	if _, err := servicetest.Post[map[string]any](context.Background(), r.Steward, "/datasets",
		map[string]string{"name": "gauges"}); err != nil {
		t.Fatal(err)
	}
	d, err := r.Steward.Deliver(context.Background(), "gauges", "gauges.csv",
		records.SourceNotes{Limits: "the old meters"}, strings.NewReader(content.String()))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(context.Background(), d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees("What needs you")
	table := fmt.Sprintf("/tables/%d", d.Table.ID)

	// The grid, to its last row, with mouse, keyboard and scroll bar.
	p.visit(table + "?view=rows")
	p.sees("G-000001", "of 120,000 rows")
	p.presses("Last row")
	p.sees("G-120000")
	p.do("going to the top by keyboard", chromedp.Focus(chromedp.CSS(`[aria-label="Rows"]`)),
		chromedp.KeyEvent(kb.Home))
	p.sees("G-000001")
	evaluate[any](p,
		`(() => { const g = document.querySelector('[aria-label="Rows"]'); g.scrollTop = g.scrollHeight / 2; return null })()`)
	p.sees("Rows 60,0")
	if drawn := evaluate[int](p, `document.querySelectorAll('[aria-label="Rows"] tbody tr').length`); drawn > 60 {
		t.Errorf("%d rows are drawn at once", drawn)
	}

	// Sort, only rows where something holds, find, hide, mark.
	p.visit(table + "?view=rows")
	p.sees("G-000001")
	p.do("sorting", chromedp.Click(chromedp.CSS(`button[title="Sort by flow"]`)))
	p.sees("Places 1 to")
	p.do("sorting the other way", chromedp.Click(chromedp.CSS(`button[title="Sort by flow"]`)))
	p.sees("G-077778", "▲", "9999")
	for _, part := range []string{"sort=flow", "falling=true"} {
		if !strings.Contains(p.address(), part) {
			t.Errorf("%s is not in the address %s", part, p.address())
		}
	}
	p.visit(table + "?view=rows&where=flow%20IS%20NULL")
	p.sees("of 2,400 rows", "□")
	p.visit(table + "?view=rows&where=flwo%20%3E%201")
	p.sees("The condition cannot be used", "flow")
	p.visit(table + "?view=rows&find=g-0777&hide=%5B%22river%22%5D")
	p.sees("of 100 rows", "1 hidden")
	if heads := evaluate[string](p,
		`[...document.querySelectorAll('[aria-label="Rows"] th')].map((h) => h.innerText).join(" ")`); strings.Contains(
		heads, "river") {
		t.Errorf("a hidden column is among %s", heads)
	}

	// A column, what columns have to do with one another, and how the file was read.
	p.visit(table + "?view=column&column=flow&across=river")
	p.sees("measure", "beyond the fences", "median", "Bram", "The gaps go with no other column")
	p.do("opening what lies beyond the fences", chromedp.Click(chromedp.Search(`//tr[td[contains(., "beyond the fences")]]//a`)))
	p.sees("of 1 row", "G-077778")
	p.visit(table + "?view=relations")
	p.sees("id names every row.", "+0.9")
	p.visit(table + "?view=tally&down=river&measures=%5B%22rows%22%2C%22mean+flow%22%5D")
	p.sees("gauges: rows, mean of flow by river", "Each number opens its rows.")
	p.do("opening a group", chromedp.Click(chromedp.Search(`//tr[td[contains(., "Bram")]]//a`)))
	p.sees("of 40,000 rows", "G-000002")
	p.visit(table + "?view=reading")
	p.sees("delimiter", "comma", "certain", "its cells are texts above numbers")
	p.visit(table + "?view=source")
	p.sees("the old meters", "not written down")
}

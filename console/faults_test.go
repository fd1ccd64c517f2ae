package console_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// seated is a service with a delivery of a dataset, and a steward in front of it.
func seated(t *testing.T, dataset, rulebook, content string) (*servicetest.Running, *person, int64) {
	t.Helper()
	r := servicetest.Start(t, nil)
	table := judgedBy(t, r, dataset, rulebook, content)
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees(dataset)
	return r, p, table
}

// judgedBy declares a dataset, takes in a delivery of it and waits for its audit.
func judgedBy(t *testing.T, r *servicetest.Running, dataset, rulebook, content string) (table int64) {
	t.Helper()
	if _, err := r.Steward.Declare(t.Context(), "rulebooks", []byte(rulebook)); err != nil {
		t.Fatal(err)
	}
	d, err := r.Steward.Deliver(t.Context(), dataset, dataset+".csv", records.SourceNotes{}, strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(t.Context(), d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	return d.Table.ID
}

const crewsBook = "dataset: crews\ncolumns: [{name: crew}, {name: river}]\n"

func TestAnyTableAndAnyAddressHasAPage(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "crews", crewsBook, "crew,river\nred,Alder\nblue,Alder\nred,Cray\n")
	page := fmt.Sprintf("/tables/%d", table)
	for _, view := range []string{"columns", "findings", "groups", "codes", "rows", "relations", "missing", "compare", "reading", "source", "none"} {
		p.visit(page + "?view=" + view)
		p.sees("crews.csv", "Datasets")
	}
	p.visit(page + "?view=relations")
	p.sees("Fewer than two columns hold numbers")
	for _, odd := range []string{"is=foo", "is=%5B1%5D", "where=%28", "sort=nothing", "hide=foo", "offset=-7", "after=x", "column=nothing", "rule=nothing", "dimension=x"} {
		p.visit(page + "?view=rows&" + odd)
		p.sees("crews.csv", "Datasets")
		if strings.Contains(p.page(), "could not be shown") {
			t.Errorf("%s: %s", odd, p.page())
		}
	}
	if title := evaluate[string](p, "document.title"); title != "crews / crews.csv · Proud Sieve" {
		t.Errorf("the window is called %q", title)
	}
}

// What was being written outlasts leaving the page and the end of the session.
func TestADraftOutlastsThePageAndTheSession(t *testing.T) {
	t.Parallel()
	r, p, _ := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	p.visit("/datasets/crews/rulebook")
	p.sees("version 1")
	p.composes("Rulebook", crewsBook+"pass_mark: 77\n")
	p.sees("changed here and not saved")
	p.presses("Datasets")
	p.sees("newest table")
	p.visit("/datasets/crews/rulebook")
	p.sees("Your draft of", "made from version 1", "changed here and not saved")
	if text := p.composed("Rulebook"); !strings.Contains(text, "pass_mark: 77") {
		t.Errorf("the draft is %q", text)
	}
	evaluate[bool](p, `(() => { const x = new XMLHttpRequest(); x.open("DELETE", "/api/v1/session", false); x.send(); return true; })()`)
	p.presses("Save as the next version")
	p.sees("Sign in again", "The session of Mara has ended.")
	p.signsIn("ps_guessed")
	p.sees("This token is not in force")
	p.signsIn(r.Steward.Token)
	p.awaits(`!document.querySelector("[role=dialog]") && getComputedStyle(document.body).pointerEvents !== "none"`)
	p.presses("Save as the next version")
	p.gives("another mark")
	p.sees("version 2 by Mara")
	p.awaits(`!/Your draft of|Sign in again/.test(document.body.innerText)`)
}

func TestLongListsAreShownToTheirEnd(t *testing.T) {
	t.Parallel()
	r, p, _ := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	for n := range 205 {
		if _, err := r.Steward.Ease(t.Context(), fmt.Appendf(nil, "%spass_mark: %d.5\n", crewsBook, n%90), n+1, "another mark"); err != nil {
			t.Fatal(err)
		}
	}
	p.visit("/datasets/crews/rulebook?view=versions")
	p.awaits(`document.querySelectorAll("main tbody tr").length >= 206`)
	p.visit("/history")
	p.sees("The first 200 are shown.")
	p.presses("Show more")
	p.sees("took in a delivery")
	if strings.Contains(p.page(), "are shown.") {
		t.Error("there is no end of the history")
	}
}

// A picture that is saved stands alone: in colours of its own, under its title.
func TestASavedPictureStandsAlone(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("n\n")
	for i := range 40 {
		fmt.Fprintf(&b, "%d\n", 10+i%10)
	}
	b.WriteString("90\n")
	_, p, table := seated(t, "flows", "dataset: flows\ncolumns: [{name: n, type: integer}]\n", b.String())
	p.visit(fmt.Sprintf("/tables/%d?view=column&column=n", table))
	p.sees("Save SVG", "numbers of n in bins")
	evaluate[bool](p, `(HTMLAnchorElement.prototype.click = function () { window.saved = [this.download, this.href]; }, true)`)
	p.presses("Save SVG")
	saved := evaluate[[]string](p, "window.saved")
	if len(saved) != 2 || saved[0] != "n.svg" {
		t.Fatalf("saved: %q", saved)
	}
	_, escaped, _ := strings.Cut(saved[1], ",")
	picture, err := url.PathUnescape(escaped)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(picture, "var(") || !strings.Contains(picture, "numbers of n in bins") || !strings.Contains(picture, "stroke=\"rgb(") ||
		strings.Count(picture, "<circle") != 1 {
		t.Errorf("the picture: %s", picture[:min(len(picture), 3000)])
	}
	// Of 40 numbers of 10 to 19 and a 90 the quartiles are 12 and 17, the fences 4.5 and 24.5: whiskers end at 10 and 19.
	if !strings.Contains(picture, "whiskers to 10 and 19") {
		t.Error("the whiskers do not end at 10 and 19")
	}
}

// Whoever may not do a thing is told so by its button, and not by a refusal.
func TestEachPersonSeesWhatTheyMayDo(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	p.presses("Sign out")
	p.signsIn(r.Reader.Token)
	p.sees("Ines, reader")
	for path, button := range map[string]string{"/datasets/crews/rulebook": "Save as the next version",
		fmt.Sprintf("/tables/%d?view=source", table): "Audit it again by the newest rulebook"} {
		p.visit(path)
		p.sees(button)
		found := evaluate[[]string](p, fmt.Sprintf(`[...document.querySelectorAll("button")].filter((b) => b.innerText === %q).map((b) => b.disabled + " " + b.title)`, button))
		if len(found) != 1 || found[0] != "true You are a reader; this needs the right to work. Ask an administrator." {
			t.Errorf("%s: %q", button, found)
		}
	}
}

func TestARulebookThatIsNewerThanTheAuditIsTold(t *testing.T) {
	t.Parallel()
	r, p, table := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	page := fmt.Sprintf("/tables/%d", table)
	p.visit(page)
	p.sees("crews.csv", "Judged by rulebook version 1")
	if strings.Contains(p.page(), "is in force now") {
		t.Error("the newest rulebook is called an old one")
	}
	if _, err := r.Steward.Ease(t.Context(), []byte(crewsBook+"pass_mark: 50\n"), 1, "another mark"); err != nil {
		t.Fatal(err)
	}
	p.visit(page)
	p.sees("This was judged by version 1 of the rulebook; version 2 is in force now.")
	p.presses("Audit it again by the newest rulebook")
	p.sees("Judged by rulebook version 2")
}

func TestRowsAreCountedAndPinnedColumnsStandSideBySide(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "crews", crewsBook, "crew,river\nred,Alder\nblue,Cray\n")
	p.visit(fmt.Sprintf("/tables/%d?view=rows&pin=%s", table, url.QueryEscape(`["river","crew"]`)))
	p.sees("Cray", "of 2 rows")
	rows := evaluate[string](p, `document.querySelector("table").getAttribute("aria-rowcount") + ": " + [...document.querySelectorAll("tr")].map((r) => r.getAttribute("aria-rowindex")).join(" ")`)
	if rows != "3: 1 2 3" {
		t.Errorf("the rows are counted %q", rows)
	}
	// Each stands where the one before it ends, however wide that is.
	if apart := evaluate[float64](p, `(() => { const [row, river, crew] = [...document.querySelectorAll("thead th")].map((c) => c.getBoundingClientRect()); return Math.abs(river.left - row.right) + Math.abs(crew.left - river.right); })()`); apart > 1 {
		t.Errorf("pinned columns are %v pixels apart", apart)
	}
	open := `document.querySelector('[role="dialog"][aria-label="Columns"]') !== null`
	p.presses("which columns")
	p.awaits(open)
	p.do("closing them by keyboard", chromedp.KeyEvent(kb.Escape))
	p.awaits("!(" + open + ")")
	p.awaits(`document.activeElement.innerText === "which columns"`)
}

// Two tabs that change one declaration are told of one another.
func TestTwoTabsOnOneDeclarationAreToldOfOneAnother(t *testing.T) {
	t.Parallel()
	_, p, _ := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	p.visit("/datasets/crews/rulebook")
	p.sees("It is a good rulebook.")
	tab, cancel := chromedp.NewContext(p.tab)
	defer cancel()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	other := &person{t, tab, p.url}
	other.visit("/datasets/crews/rulebook")
	other.sees("It is a good rulebook.")
	other.composes("Rulebook", crewsBook+"pass_mark: 66\n")
	other.sees("changed here and not saved")
	p.sees("Another tab changes this text too.")
}

// A new page begins at its beginning, for who goes by keyboard too, and nothing moves by itself for who asked for that.
func TestFocusFollowsThePageAndNothingMoves(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "crews", crewsBook, "crew,river\nred,Alder\n")
	p.visit("/datasets")
	p.sees("newest table")
	p.presses("Issues")
	p.awaits(`location.pathname === "/issues" && document.activeElement.id === "view"`)
	p.visit(fmt.Sprintf("/tables/%d", table))
	p.sees("crews.csv")
	moving := evaluate[[]string](p, `[...document.querySelectorAll("*")].filter((e) => { const s = getComputedStyle(e); return parseFloat(s.transitionDuration) > 0 || parseFloat(s.animationDuration) > 0; }).slice(0, 3).map((e) => e.outerHTML.slice(0, 100))`)
	if len(moving) > 0 {
		t.Errorf("these move although less motion is asked for: %v", moving)
	}
}

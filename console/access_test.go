package console_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"proudsieve/browser"
	"proudsieve/demo"
	"proudsieve/service/servicetest"
)

// surveyed is a service with the demo's datasets, judged, and one of them put right, and a steward in front of it.
func surveyed(t *testing.T) (*servicetest.Running, *person) {
	t.Helper()
	r := servicetest.Start(t, nil)
	for _, one := range demo.Deliveries {
		judgedBy(t, r, one.Dataset, demoText(t, "rulebooks/"+one.Dataset+".yaml"), demoText(t, "data/"+one.File))
	}
	if _, err := r.Steward.Arrive(t.Context(), "returns.csv", strings.NewReader(demoText(t, "data/returns.csv"))); err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees("Open issues, the gravest first")
	return r, p
}

// everyPage are the addresses of all kinds of pages, with what is seen once they are whole.
var everyPage = []struct{ path, sees string }{
	{"/", "Open issues, the gravest first"},
	{"/datasets", "stations"},
	{"/datasets/highgarth_results", "Fetch deliveries from a web address or a database"},
	{"/datasets/highgarth_results/proposal", "is ticked"},
	{"/databases", "No database is declared"},
	{"/let-in", "A code that somebody sent you is not yours."},
	{"/new", "Drop a file anywhere"},
	{"/new?arrival=1", "The first rows, as they are read"},
	{"/datasets/highgarth_results/rulebook", "version 1"},
	{"/datasets/highgarth_results/rulebook?view=forms&section=columns&item=value", "The unit of its numbers"},
	{"/datasets/highgarth_results/rulebook?view=versions", "version"},
	{"/tables/3", "What looks odd"},
	{"/tables/3?view=findings", "21 of 3,000 rows are surplus"},
	{"/tables/3?view=groups", "one key, different cells"},
	{"/tables/3?view=codes&column=parameter", "Conductivity"},
	{"/tables/3?view=rows", "of 3,000 rows"},
	{"/tables/2?view=relations", "Correlations of the columns of numbers"},
	{"/tables/2?view=relations&column=flow&across=water_temperature", "rows have a number in both"},
	{"/tables/3?view=missing", "Between columns"},
	{"/tables/3?view=compare", "has no other table that is judged"},
	{"/tables/3?view=tally&down=station&across=parameter&picture=heat", "drawn as"},
	{"/tables/3?view=column&column=value", "numbers of value in bins"},
	{"/tables/3?view=reading", "utf-8"},
	{"/tables/3?view=source", "SHA-256"},
	{"/tables/3/fix", "Show what it would do"},
	{"/issues", "highgarth_results"},
	{"/issues/1", "What happened"},
	{"/questions", "Nobody was asked anything yet."},
	{"/datasets/highgarth_results/decided", "decided"},
	{"/merges", "not saved yet"},
	{"/certificates", "Nothing has been certified yet."},
	{"/history", "took in a delivery"},
	{"/notices", "Keep these choices"},
	{"/people", "Your tokens"},
	{"/nowhere", "There is no view at this address."},
}

// Every page is held against the rules of axe-core, in both themes; and none is wider than its window: what is wide scrolls in a
// frame of its own.
func TestEveryPageCanBeUsedByEverybodyInAnyWindow(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	_, p := surveyed(t)
	for _, page := range everyPage {
		p.visit(page.path)
		p.sees(page.sees)
		evaluate[bool](p, string(axe)+"; true")
		p.sound(page.path, `{resultTypes: ["violations"]}`)
		ground := evaluate[string](p, "getComputedStyle(document.body).backgroundColor")
		p.do("changing the theme", chromedp.Click(chromedp.CSS(`button[aria-label="Change between light and dark"]`)))
		p.awaits(fmt.Sprintf("getComputedStyle(document.body).backgroundColor !== %q", ground))
		p.sound(page.path+" in the other theme", `{runOnly: ["color-contrast"]}`)
		for _, width := range []int64{390, 768, 1600, browser.Width} {
			p.do("taking another window", chromedp.EmulateViewport(width, browser.Height))
			p.fits(page.path, width)
		}
	}
}

// sound runs axe-core, which the page has loaded, and complains of what it finds.
func (p *person) sound(where, options string) {
	p.t.Helper()
	evaluate[bool](p, `(window.broken = undefined, axe.run(document, `+options+`).then((r) => {
		window.broken = r.violations.map((v) => v.id + " (" + v.nodes.length + "): " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")); }), true)`)
	p.awaits("window.broken !== undefined")
	for _, broken := range evaluate[[]string](p, "window.broken") {
		p.t.Errorf("%s: %s", where, broken)
	}
}

// fits complains of a page that is wider than its window after what is drawn in it had a second to follow.
func (p *person) fits(where string, width int64) {
	p.t.Helper()
	var wide int64
	for range 20 {
		if wide = evaluate[int64](p, "document.documentElement.scrollWidth"); wide <= width && evaluate[int64](p, "innerWidth") == width {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Errorf("at %d pixels %s is %d wide: %s", width, where, wide, evaluate[string](p, `[...document.querySelectorAll("main *, header *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("[role=group], .scrolls")).slice(0, 3).map((e) => e.outerHTML.slice(0, 140)).join(" | ")`))
}

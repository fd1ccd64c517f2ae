package console_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

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
	{"/datasets/highgarth_results", "Fetch deliveries from a web address"},
	{"/datasets/highgarth_results/proposal", "is ticked"},
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
	{"/merges", "not saved yet"},
	{"/certificates", "Nothing has been certified yet."},
	{"/history", "took in a delivery"},
	{"/people", "Your tokens"},
	{"/nowhere", "There is no view at this address."},
}

// Every page is held against the rules of axe-core, in both themes.
func TestEveryPageCanBeUsedByEverybody(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	_, p := surveyed(t)
	for _, theme := range []string{"light", "dark"} {
		evaluate[bool](p, fmt.Sprintf(`(localStorage.setItem("theme", %q), true)`, theme))
		for _, page := range everyPage {
			p.visit(page.path)
			p.sees(page.sees)
			evaluate[bool](p, string(axe)+"; true")
			evaluate[bool](p, `(window.broken = undefined, axe.run(document, {resultTypes: ["violations"]}).then((r) => {
				window.broken = r.violations.map((v) => v.id + " (" + v.nodes.length + "): " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")); }), true)`)
			p.awaits("window.broken !== undefined")
			for _, broken := range evaluate[[]string](p, "window.broken") {
				t.Errorf("%s in %s: %s", page.path, theme, broken)
			}
		}
	}
}

// No page is wider than its window; what is wide scrolls in a frame of its own.
func TestPagesFitTheirWindow(t *testing.T) {
	t.Parallel()
	_, p := surveyed(t)
	for _, width := range []int64{390, 768, 1280, 1600} {
		p.do("taking another window", chromedp.EmulateViewport(width, 800))
		for _, page := range everyPage {
			p.visit(page.path)
			p.sees(page.sees)
			if wide := evaluate[int64](p, "document.documentElement.scrollWidth"); wide > width {
				t.Errorf("at %d pixels %s is %d wide: %s", width, page.path, wide, evaluate[string](p, `[...document.querySelectorAll("main *, header *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("[role=group], .scrolls")).slice(0, 3).map((e) => e.outerHTML.slice(0, 140)).join(" | ")`))
			}
		}
	}
}

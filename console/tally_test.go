package console_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// Rows by group, chosen without a word of the condition language: by month, in steps, against each other, as shares; each
// number opens its rows, and the address keeps it all.
func TestTallyInTheConsole(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("id,river,flow,day\n")
	for i := range 400 {
		flow := fmt.Sprintf("%d.5", i%40)
		if i%50 == 0 {
			flow = ""
		}
		fmt.Fprintf(&b, "G%03d,%s,%s,%s\n", i, []string{"Alder", "Bram"}[i%2], flow, time.Date(2024, 1, 1+i, 0, 0, 0, 0, time.UTC).Format(time.DateOnly))
	}
	_, p, table := seated(t, "levels", "dataset: levels\ncolumns: [{name: id}, {name: river}, {name: flow, type: decimal}, {name: day, type: date}]\n", b.String())
	p.visit(fmt.Sprintf("/tables/%d?view=tally", table))
	p.sees("levels: rows by river", "400 rows in all.")
	p.writes(`select[aria-label="rows by"]`, "day")
	p.sees("levels: rows by month of day", "2024-01", "2025-02")
	if lines := evaluate[int](p, `document.querySelectorAll("svg path.visx-linepath").length`); lines != 1 {
		t.Errorf("%d lines are drawn of months", lines)
	}
	// January has 31 rows, and its point stands as high in the picture as 31 of the greatest tick.
	if title := evaluate[string](p, `document.querySelector("svg circle title").textContent`); title != "2024-01: 31" {
		t.Errorf("the first point says %s", title)
	}
	p.writes(`select[aria-label="as shares"]`, "before")
	p.sees("% more than the period before", "-6.45")
	p.writes(`select[aria-label="as shares"]`, "")
	p.writes(`select[aria-label="rows by, by period"]`, "weekday")
	p.sees("Monday", "Sunday")
	p.writes(`select[aria-label="rows by"]`, "flow")
	p.sees("in steps of", "missing")
	p.writes(`select[aria-label="and by"]`, "river")
	p.sees("and river", "Alder", "Bram")
	p.writes(`select[aria-label="as shares"]`, "row")
	p.sees("% of the row")
	p.writes(`select[aria-label="and by"]`, "")
	p.writes(`select[aria-label="rows by"]`, "river")
	p.writes(`select[aria-label="measure 1"]`, "sum")
	p.sees("levels: sum of flow by river")
	// Alder has every second of 0.5 to 38.5, ten times, but twice each of 0.5, 10.5, 20.5 and 30.5, which are missing.
	p.sees("3,776", "4,100")
	p.do("putting them into order", chromedp.Click(chromedp.Search(`//th//button[contains(., "sum of flow")]`)))
	p.awaits(`location.search.includes("sort=sum") && document.querySelector('[aria-label="Groups"] tbody td').innerText === "Bram"`)
	address := p.address()
	p.visit(address)
	p.sees("levels: sum of flow by river")
	p.do("opening a group", chromedp.Click(chromedp.Search(`//tr[td[contains(., "Alder")]]//a`)))
	p.sees("of 200 rows")
	p.visit(fmt.Sprintf("/tables/%d?view=tally&where=flow+%%3E", table))
	p.sees("The condition cannot be used")
}

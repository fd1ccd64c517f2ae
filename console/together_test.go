package console_test

import (
	"fmt"
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/demo"
	"proudsieve/service/servicetest"
)

// cleaned declares a fix plan, applies it to a delivery and waits for the audit of what it makes.
func cleaned(t *testing.T, r *servicetest.Running, delivery int64, plan, name string) int64 {
	t.Helper()
	if _, err := r.Steward.Declare(t.Context(), "fix-plans", []byte(plan)); err != nil {
		t.Fatal(err)
	}
	job, err := r.Steward.ApplyFix(t.Context(), delivery, client.PlannedBody{FixPlan: name})
	if err == nil {
		job, err = r.Steward.Follow(t.Context(), job.ID, nil)
	}
	if err == nil {
		_, err = r.Steward.AuditOf(t.Context(), *job.ResultTable, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	return *job.ResultTable
}

// The third source of the demo is put together with the register of stations by forms: hours become days, and the names of stations
// are levelled. It is followed back to its hours, and held against the sums of the water office, by taking what is proposed. A
// laboratory's revised delivery is compared row by row. Nobody writes YAML.
func TestTheThirdSourceIsPutTogetherWithoutYAML(t *testing.T) {
	t.Parallel()
	planted, err := demo.Together()
	if err != nil {
		t.Fatal(err)
	}
	r := servicetest.Start(t, nil)
	deliver := func(dataset, file string) int64 {
		return judgedBy(t, r, dataset, demoText(t, "rulebooks/"+dataset+".yaml"), demoText(t, "data/"+file))
	}
	stations, rivers, sums := deliver("stations", "stations.csv"), deliver("river_gauges", "river_gauges.csv"), deliver("monthly_flows", "monthly_flows.csv")
	cleaned(t, r, stations, demoText(t, "fixes/stations_clean.yaml"), "stations_clean")
	cleaned(t, r, rivers, demoText(t, "fixes/river_gauges_clean.yaml"), "river_gauges_clean")
	p := sitDown(t, r.URL)
	p.visit("/merges")
	p.signsIn(r.Steward.Token)
	p.fills("merge", "river_days")
	p.writes(`select[aria-label="stack: one more"]`, "river_gauges")
	p.awaits(`document.querySelector('button[aria-label="Without river_gauges"]') !== null`)
	p.do("opening more of the stack", chromedp.Click(chromedp.CSS(`details summary`)))
	p.writes(`input[aria-label="grain: a name more"]`, "river_gauges")
	p.writes(`input[aria-label="grain: what it stands for"]`, "station, day of read_at: mean of level, sum of flow")
	p.do("adding the grain", chromedp.Click(chromedp.CSS(`button[aria-label="grain: add it"]`)))
	p.sees("sum of flow")
	p.writes(`select[aria-label="Add a join"]`, "stations")
	p.sees("Join with stations")
	p.writes(`input[aria-label="match: a column of the rows so far"]`, "station")
	p.writes(`input[aria-label="match: what it equals of stations"]`, "station")
	p.do("adding the pair", chromedp.Click(chromedp.CSS(`button[aria-label="match: add it"]`)))
	p.sees("station = station of stations")
	p.writes(`select[aria-label="take: one more"]`, "river")
	p.awaits(`document.querySelector('button[aria-label="Without river"]') !== null`)
	p.sees("182 of 273 rows meet a row of stations")
	p.presses("Show what it would do")
	p.sees("and would meet it if upper and lower case are levelled too", "91 rows would meet if upper and lower case are levelled too")
	p.presses("Match so")
	p.sees("LOWER(TRIM(station)) = LOWER(TRIM(station)) of stations", "273 of 273 rows meet a row of stations")
	p.sees("Nothing has been done yet. The merged table would have 273 rows", "6,552 rows of river_gauges became 273", "Its first rows, and what each is made of", "row 1 of river_gauges")
	p.presses("Save and run it")
	p.sees("made of 6,552 rows by station, day of read_at", "30,417,379")
	p.do("keeping it up", chromedp.Click(chromedp.CSS(`input[type="checkbox"]`)))
	p.awaits(`document.querySelector('input[type="checkbox"]').checked`)
	// Every width opens its rows.
	p.presses("273 met")
	p.sees("found a partner in stations", "of 273 rows")
	p.presses("lineage")
	p.sees("river_gauges_clean version 1", "stations_clean version 1", "As W3C PROV")
	p.writes(`input[aria-label="Row"]`, "100")
	p.sees("stacked: row 100 of river_gauges", "It is counted among what its rows became before the merge", "joined with row 12 of stations", "It came with row 12")

	p.visit(fmt.Sprintf("/tables/%d?view=totals", rivers))
	p.writes(`select[aria-label="The dataset that it is held against"]`, "monthly_flows")
	p.awaits(fmt.Sprintf(`document.querySelector('select[aria-label="The table that it is held against"] option[value="%d"]') !== null`, sums))
	p.writes(`select[aria-label="The table that it is held against"]`, fmt.Sprint(sums))
	p.sees("The whole sum is 6,552 here and 12 there")
	p.fills("totals of, here", "flow")
	p.fills("by, here", `station, "DATE_TRUNC('month', read_at)"`)
	p.fills("by, there", "station, month_end")
	p.sees("9 are only here and 12 only in table")
	p.presses("Ask so")
	p.sees("5 totals agree, 1 differ")
	p.presses("Ask so")
	p.sees("8 totals agree, 1 differ")
	p.presses("Ask so")
	p.sees("8 totals agree, 1 differ, 0 are only here and 0 only in table")
	apart, err := strconv.ParseInt(planted.Apart.By, 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	p.sees(document.Grouped(apart))

	first := deliver("highgarth_results", "highgarth_results.csv")
	second := judgedBy(t, r, "highgarth_results", demoText(t, "rulebooks/highgarth_results.yaml"), demoText(t, "data/"+demo.Revised.File))
	p.visit(fmt.Sprintf("/tables/%d?view=compare&with=%d", second, first))
	p.sees("Row by row", fmt.Sprintf("%d changed", planted.Corrected), fmt.Sprintf("%d came", planted.Added), fmt.Sprintf("%d went", planted.TakenBack), "corrected")
	p.presses(fmt.Sprintf("%d came", planted.Added))
	p.sees("HG-09001")
}

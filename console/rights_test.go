package console_test

import (
	"strings"
	"testing"

	"proudsieve/service/servicetest"
)

// An administrator confines somebody to one dataset, who then sees that one alone.
func TestSomebodyIsConfinedToTheirDataset(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	judgedBy(t, r, "meters", metersBook, metersFile)
	judgedBy(t, r, "crews", crewsBook, "crew,river\nred,Alder\nblue,Cray\n")
	p := sitDown(t, r.URL)
	p.visit("/people")
	p.signsIn(r.Admin.Token)
	p.sees("Mara", "all datasets")
	p.clicks(`button[aria-label="Datasets: Mara"]`)
	p.writes(`select[aria-label="What Mara sees"]`, "some")
	p.sees("Without any, Mara sees no dataset at all.")
	p.writes(`select[aria-label="One dataset more"]`, "meters")
	p.writes(`select[aria-label="What Mara may do with meters"]`, "work")
	p.presses("Keep it so")
	p.sees("What Mara may see is as you said.", "some datasets")
	p.presses("Sign out")
	p.signsIn(r.Steward.Token)
	p.visit("/")
	p.sees("Open issues, the gravest first", "meters")
	p.visit("/datasets")
	p.sees("meters")
	if strings.Contains(p.page(), "crews") || strings.Contains(p.page(), "Merges") {
		t.Errorf("more is seen than may be:\n%s", p.page())
	}
	p.visit("/datasets/crews")
	p.sees("There is nothing at this address that you may see.")
	p.visit("/tables/1")
	p.sees("What misses together")
	p.visit("/tables/2")
	p.sees("There is nothing at this address that you may see.")
}

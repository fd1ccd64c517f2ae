package console_test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"proudsieve/service/records"
)

// By when deliveries are expected is said without YAML; what does not come stands on the desk, and what came is followed.
func TestWhatIsExpectedAndWhatCameIsTold(t *testing.T) {
	t.Parallel()
	r, p, _ := seated(t, "meters", metersBook, metersFile)
	p.visit("/datasets/meters")
	p.sees("Nobody said by when a delivery is expected", "A line needs two tables that were audited; there is one.", "provider")
	p.presses("Expect deliveries")
	p.writes(`select[aria-label="How often"]`, "day")
	p.writes(`input[aria-label="By which day of it"]`, "1")
	p.writes(`input[aria-label="Since"]`, time.Now().UTC().AddDate(0, 0, -3).Format(time.DateOnly))
	p.presses("Save")
	p.sees("One is expected every day by its day 1", "1 came late, 2 did not come", "3 days late", "2 days late, and not there")
	p.visit("/")
	p.sees("Expected, and not there", "meters was expected by", "and is 2 days late; 1 later delivery is missing too.")
	again, err := r.Steward.Deliver(t.Context(), "meters", "again.csv", records.SourceNotes{Provider: "Highgarth laboratory"}, strings.NewReader("meter,flow,read_on,remark\nM-1,99,2024-01-02,\nM-2,98,2024-01-02,\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(t.Context(), again.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	p.visit("/datasets/meters")
	p.sees("Highgarth laboratory", "flow.range")
	p.do("opening the last delivery", chromedp.Click(chromedp.CSS(`svg[aria-label="flow.range over time"] [role=button]:last-of-type`)))
	p.sees("of 2 rows", "again.csv")
}

// Whoever takes a dataset over reads what was decided of it, in order.
func TestWhatWasDecidedIsReadInOrder(t *testing.T) {
	t.Parallel()
	_, p, _ := seated(t, "meters", metersBook, metersFile)
	p.visit("/datasets/meters")
	p.presses("what was decided")
	p.sees("What was decided of meters", "meters, version 1", "rulebook", "To the dataset")
}

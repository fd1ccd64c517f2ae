package demo_test

import (
	"context"
	"fmt"
	"math/big"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/intake"
	"proudsieve/demo"
)

// levels plays the plan of the gauge sheets, and audits what it makes.
func levels(t *testing.T, plan string) (*fixtest.Played, *audit.Result) {
	t.Helper()
	b, result := book(t, "gauge_sheets"), book(t, demo.Levels)
	p, err := fix.ParseFor([]byte(plan), b, result)
	if err != nil {
		t.Fatal(err)
	}
	got, err := fixtest.PlayInput(t, fix.Input{Source: openWith(t, read(t, "data/gauge_sheets.csv"), b.Reading), Book: b, Result: result}, p, 2)
	if err != nil {
		t.Fatal(err)
	}
	made := openWith(t, []byte(got.Table), intake.Standard())
	made.Estimated = got.Marks
	judged, err := audit.Run(context.Background(), made, result.ForTable(got.Ledger.Reading), 2)
	if err != nil {
		t.Fatal(err)
	}
	return got, judged
}

// The gauge sheets need a wide table turned, conflicting sheets settled by cell, a column derived and gaps estimated.
func TestGaugeSheetsBecomeLevels(t *testing.T) {
	plan := string(read(t, "fixes/gauge_sheets_clean.yaml"))
	got, judged := levels(t, plan)
	if got.Refused != nil {
		t.Fatal(got.Refused)
	}
	planted, err := demo.PlantedDefects()
	if err != nil {
		t.Fatal(err)
	}
	gaps := int64(0)
	for _, p := range planted {
		if p.Dataset == "gauge_sheets" && strings.HasPrefix(p.Defect, "gauge not read") {
			gaps += int64(p.Count)
		}
	}
	// Two of the stations on two sheets lack days: the one lacks none, the other four on one sheet and three on the other,
	// one of which was read after all.
	if want := gaps - 4; got.Ledger.RowsOut != 24*30 || got.Marks.Count() != want || got.Ledger.Steps[len(got.Ledger.Steps)-1].Estimated.Open != 0 {
		t.Errorf("%d rows and %d estimates, want %d and %d", got.Ledger.RowsOut, got.Marks.Count(), 24*30, want)
	}
	if !judged.HasPassed() || len(judged.Findings) != 1 || judged.Findings[0].Rows != got.Marks.Count() {
		t.Errorf("score %v, %+v", judged.Score, judged.Findings)
	}
	// By hand, of the station whose two sheets are of one day: the first sheet on the 23rd, the second on the 24th.
	sheet := strings.Split(strings.Split(string(read(t, "data/gauge_sheets.csv")), "\n")[20], ";")
	for _, line := range []string{levelOf(t, sheet, 22, sheet[4+22]), levelOf(t, sheet, 23, "92,1")} {
		if !strings.Contains(got.Table, line+"\n") {
			t.Errorf("there is no %s", line)
		}
	}
	unfilled, estimate, _ := strings.Cut(plan, "  - do: estimate\n")
	if got, _ := levels(t, unfilled); estimate == "" || got.Marks.Count() != 0 {
		t.Error("without estimates there are marks")
	}
	before, rest, _ := strings.Cut(unfilled, "  - do: derive\n")
	_, after, _ := strings.Cut(rest, "  - do: ")
	if _, judged := levels(t, before+"  - do: "+after); judged.HasPassed() {
		t.Error("without the derived column the levels pass")
	}
	undecided := strings.Replace(plan, "    choices:\n", "    #\n", 1)
	for strings.Contains(undecided, "      - {key:") {
		before, rest, _ := strings.Cut(undecided, "      - {key:")
		_, after, _ := strings.Cut(rest, "\n")
		undecided = before + after
	}
	if got, _ := levels(t, undecided); got.Refused == nil || got.Ledger.Steps[1].Open != 2 {
		t.Errorf("nobody decided, and it is not refused: %v", got.Refused)
	}
}

// levelOf is the row of a station and day of June, worked out of the sheet and a reading in cm.
func levelOf(t *testing.T, sheet []string, day int, reading string) string {
	t.Helper()
	number := func(text string) *big.Rat {
		n, ok := new(big.Rat).SetString(strings.Replace(text, ",", ".", 1))
		if !ok {
			t.Fatalf("%q is no number", text)
		}
		return n
	}
	level := number(reading)
	level.Quo(level, big.NewRat(100, 1)).Add(level, number(sheet[3]))
	return fmt.Sprintf("%s,2024-06-%02d,%s", sheet[0], day+1, level.FloatString(3))
}

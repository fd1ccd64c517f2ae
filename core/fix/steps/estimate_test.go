package steps_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/fix/steps"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const gauges = `dataset: gauges
reading: {missing: [n/a]}
columns:
  - {name: gauge, type: code, codes: gauges}
  - {name: day, type: date}
  - {name: rain, type: decimal}
  - {name: flow, type: decimal}
code_lists:
  gauges: [{code: A, spellings: [upper]}, B]
measures: [flow]
pass_mark: 0
`

const gaugeHead = "gauge,day,rain,flow\n"

func TestEstimatesOfGroupsByHand(t *testing.T) {
	rows := "A,2024-01-01,1,10\nA,2024-01-03,1,\nupper,2024-01-05,1,16.5\nB,2024-01-01,1,n/a\nA,2024-01-04,1,few\nA,2024-01-09,1,\nA,2024-01-05,1,17.5\n"
	tryOn(t, gauges, gaugeHead, gaugeHead,
		trial{"the mean of 10, 16.5 and 17.5, whatever the spelling of the code", "do: estimate, column: flow, method: group_mean, group: [gauge]", rows,
			"A,2024-01-01,1,10\nA,2024-01-03,1,14.7\nupper,2024-01-05,1,16.5\nB,2024-01-01,1,n/a\nA,2024-01-04,1,few\nA,2024-01-09,1,14.7\nA,2024-01-05,1,17.5\n",
			"2 0 : 1 gap stays one, since there is nothing to estimate it by. 1 cell has a text that is no value of its type; it was neither filled nor drawn from."},
		trial{"the median", "do: estimate, column: flow, method: group_median, group: [gauge], decimals: 0", rows,
			"A,2024-01-01,1,10\nA,2024-01-03,1,17\nupper,2024-01-05,1,16.5\nB,2024-01-01,1,n/a\nA,2024-01-04,1,few\nA,2024-01-09,1,17\nA,2024-01-05,1,17.5\n",
			"2 0 : 1 gap stays one, since there is nothing to estimate it by. 1 cell has a text that is no value of its type; it was neither filled nor drawn from."},
		trial{"half way to the mean of the two values of one day; nothing beyond the last", "do: estimate, column: flow, method: in_time, group: [gauge], order: [day], decimals: 2", rows,
			"A,2024-01-01,1,10\nA,2024-01-03,1,13.50\nupper,2024-01-05,1,16.5\nB,2024-01-01,1,n/a\nA,2024-01-04,1,few\nA,2024-01-09,1,\nA,2024-01-05,1,17.5\n",
			"1 0 : 2 gaps stay ones, since there is nothing to estimate them by. 1 cell has a text that is no value of its type; it was neither filled nor drawn from."},
		trial{"only rows that are meant give and take", "do: estimate, column: flow, method: group_mean, where: flow > 12 OR day = DATE '2024-01-03'", rows,
			"A,2024-01-01,1,10\nA,2024-01-03,1,17.0\nupper,2024-01-05,1,16.5\nB,2024-01-01,1,n/a\nA,2024-01-04,1,few\nA,2024-01-09,1,\nA,2024-01-05,1,17.5\n",
			"1 0 "},
		trial{"a code is taken from the row that is most like it", "do: estimate, column: gauge, method: nearest_rows, alike_in: [rain, flow], neighbours: 1",
			"A,,1,10\nB,,9,90\nn/a,,8,80\n", "A,,1,10\nB,,9,90\nB,,8,80\n", "1 0 "},
	)
}

func TestEstimatesThatCannotBeMade(t *testing.T) {
	b := testkit.Book(t, gauges)
	for step, want := range map[string]string{
		"column: flow, method: near_predictions":                                        `needs "alike_in"`,
		"column: flow, method: in_time, group: [gauge]":                                 `needs in "order" the one column`,
		"column: flow, method: in_time, order: [gauge]":                                 "a time is a date, a datetime or a number",
		"column: flow, method: group_mean, draws: 5":                                    `"draws" goes with method: near_predictions`,
		"column: flow, method: near_predictions, alike_in: [flow]":                      "cannot be estimated by its own values",
		"column: gauge, method: group_mean":                                             "method: group_mean is for numbers",
		"column: flow, method: nearest_rows, alike_in: [rain], draws: 51":               "draws is a whole number from 1 to 50",
		"column: flow, method: nearest_rows, alike_in: [rain], group: [gauge]":          `name its columns in "alike_in"`,
		"column: flow, method: group_mean}\n  - {do: derive, into: x, expression: flow": "could hand on estimates as if they had been observed",
	} {
		_, err := fix.Parse([]byte("fix_plan: p\ndataset: gauges\nsteps:\n  - {reason: r, do: estimate, "+strings.Replace(step, "{do: derive", "{reason: r, do: derive", 1)+"}\n"), b)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", step, err, want)
		}
	}
	got := played(t, gauges, gaugeHead+"A,,1,2\nA,,1,\n", "do: estimate, column: flow, method: near_predictions, alike_in: [rain]")
	if got.Refused == nil || !strings.Contains(got.Refused.Error(), "too few rows have a value: 1, and 5 are needed") {
		t.Errorf("a single donor: %v", got.Refused)
	}
}

// wet is a table of which every fifth flow is missing, and follows from the rain but for a little.
func wet(rows int) string {
	var b strings.Builder
	b.WriteString(gaugeHead)
	for i := range rows {
		flow := fmt.Sprint(3*(i%40) + i%7)
		if i%5 == 2 {
			flow = ""
		}
		fmt.Fprintf(&b, "%s,2024-01-%02d,%d,%s\n", []string{"A", "B"}[i%2], 1+i%28, i%40, flow)
	}
	return b.String()
}

const drawing = "do: estimate, column: flow, method: near_predictions, alike_in: [rain, gauge], draws: 4, seed: 9"

func TestDrawsStandBesideTheTable(t *testing.T) {
	content := wet(3000)
	b := testkit.Book(t, gauges)
	plan := fixtest.Plan(t, b, "  - {"+drawing+", reason: The logger was out.}\n"+
		"  - {do: set_aside, where: rain < 3, reason: r}\n  - {do: rename_columns, names: {flow: runoff}, reason: r}\n  - {do: move_columns, columns: [gauge], reason: r}\n")
	one, err := fixtest.Play(t, content, b, plan, 1)
	if err != nil || one.Refused != nil {
		t.Fatal(err, one.Refused)
	}
	eight, err := fixtest.Play(t, content, b, plan, 8)
	if err != nil || !reflect.DeepEqual(one, eight) {
		t.Errorf("eight workers make something else: %v", err)
	}
	set := one.Marks.In("runoff")
	how := one.Marks.All[0]
	how.Rows = nil
	if want := (table.Mark{Column: "runoff", Method: "near_predictions", Reason: "The logger was out.", Seed: 9, Draws: 4}); len(one.Marks.All) != 1 || how != want {
		t.Errorf("the marks say %+v", how)
	}
	// Of 600 gaps those at a rain of 2 leave, one in forty rows; three more draws are there of each that stays.
	if set.GetCardinality() != 600-3000/40 || len(one.Draws) != 3*int(set.GetCardinality()) || one.Ledger.Estimates["runoff"] != int64(set.GetCardinality()) {
		t.Fatalf("%d marks, %d draws, ledger %v", set.GetCardinality(), len(one.Draws), one.Ledger.Estimates)
	}
	lines := strings.Split(one.Table, "\n")
	unlike := 0
	for i, d := range one.Draws {
		if d.Column != "runoff" || d.Draw != int32(i%3)+2 || !set.Contains(uint32(d.Row)) {
			t.Fatalf("draw %d: %+v", i, d)
		}
		cells := strings.Split(lines[d.Row], ",") // day, rain, runoff, gauge
		if cells[2] != d.Value {
			unlike++
		}
		// Whatever is drawn was observed somewhere, near what the rain foretells.
		var rain, value float64
		fmt.Sscan(cells[1], &rain)
		fmt.Sscan(d.Value, &value)
		if value != float64(int(value)) || value < 3*rain-12 || value > 3*rain+18 {
			t.Fatalf("rain of %v, and %v was drawn", rain, value)
		}
	}
	if unlike < len(one.Draws)/2 {
		t.Errorf("%d of %d draws differ from the table's", unlike, len(one.Draws))
	}
	e := one.Ledger.Steps[0].Estimated
	if e.Observed != 2400 || e.Donors != 2400 || e.Filled != 600 || e.Open != 0 || *e.MeanFrom >= *e.MeanThen || *e.MeanTo <= *e.MeanThen || len(e.Warnings) > 0 {
		t.Errorf("the ledger says %+v", e)
	}
	other, err := fixtest.Play(t, content, b, fixtest.Plan(t, b, "  - {"+strings.Replace(drawing, "seed: 9", "seed: 10", 1)+", reason: r}\n"), 2)
	if err != nil || other.Table == one.Table || reflect.DeepEqual(other.Draws, one.Draws) {
		t.Errorf("another seed draws the same: %v", err)
	}
}

// marked is a table that arrives with marks.
type marked struct {
	table.Source
	marks *table.Marks
}

func (m marked) Marks() *table.Marks { return m.marks }

func TestEstimatesAreNotDrawnFrom(t *testing.T) {
	b := testkit.Book(t, gauges)
	rows := table.NewRowSet()
	rows.Add(2)
	in := fix.Input{Book: b, Source: marked{testkit.File(t, gaugeHead+"A,,1,10\nA,,1,1000\nB,,1,20\nB,,1,\nA,,,40\n", b.Reading),
		&table.Marks{All: []table.Mark{{Column: "flow", Method: "group_mean", Reason: "r", Draws: 1, Rows: rows}}}}}
	plan := fixtest.Plan(t, b, "  - {do: set_aside, where: flow = 10, reason: r}\n  - {do: estimate, column: flow, method: group_mean, group: [gauge], where: gauge = 'B', reason: r}\n"+
		"  - {do: estimate, column: flow, method: group_median, reason: r}\n")
	var out, marks strings.Builder
	ledger, err := fix.Run(t.Context(), in, plan, 1, fix.Outputs{Table: &out, Marks: &marks})
	if err != nil {
		t.Fatal(err)
	}
	// What arrived as an estimate is neither drawn from nor lost; what the first step estimated is not drawn from by the second.
	if want := gaugeHead + "A,,1,1000\nB,,1,20\nB,,1,20\nA,,,40\n"; out.String() != want {
		t.Errorf("got %s", out.String())
	}
	if e := ledger.Steps[2].Estimated; e.Observed != 2 {
		t.Errorf("the second estimate goes by %d values, and 2 were observed", e.Observed)
	}
	if want := `"rows":[[1,1]]}` + "\n"; !strings.Contains(marks.String(), want) || !strings.Contains(marks.String(), `"rows":[[3,3]]}`) {
		t.Errorf("the marks are %s", marks.String())
	}
	derive := fixtest.Plan(t, b, "  - {do: derive, into: twice, expression: 2 * flow, reason: r}\n")
	if _, err := fix.Run(t.Context(), in, derive, 1, fix.Outputs{}); err == nil || !strings.Contains(err.Error(), "goes over a table with estimates") && !strings.Contains(err.Error(), "nor go over a table with estimates") {
		t.Errorf("estimates are handed on unmarked: %v", err)
	}
}

// What waits for a value after it may be more than fits in memory.
func TestManyGapsOnEnd(t *testing.T) {
	usual := steps.GapsHeld
	defer func() { steps.GapsHeld = usual }()
	play := func() string {
		var b strings.Builder
		b.WriteString(gaugeHead + "A,2024-01-01,0,0\n")
		for i := range 1000 {
			fmt.Fprintf(&b, "A,%04d-01-01,%d,\n", 2025+i, i+1)
		}
		b.WriteString("A,3025-01-01,1001,1001.00\n")
		got := played(t, gauges, b.String(), "do: estimate, column: flow, method: in_time, order: [rain]")
		return got.Table
	}
	whole := play()
	steps.GapsHeld = 100
	if spilled := play(); spilled != whole || !strings.Contains(whole, "A,2500-01-01,476,476.00\n") {
		t.Error("what waited on disk is not what waited in memory")
	}
}

func TestMethodsAreComparedAsTheStepFindsTheTable(t *testing.T) {
	b := testkit.Book(t, gauges)
	plan := fixtest.Plan(t, b, "  - {do: set_aside, where: gauge = 'B', reason: r}\n"+
		"  - {do: estimate, column: flow, method: group_mean, group: [gauge], reason: r, off: true}\n"+
		"  - {do: estimate, column: flow, method: near_predictions, alike_in: [rain, gauge, day], seed: 4, reason: r}\n")
	compare := func(workers int) *estimate.Comparison {
		c, err := fix.Compare(t.Context(), fix.Input{Source: testkit.File(t, wet(6000), b.Reading), Book: b}, plan, 3, workers)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	c := compare(1)
	if !reflect.DeepEqual(c, compare(8)) {
		t.Error("eight workers compare otherwise")
	}
	// Of 3,000 rows of A every fifth is missing; the flow is 3 times the rain and 0 to 6.
	if c.Observed != 2400 || c.Gaps != 600 || c.GapsSeen != 600 {
		t.Errorf("%d observed, %d gaps", c.Observed, c.Gaps)
	}
	byName := map[string]estimate.Weighed{}
	for _, w := range c.Ways {
		byName[w.Method] = w
		if w.Trouble != "" || w.Hidden != 240 || w.Open > 0.01 {
			t.Errorf("%s: %+v", w.Method, w)
		}
	}
	near, mean := byName["near_predictions"], byName["group_mean"]
	if len(byName) != 5 || *near.Error > 4 || *mean.Error < 25 || *mean.Spread > 0.97 || *near.Spread < 0.99 || *near.From >= *near.Mean || near.To == nil || mean.From != nil {
		t.Errorf("near predictions %+v\ngroup mean %+v", near, mean)
	}
	if len(near.Draws) != 20 || len(mean.Draws) != 1 || near.Draws[3].Lowest > near.Draws[3].Median {
		t.Errorf("%d and %d draws", len(near.Draws), len(mean.Draws))
	}
	// The sum by hand: that of what is there, and each gap's rain by three, and 3 for what is random.
	sum := 0.0
	for i := 0; i < 6000; i += 2 {
		if i%5 == 2 {
			sum += float64(3*(i%40) + 3)
		} else {
			sum += float64(3*(i%40) + i%7)
		}
	}
	if off := *near.Sum/sum - 1; off > 0.01 || off < -0.01 {
		t.Errorf("the sum is %v, and should be about %v", *near.Sum, sum)
	}
	if _, err := fix.Compare(t.Context(), fix.Input{Source: testkit.File(t, wet(50), b.Reading), Book: b}, plan, 1, 1); err == nil {
		t.Error("a step that estimates nothing is compared")
	}
	codes := fixtest.Plan(t, b, "  - {do: estimate, column: gauge, method: nearest_rows, alike_in: [rain, flow], reason: r}\n")
	coded, err := fix.Compare(t.Context(), fix.Input{Source: testkit.File(t, wet(500)+"n/a,,3,9\n", b.Reading), Book: b}, codes, 1, 2)
	if err != nil || len(coded.Ways) != 1 || coded.Ways[0].Right == nil || coded.Gaps != 1 || coded.Mean != nil {
		t.Errorf("codes: %+v %v", coded, err)
	}
	if _, err := json.Marshal([]any{c, coded}); err != nil {
		t.Error(err)
	}
}

package tally_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/tally"
	"proudsieve/core/testkit"
)

const book = `dataset: visits
columns:
  - {name: river}
  - {name: flow, type: decimal}
  - {name: day, type: date}
`

func of(t *testing.T, content string, asked tally.Question) (*tally.Tally, error) {
	t.Helper()
	return tally.Of(context.Background(), &relation.Table{Source: testkit.File(t, content, intake.Reading{}), Book: testkit.Book(t, book), Workers: 2}, asked)
}

func groups(g tally.GroupedBy) string {
	var out []string
	for _, one := range g.Groups {
		text := one.Text
		if one.Missing {
			text = "none"
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

const few = `river,flow,day
Alder,1.5,2024-01-05
Bram,2,2024-01-20
Alder,2.5,2024-02-01
Cray,,2024-02-02
Alder,dry,
Bram,4,2024-03-09
`

func TestRowsAreToldOfByGroup(t *testing.T) {
	got, err := of(t, few, tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "rows"}, {Kind: "sum", Of: "flow"}, {Kind: "mean", Of: "flow"},
		{Kind: "median", Of: "flow"}, {Kind: "filled", Of: "flow"}}})
	if err != nil {
		t.Fatal(err)
	}
	if groups(got.By[0]) != "Alder Bram Cray" || got.By[0].Kind != "text" {
		t.Errorf("groups %+v", got.By[0])
	}
	for i, want := range []string{"3|4|2|2|2", "2|6|3|3|2", "1||||0"} {
		if text := strings.Join(got.Downs[i].Values, "|"); text != want {
			t.Errorf("%s: %s, want %s", got.By[0].Groups[i].Text, text, want)
		}
	}
	if text := strings.Join(got.All.Values, "|"); text != "6|10|2.5|2.25|4" || got.All.Rows != 6 {
		t.Errorf("all: %s", text)
	}
}

func TestPeriodsAreInTheirOrderAndMissingOnesLast(t *testing.T) {
	got, err := of(t, few, tally.Question{By: []string{"DATE_TRUNC('month', day)", "flow >= 2"}})
	if err != nil {
		t.Fatal(err)
	}
	if groups(got.By[0]) != "2024-01-01 2024-02-01 2024-03-01 none" || groups(got.By[1]) != "false true none" {
		t.Errorf("%s; %s", groups(got.By[0]), groups(got.By[1]))
	}
	if got.Cells[0][0].Rows != 1 || got.Cells[0][1].Rows != 1 || got.Cells[3][2].Rows != 1 || got.Across[1].Rows != 3 || got.Measures[0].Kind != tally.MeasureRows {
		t.Errorf("%+v", got.Cells)
	}
}

func TestTheFirstGroupsAndTheRest(t *testing.T) {
	asked := tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "sum", Of: "flow"}, {Kind: "distinct", Of: "river"}}, Top: 1,
		Order: tally.Order{By: "sum flow", Falling: true}}
	got, err := of(t, few, asked)
	if err != nil {
		t.Fatal(err)
	}
	if groups(got.By[0]) != "Bram" || got.By[0].Rest != 2 || len(got.Downs) != 2 || got.Downs[1].Rows != 4 || got.Downs[1].Values[0] != "4" ||
		got.Downs[1].Values[1] != "2" {
		t.Errorf("%+v, %+v", got.By[0], got.Downs)
	}
	asked.Order = tally.Order{By: "group", Falling: true}
	if got, err = of(t, few, asked); err != nil || groups(got.By[0]) != "Cray" {
		t.Errorf("%+v, %v", got, err)
	}
}

// What is a day or a text is put into order as such.
func TestGroupsAreOrderedByAMeasureOfAnyType(t *testing.T) {
	for order, want := range map[string]string{"lowest day": "Cray Bram Alder", "highest river": "Cray Bram Alder", "distinct day": "Alder Bram Cray", "mean flow": "Bram Alder Cray"} {
		got, err := of(t, few, tally.Question{By: []string{"river"}, Measures: []tally.Measure{tally.MeasureOf(order)}, Order: tally.Order{By: order, Falling: true}})
		if err != nil || groups(got.By[0]) != want {
			t.Errorf("by %s: %+v (%v), want %s", order, got, err, want)
		}
	}
}

// A period without a row is told of, and a change is against the period before, never against the one before that.
func TestPeriodsWithoutRowsAndChanges(t *testing.T) {
	content := "river,flow,day\nAlder,2,2023-11-03\nAlder,3,2023-12-30\nAlder,6,2024-02-01\nBram,3,2024-02-10\nBram,,2024-03-01\n"
	got, err := of(t, content, tally.Question{By: []string{"DATE_TRUNC('month', day)"}, Measures: []tally.Measure{{Kind: "rows"},
		{Kind: "sum", Of: "flow", Share: "before"}, {Kind: "rows", Share: "before"}}})
	if err != nil {
		t.Fatal(err)
	}
	if groups(got.By[0]) != "2023-11-01 2023-12-01 2024-01-01 2024-02-01 2024-03-01" {
		t.Errorf("periods %s", groups(got.By[0]))
	}
	for i, want := range []string{"1||", "1|50|0", "0||-100", "2||", "1||-50"} {
		if text := strings.Join(got.Downs[i].Values, "|"); text != want {
			t.Errorf("%s: %s, want %s", got.By[0].Groups[i].Text, text, want)
		}
	}
	if got.All.Values[1] != "" {
		t.Errorf("all: %v", got.All.Values)
	}
	for unit, want := range map[string]int{"day": 120, "week": 18, "quarter": 2, "year": 2} {
		got, err := of(t, content, tally.Question{By: []string{"DATE_TRUNC('" + unit + "', day)"}, Top: 1000})
		if err != nil || len(got.By[0].Groups) != want {
			t.Errorf("%s: %d periods, want %d (%v)", unit, len(got.By[0].Groups), want, err)
		}
	}
	if _, err := of(t, content, tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "rows", Share: "before"}}}); err == nil ||
		!strings.Contains(err.Error(), "group by periods first") {
		t.Error(err)
	}
}

// Numbers are one group however they are written, also with more places than a machine word holds.
func TestEqualNumbersAreOneGroup(t *testing.T) {
	got, err := of(t, "river,flow,day\nA,1,\nA,1.0000000000000000000000,\nA,1.50,\nA,1.500000000000000000000000000,\nA,100000000000000000000.0,\nA,100000000000000000000,\n",
		tally.Question{By: []string{"flow"}, Measures: []tally.Measure{{Kind: "rows"}, {Kind: "distinct", Of: "flow"}}})
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Downs) != 3 || got.All.Values[1] != "3" {
		t.Errorf("%+v", got)
	}
	for i, told := range got.Downs {
		if told.Values[0] != "2" || told.Values[1] != "1" {
			t.Errorf("group %s: %v", got.By[0].Groups[i].Text, told.Values)
		}
	}
}

// What is missing is never gathered with other groups.
func TestWhatIsMissingStandsOnItsOwn(t *testing.T) {
	got, err := of(t, few, tally.Question{By: []string{"flow"}, Top: 2})
	if err != nil {
		t.Fatal(err)
	}
	if groups(got.By[0]) != "1.5 2 none" || got.By[0].Rest != 2 || len(got.Downs) != 4 || got.Downs[2].Rows != 2 || got.Downs[3].Rows != 2 {
		t.Errorf("%+v, %+v", got.By[0], got.Downs)
	}
}

func TestSharesOfARowAColumnAndAll(t *testing.T) {
	share := func(of string) tally.Measure { return tally.Measure{Kind: "rows", Share: of} }
	got, err := of(t, few, tally.Question{By: []string{"river", "flow >= 2"}, Measures: []tally.Measure{share("all"), share("row"), share("column"), {Kind: "sum", Of: "flow", Share: "all"}}})
	if err != nil {
		t.Fatal(err)
	}
	// Alder: one row below 2, one from 2 on, one without a number
	if text := strings.Join(got.Cells[0][0].Values, " "); text != "16.6667 33.3333 100 15" {
		t.Errorf("a cell: %s", text)
	}
	if text := strings.Join(got.Downs[1].Values, " "); text != "33.3333 100 33.3333 60" {
		t.Errorf("a row: %s", text)
	}
	if text := strings.Join(got.Across[2].Values, " "); text != "33.3333 33.3333 100 " {
		t.Errorf("a column: %q", text)
	}
	if _, err := of(t, few, tally.Question{Measures: []tally.Measure{{Kind: "mean", Of: "flow", Share: "all"}}}); err == nil || !strings.Contains(err.Error(), "no share of a whole") {
		t.Error(err)
	}
}

func TestOnlySomeRowsCount(t *testing.T) {
	rows := table.NewRowSet()
	rows.AddMany([]uint32{2, 6})
	got, err := of(t, few, tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "sum", Of: "flow"}}, Rows: rows})
	if err != nil || groups(got.By[0]) != "Bram" || got.All.Values[0] != "6" {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestWhatCannotBeAskedIsSaid(t *testing.T) {
	for want, asked := range map[string]tally.Question{
		`no column "rivr"; did you mean "river"?`: {By: []string{"rivr"}},
		"two expressions at most":                 {By: []string{"river", "flow", "day"}},
		`"total" is no measure`:                   {Measures: []tally.Measure{{Kind: "total", Of: "flow"}}},
		"sum is of numbers, and river is a text":  {Measures: []tally.Measure{{Kind: "sum", Of: "river"}}},
		`not by "flow"`:                           {By: []string{"river"}, Order: tally.Order{By: "flow"}},
		"no value in any row":                     {By: []string{"NULL"}},
	} {
		if _, err := of(t, few, asked); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %s", asked, err, want)
		}
	}
}

// A table of a million different numbers is told of within its memory: quantiles and how many there are become estimates,
// and say so; sums stay exact. What comes of it does not depend on the workers.
func TestTooManyValuesAreEstimatedAndSaidToBe(t *testing.T) {
	var b strings.Builder
	b.WriteString("river,flow,day\n")
	const rows = 1_200_000
	for i := range rows {
		fmt.Fprintf(&b, "%s,%d.5,\n", []string{"Alder", "Bram"}[i%2], i)
	}
	asked := tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "median", Of: "flow"}, {Kind: "distinct", Of: "flow"}, {Kind: "sum", Of: "flow"}}}
	var before string
	for _, workers := range []int{1, 4} {
		got, err := tally.Of(context.Background(), &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}), Book: testkit.Book(t, book), Workers: workers}, asked)
		if err != nil {
			t.Fatal(err)
		}
		all := got.All
		median, _ := strconv.ParseFloat(all.Values[0], 64)
		distinct, _ := strconv.ParseFloat(all.Values[1], 64)
		if all.Estimated == nil || !all.Estimated[0] || !all.Estimated[1] || all.Estimated[2] || math.Abs(median-rows/2) > rows/2*0.001 ||
			math.Abs(distinct-rows) > rows*0.08 || all.Values[2] != "720000000000" {
			t.Errorf("%+v", all)
		}
		raw, err := json.Marshal(got)
		if err != nil || before != "" && before != string(raw) {
			t.Errorf("%d workers give\n%s\nand one\n%s", workers, raw, before)
		}
		before = string(raw)
	}
}

// Groups of few values are told of exactly, however many there are, since to estimate them would take more memory than
// they do; what all of them have together is estimated. Where there are too many even so, that is said.
func TestManyGroupsOfFewValues(t *testing.T) {
	const rows = 2_200_000
	var b strings.Builder
	b.WriteString("river,flow,day\n")
	var short string
	for i := range rows {
		if i == 300_000 {
			short = b.String()
		}
		fmt.Fprintf(&b, "R%d,%d,\n", i%10_000, i)
	}
	asked := tally.Question{By: []string{"river"}, Measures: []tally.Measure{{Kind: "median", Of: "flow"}, {Kind: "distinct", Of: "flow"}}, Top: 2, Order: tally.Order{By: "group"}}
	got, err := of(t, short, asked)
	if err != nil {
		t.Fatal(err)
	}
	// R0 has 0, 10000, ... 290000, R1 one more each
	for i, want := range []string{"145000 30", "145001 30"} {
		if told := got.Downs[i]; strings.Join(told.Values, " ") != want || told.Estimated != nil {
			t.Errorf("%s: %+v, want %s", got.By[0].Groups[i].Text, told, want)
		}
	}
	if median, _ := strconv.ParseFloat(got.All.Values[0], 64); !got.All.Estimated[0] || math.Abs(median-150_000) > 150 {
		t.Errorf("all: %+v", got.All)
	}
	if _, err = of(t, b.String(), asked); !errors.Is(err, tally.ErrTooManyValues) {
		t.Errorf("220 values in each of 10,000 groups: %v", err)
	}
	asked.Measures = []tally.Measure{{Kind: "mean", Of: "flow"}}
	if got, err = of(t, b.String(), asked); err != nil || got.All.Values[0] != "1099999.5" {
		t.Errorf("a mean needs no values: %+v, %v", got, err)
	}
}

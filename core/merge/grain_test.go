package merge_test

import (
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

const levels = "station,read_at,level,rain\nA,2024-01-01 00:00,1,0.5\nA,2024-01-01 13:00,2,0.25\nA,2024-01-02 01:00,5,0\nB,2024-01-01 05:00,7,1\nB,,9,1\n"

func hourly(t *testing.T) merge.Inputs {
	in := func(dataset, content, columns string) merge.Input {
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, intake.Standard()), Book: testkit.Book(t, "dataset: "+dataset+"\ncolumns: ["+columns+"]\nmeasures: ["+map[string]string{"gauges": "level, rain"}[dataset]+"]\n")}
	}
	return merge.Inputs{in("gauges", levels, "{name: station}, {name: read_at, type: datetime}, {name: level, type: integer}, {name: rain, type: decimal}"),
		in("samples", "sample,station,day\n1,A,2024-01-01\n2,A,2024-01-02\n3,B,2024-01-01\n4,B,2024-01-02\n", "{name: sample}, {name: station}, {name: day, type: date}")}
}

// A table of hours is joined with one of days once its rows are made days; of whole numbers the mean is none.
func TestTheGrainOfAJoinedTableIsChanged(t *testing.T) {
	text, a, err := stack(t, `merge: m
stack: [samples]
grain: {gauges: "station, day of read_at: mean of level, sum of rain"}
join:
  - {with: gauges, match: {station: station, day: CAST(read_at AS DATE)}, take: [level, rain, rows_gathered], unmatched: keep}
`, hourly(t), 2)
	if err != nil {
		t.Fatal(err)
	}
	if want := "sample,station,day,level,rain,rows_gathered\n1,A,2024-01-01,1.5,0.75,2\n2,A,2024-01-02,5,0,1\n3,B,2024-01-01,7,1,1\n4,B,2024-01-02,,,\n"; text != want {
		t.Errorf("%q, want %q", text, want)
	}
	j := a.Joins[0]
	if j.JoinedRows != 4 || j.Grain.RowsBefore != 5 || !strings.Contains(j.Grain.Note, "1 row has no date in the column of the period") {
		t.Errorf("%+v %+v", j, j.Grain)
	}
	if err := a.Holds(4, []merge.Brought{{Dataset: "samples", Rows: 4}, {Dataset: "gauges", Rows: 5}}); err != nil {
		t.Error(err)
	}
	if err := a.Holds(4, []merge.Brought{{Dataset: "samples", Rows: 4}, {Dataset: "gauges", Rows: 4}}); err == nil {
		t.Error("the rows after the change are taken for those of the table")
	}
}

func TestTheGrainOfAStackedTableIsChanged(t *testing.T) {
	_, a, err := stack(t, "merge: m\nstack: [gauges]\ncolumns: {gauges.rain: fallen}\ngrain: {gauges: \"station: sum of rain, largest of level\"}\n", hourly(t)[:1], 1)
	if err != nil {
		t.Fatal(err)
	}
	if a.Rows != 2 || !reflect.DeepEqual(a.Sums, merge.Sums{"fallen": "2.75"}) || a.Inputs[0].Grain.RowsBefore != 5 || a.Inputs[0].Grain.SumsBefore["fallen"] != "2.75" {
		t.Errorf("%+v", a)
	}
}

func TestGrains(t *testing.T) {
	g, err := merge.ParseGrain(`"a, b", month of day : mean of "x: y", count of z`)
	want := merge.Grain{Says: g.Says, Group: []string{"a, b"}, Period: "month", Time: "day", Gather: []merge.Gathered{{Column: "x: y", How: "mean"}, {Column: "z", How: "count"}}}
	if err != nil || !reflect.DeepEqual(g, want) {
		t.Errorf("%+v, %v", g, err)
	}
	for _, wrong := range []string{"", "station", "station:", ": mean of x", "station: x", "station: median of x", `"station: mean of x`, "a b: mean of x,, y"} {
		if _, err := merge.ParseGrain(wrong); err == nil || !strings.Contains(err.Error(), "a grain is written as") {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	_, err = merge.Parse([]byte("merge: m\nstack: [a]\ngrain: {b: \"x: mean of y\"}\n"))
	if err == nil || !strings.Contains(err.Error(), "line 3, column 9: b does not take part in the merge") {
		t.Error(err)
	}
}

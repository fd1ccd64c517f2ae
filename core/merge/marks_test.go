package merge_test

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"proudsieve/core/merge"
	"proudsieve/core/table"
)

// marked is a table with marks of estimates.
type marked struct {
	table.Source
	marks *table.Marks
}

func (m marked) Marks() *table.Marks { return m.marks }

// marking marks rows of a column of an input.
func marking(in map[string]merge.Input, dataset, column string, rows ...uint32) {
	set := table.NewRowSet()
	set.AddMany(rows)
	one := in[dataset]
	one.Source = marked{one.Source, &table.Marks{All: []table.Mark{{Column: column, Method: "group_mean", Reason: "r", Draws: 1, Rows: set}}}}
	in[dataset] = one
}

// An estimate stays one: in the rows that are stacked, and in every row that a joined cell is taken into.
func TestEstimatesStayMarkedInAMerge(t *testing.T) {
	in := inputs(t, north, south, places)
	marking(in, "north", "value", 2)
	marking(in, "south", "batch", 2, 3)
	p, err := merge.Parse([]byte("merge: all\nstack: [north, south]\njoin:\n  - {with: places, match: {place: code}, take: [name], unmatched: keep, met_at_least: 0}\n"))
	if err != nil {
		t.Fatal(err)
	}
	marking(in, "places", "name", 1)
	var out, marks bytes.Buffer
	a, err := merge.Run(context.Background(), p, listed(in), 2, merge.Outputs{Table: &out, Marks: &marks})
	if err != nil {
		t.Fatal(err)
	}
	made, err := table.ReadMarks(&marks)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	first := strings.Split(places, "\n")[1] // the place whose name is an estimate
	code, name, _ := strings.Cut(first, ",")
	for i, line := range lines[1:] {
		cells, row := strings.Split(line, ","), uint32(i+1)
		for c, column := range strings.Split(lines[0], ",") {
			var want bool
			switch column {
			case "value":
				want = cells[0] == "N2"
			case "batch":
				want = cells[0] == "S2" || cells[0] == "S3"
			case "name":
				want = cells[1] == code && cells[c] == strings.Split(name, ",")[0]
			}
			set := made.In(column)
			if got := set != nil && set.Contains(row); got != want {
				t.Errorf("row %d, %s (%s): marked %v", row, column, line, got)
			}
		}
	}
	if a.Estimates["value"] != 1 || a.Estimates["batch"] != 2 || a.Estimates["name"] < 1 {
		t.Errorf("the accounting counts %v", a.Estimates)
	}
}

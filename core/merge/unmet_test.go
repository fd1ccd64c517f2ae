package merge_test

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

func TestRowsThatMeetNothingAreATableOfTheirOwn(t *testing.T) {
	in := func(dataset, content string) merge.Input {
		book := "dataset: " + dataset + "\ncolumns:\n"
		for _, name := range strings.Split(content[:strings.Index(content, "\n")], ",") {
			book += "  - {name: " + name + "}\n"
		}
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, intake.Standard()), Book: testkit.Book(t, book)}
	}
	tables := map[string]merge.Input{
		"visits":   in("visits", "visit,station,key\n1,ALD,a\n2,BRE,b\n3,\"C,1\",c\n4,,\n"),
		"stations": in("stations", "code,basin\nALD,upper\nBRE,lower\nBRE,middle\nEDD,\n"),
		"basins":   in("basins", "basin,area\nupper,12\n"),
	}
	for _, c := range []struct {
		name, plan, want string
		rows             int64
	}{
		{"every row that met nothing is told, with its key and where it is from",
			"merge: m\nstack: [visits]\njoin:\n  - {with: stations, match: {station: code}, take: [basin], repeated: multiply, unmatched: keep}\n",
			"from_dataset,from_table,from_row,why,key_,visit,station,key\nvisits,,3,no partner in stations,\"C,1\",3,\"C,1\",c\nvisits,,4,no partner in stations,,4,,\n", 2},
		{"a row that a join multiplied is told once for each key, one without a partner in two joins twice, and a row that nobody asked for by its own table",
			"merge: m\nstack: [visits]\njoin:\n  - {with: stations, match: {station: code}, take: [basin], repeated: multiply, unmatched: keep, unasked: keep}\n" +
				"  - {with: basins, match: [basin], take: [area], unmatched: set_aside, met_at_least: 0}\n",
			"from_dataset,from_table,from_row,why,key_,visit,station,key\nvisits,,3,no partner in stations,\"C,1\",3,\"C,1\",c\nvisits,,4,no partner in stations,,4,,\n" +
				"visits,,2,no partner in basins,lower,2,BRE,b\nvisits,,2,no partner in basins,middle,2,BRE,b\nvisits,,3,no partner in basins,,3,\"C,1\",c\nvisits,,4,no partner in basins,,4,,\nstations,,4,no partner in basins,,,EDD,\n", 7},
		{"a merge without a join has no such rows", "merge: m\nstack: [visits]\n", "from_dataset,from_table,from_row,why,key_,visit,station,key\n", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan, err := merge.Parse([]byte(c.plan))
			if err != nil {
				t.Fatal(err)
			}
			var out, unmet bytes.Buffer
			a, err := merge.Run(context.Background(), plan, listed(tables), 2, merge.Outputs{Table: &out, Unmet: &unmet})
			if err != nil {
				t.Fatal(err)
			}
			if unmet.String() != c.want || a.Unmet != c.rows {
				t.Errorf("%d rows:\n%s\nwant %d:\n%s", a.Unmet, unmet.String(), c.rows, c.want)
			}
		})
	}
}

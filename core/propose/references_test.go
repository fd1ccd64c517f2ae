package propose_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// otherOf is a dataset with a table, and a rulebook where one is given.
func otherOf(t *testing.T, name, content, source string) propose.Other {
	t.Helper()
	return propose.Other{Dataset: name, Open: func(ctx context.Context) (table.Source, *rulebook.Rulebook, error) {
		if source != "" {
			book := testkit.Book(t, source)
			return testkit.File(t, content, book.Reading), book, nil
		}
		d, err := detect.Detect(ctx, testkit.Opener([]byte(content)), intake.Reading{})
		if err != nil {
			return nil, nil, err
		}
		return d.File, rulebook.Draft(name, d, d.File.Columns()), nil
	}}
}

func TestReferencesToOtherDatasets(t *testing.T) {
	visits := func(from, stations, step int, last string) string {
		var b strings.Builder
		b.WriteString("visit,station,crew,depth\n")
		for i := range 200 {
			fmt.Fprintf(&b, "V-%04d,AV-%03d,%s,%d.5\n", i, from+i*step%stations, []string{"red", "blue"}[i%2], i*7919%90)
		}
		return b.String() + last
	}
	var register, meters strings.Builder
	register.WriteString("id,name\n")
	meters.WriteString("number\n")
	for i := range 40 {
		fmt.Fprintf(&register, "AV-%03d,Station %d\n", i, i)
		fmt.Fprintf(&meters, "%d\n", i)
	}
	stations := otherOf(t, "stations", register.String(), "dataset: stations\ncolumns: [{name: id}, {name: name}]\nkeys: [{id: k, columns: [id]}]\n")
	for _, c := range []struct {
		name, content string
		others        []propose.Other
		want, never   []string
		broken        []string
	}{
		{"every one is known, and all occur", visits(0, 40, 1, ""), []propose.Other{stations},
			[]string{"- {id: station_known, columns: [station], to: {dataset: stations, columns: [id]}}   # every value is one",
				"- {id: covers_stations_station, check: covers, in: station, with: {dataset: stations, columns: [id]}, severity: minor}   # all 40 occur"},
			[]string{"codes_station"}, nil},
		{"its key was found, not declared", visits(0, 40, 1, ""), []propose.Other{otherOf(t, "stations", register.String(), "")},
			[]string{"columns: [station], to: {dataset: stations, columns: [id]}}   # every value is one"}, nil, nil},
		{"two are not known, and one does not occur", visits(0, 39, 1, "V-0201,AV-077,red,1.5\nV-0202,av-001,red,2.5\n"),
			[]propose.Other{stations}, []string{`# 2 of 202 cells hold none: "AV-077" and "av-001"`, `# 1 of 40 do not occur: "AV-039"`},
			nil, []string{"station_known", "covers_stations_station"}},
		{"half of them are known", visits(20, 40, 1, ""), []propose.Other{stations}, nil, []string{"references:", "covers_"}, nil},
		{"half of them occur", visits(0, 20, 1, ""), []propose.Other{stations}, []string{"station_known"}, []string{"covers_"}, nil},
		{"whole numbers that only happen to be keys", strings.ReplaceAll(visits(0, 40, 1, ""), "AV-0", ""),
			[]propose.Other{otherOf(t, "meters", meters.String(), "dataset: meters\ncolumns: [{name: number, type: integer}]\nkeys: [{id: k, columns: [number]}]\n")},
			nil, []string{"references:"}, nil},
	} {
		source := proposedBeside(t, c.others, c.content)
		for _, want := range c.want {
			if !strings.Contains(source, want) {
				t.Errorf("%s: no %q in\n%s", c.name, want, source)
			}
		}
		for _, never := range c.never {
			if strings.Contains(source, never) {
				t.Errorf("%s: %q in\n%s", c.name, never, source)
			}
		}
		// Taken as it stands it finds just what does not hold.
		book := testkit.Book(t, source)
		book.Beside = &rulebook.Beside{Used: map[string]string{}, Open: func(ctx context.Context, _ string) (table.Source, *rulebook.Rulebook, error) {
			return c.others[0].Open(ctx)
		}}
		r, err := audit.Run(t.Context(), testkit.File(t, c.content, book.Reading), book, 2)
		if err != nil {
			t.Fatal(err)
		}
		var broken []string
		for _, f := range r.Findings {
			broken = append(broken, f.Rule)
		}
		slices.Sort(c.broken)
		if slices.Sort(broken); !slices.Equal(broken, c.broken) {
			t.Errorf("%s: %v are broken, want %v\n%s", c.name, broken, c.broken, source)
		}
	}
}

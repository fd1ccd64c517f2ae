package propose_test

import (
	"context"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules"
	"proudsieve/core/testkit"
)

// A merged dataset's rulebook declares columns as those do that they are from: what all that are stacked say alike, the codes, and
// the keys and rules that still apply.
func TestAMergedDatasetInheritsWhatIsDeclared(t *testing.T) {
	const lists = "code_lists: {units: [{code: mg, label: milligrams}, ug], rivers: [A, B]}\n"
	const north = "dataset: north\ncolumns:\n  - {name: sample, pattern: \"N[0-9]+\", severity: major, required: true}\n  - {name: value, type: decimal, from: 0, to: 50, required: true}\n  - {name: unit, type: code, codes: units}\n  - {name: taken, type: date, dates: dd/MM/yyyy, required: true}\n" +
		"keys: [{id: one, columns: [sample]}]\n" + lists + "rules:\n  - {id: dated, condition: \"taken > DATE '2024-01-01'\"}\n  - {id: own, condition: value < 40}\n"
	const south = "dataset: south\ncolumns:\n  - {name: sample, pattern: \"S[0-9]+\", required: true}\n  - {name: value, type: decimal, from: 0, to: 90}\n  - {name: unit, type: code, codes: units}\n  - {name: taken, type: date}\n" +
		"keys: [{id: one, columns: [sample]}]\n" + lists + "rules:\n  - {id: dated, condition: \"taken > DATE '2024-01-01'\"}\n"
	const places = "dataset: places\ncolumns:\n  - {name: code}\n  - {name: river, type: code, codes: rivers, required: true}\n" + lists
	table := "sample,value,unit,taken,river\nN1,1,mg,2024-05-01,A\nS2,70,ug,2024-05-02,B\n"
	fixed := intake.Standard()
	draft, err := propose.Rulebook(context.Background(), "merged", []propose.Delivery{{Name: "merged.csv", Open: testkit.Opener([]byte(table))}}, nil, fixed, 1)
	if err != nil {
		t.Fatal(err)
	}
	own := map[string]string{"sample": "sample", "value": "value", "unit": "unit", "taken": "taken"}
	got, err := draft.Inherit([]propose.Inherited{{Dataset: "north", Source: north, Columns: own, Stacked: true, Everywhere: true, Unique: true},
		{Dataset: "south", Source: south, Columns: own, Stacked: true, Everywhere: true}, {Dataset: "places", Source: places, Columns: map[string]string{"river": "river"}, Everywhere: true}})
	if err != nil {
		t.Fatal(err)
	}
	source := got.Source(propose.Choice{})
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatalf("%v\n%s", err, source)
	}
	for _, want := range []string{"{name: sample, required: true}", "{name: value, type: decimal, from: 0}", "codes: units}", "{name: taken, type: date}", "codes: rivers, required: true}",
		"as the rulebook of north declares it", "units: [{code: mg, label: milligrams}, {code: ug}]", "{id: one, columns: [sample]}", "id: dated"} {
		if !strings.Contains(source, want) {
			t.Errorf("%s is not in\n%s", want, source)
		}
	}
	for _, other := range []string{"N[0-9]+", "id: own", "dd/MM/yyyy"} {
		if strings.Contains(source, other) {
			t.Errorf("%s is in\n%s", other, source)
		}
	}
	if len(book.KeyColumns()) != 1 || book.KeyColumns()[0] != "sample" {
		t.Errorf("the key is %v", book.KeyColumns())
	}
}

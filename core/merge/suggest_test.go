package merge_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

// profiled are the columns of a table as its audit has them.
func profiled(t *testing.T, columns, text string) []audit.Column {
	t.Helper()
	r, err := audit.Run(context.Background(), testkit.File(t, text, intake.Standard()), testkit.Book(t, "dataset: d\ncolumns: ["+columns+"]\n"), 1)
	if err != nil {
		t.Fatal(err)
	}
	return r.Columns
}

func TestColumnsThatMayBeOneAreSuggestedWithEvidence(t *testing.T) {
	var a, b strings.Builder
	a.WriteString("id,Station Code,parameter,result,depth\n")
	b.WriteString("id,station_code,substance,value,note\n")
	for i := range 40 {
		fmt.Fprintf(&a, "%d,S%d,%s,%d,%d\n", i, i%5, []string{"NO3", "PO4", "NH4"}[i%3], 100+i, i%2)
		fmt.Fprintf(&b, "%d,S%d,%s,%d,n%d\n", i, i%5, []string{"no3", "po4 ", "NH4", "SO4"}[i%4], 105+i, i)
	}
	stack := profiled(t, "{name: id}, {name: Station Code}, {name: parameter}, {name: result, type: decimal}, {name: depth, type: decimal}", a.String())
	other := profiled(t, "{name: id}, {name: station_code}, {name: substance}, {name: value, type: decimal}, {name: note}", b.String())
	got := map[string]string{}
	for _, s := range merge.Suggest(stack, other) {
		got[s.Column+" as "+s.As] = s.Says
	}
	want := map[string]string{"station_code as Station Code": "the names differ in case and signs alone", "value as result": "the middle halves of its numbers overlap by 74 %"}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%v\nwant %v", got, want)
	}
	// Three of four texts are too few; without the fourth they are enough.
	other = profiled(t, "{name: id}, {name: substance}", "id,substance\n1,no3\n2,PO4\n3,nh4\n")
	if s := merge.Suggest(stack, other); len(s) != 1 || s[0].As != "parameter" || s[0].Says != "3 of its 3 texts are there too" {
		t.Errorf("%+v", s)
	}
}

func TestKeysThatMayMeetAreSuggested(t *testing.T) {
	before := profiled(t, "{name: sample}, {name: station}, {name: value, type: decimal}", "sample,station,value\n1,ALD,1\n2,BRE,2\n3,ald,3\n")
	there := profiled(t, "{name: code}, {name: name}, {name: area, type: decimal}", "code,name,area\nALD,Alder,1\nBRE,Bren,2\nCOL,Coll,3\n")
	if s := merge.SuggestKeys(before, there); len(s) != 1 || s[0].Column != "code" || s[0].As != "station" || s[0].Says != "2 of its 2 texts are there" {
		t.Errorf("%+v", s)
	}
}

func TestWhatIsDeclaredOfTheInputsStillApplies(t *testing.T) {
	_, a, err := run(t, joinPlaces+"    unmatched: set_aside\n", inputs(t, north, south, places), 1)
	if err != nil {
		t.Fatal(err)
	}
	plan, err := merge.Parse([]byte(joinPlaces))
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(a.Heirs(plan))
	want := "[{north map[id:id place:place value:value] true true false} {south map[batch:batch id:id place:place value:value] true false false} {places map[name:name value:places_value] false true false}]"
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	_, a, err = run(t, "merge: m\nstack: [north]\n", inputs(t, north, south, places), 1)
	if err != nil {
		t.Fatal(err)
	}
	if plan, err = merge.Parse([]byte("merge: m\nstack: [north]\n")); err != nil || !a.Heirs(plan)[0].Unique {
		t.Errorf("%v, %v", a.Heirs(plan), err)
	}
}

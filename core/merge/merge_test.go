package merge_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/budget"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

const (
	northBook = "dataset: north\ncolumns:\n  - {name: id}\n  - {name: place}\n  - {name: value, type: decimal}\nmeasures: [value]\n"
	southBook = "dataset: south\ncolumns:\n  - {name: place}\n  - {name: id}\n  - {name: value, type: decimal}\n  - {name: batch}\nmeasures: [value]\n"
	placeBook = "dataset: places\ncolumns:\n  - {name: code}\n  - {name: name}\n  - {name: value}\n"

	north  = "id,place,value\nN1,A,1.5\nN2,B,2.5\n"
	south  = "place,id,value,batch\nA,S1,10,b1\nC,S2,20,b2\n,S3,,b2\n"
	places = "code,name,value\nA,Alder,high\nB,Brenlow,low\nD,Dunmere,low\n"
)

func inputs(t testing.TB, northText, southText, placesText string) map[string]merge.Input {
	t.Helper()
	in := func(dataset, content, book string) merge.Input {
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, intake.Standard()),
			Book: testkit.Book(t, book)}
	}
	return map[string]merge.Input{"north": in("north", northText, northBook),
		"south": in("south", southText, southBook), "places": in("places", placesText, placeBook)}
}

// listed are tables as a merge takes them, of which there is one for each dataset.
func listed(in map[string]merge.Input) (all merge.Inputs) {
	for _, name := range slices.Sorted(maps.Keys(in)) {
		all = append(all, in[name])
	}
	return all
}

func run(t testing.TB, plan string, in map[string]merge.Input, workers int) (string, *merge.Accounting, error) {
	t.Helper()
	return stack(t, plan, listed(in), workers)
}

// stack runs a merge of which several tables of a dataset may be a part.
func stack(t testing.TB, plan string, in merge.Inputs, workers int) (string, *merge.Accounting, error) {
	t.Helper()
	p, err := merge.Parse([]byte(plan))
	if err != nil {
		t.Fatalf("the plan of the test is wrong:\n%v", err)
	}
	var out bytes.Buffer
	a, err := merge.Run(context.Background(), p, in, workers, merge.Outputs{Table: &out})
	return out.String(), a, err
}

func TestStacking(t *testing.T) {
	table, a, err := run(t, "merge: all\nstack: [north, south]\norigin: from_where\n", inputs(t, north, south, places),
		2)
	if err != nil {
		t.Fatal(err)
	}
	want := "id,place,value,batch,from_where\nN1,A,1.5,,north\nN2,B,2.5,,north\nS1,A,10,b1,south\nS2,C,20,b2,south\nS3,,,b2,south\n"
	if table != want {
		t.Errorf("table %q, want %q", table, want)
	}
	if a.Rows != 5 || a.Sums["value"] != "34" || a.Stack.Rows != 5 || len(a.Inputs) != 2 || a.Inputs[0].Rows != 2 ||
		a.Inputs[1].Sums["value"] != "30" {
		t.Errorf("%+v", a)
	}
	if want := map[string][]string{"batch": {"north"}}; !reflect.DeepEqual(a.Stack.Lacking, want) {
		t.Errorf("lacking %v, want %v", a.Stack.Lacking, want)
	}
}

const joinPlaces = "merge: all\nstack: [north, south]\njoin:\n  - with: places\n    match: {place: code}\n    take: [name, value]\n"

func TestJoiningAndWhatBecomesOfRowsWithoutAPartner(t *testing.T) {
	for _, c := range []struct {
		unmatched, want string
		aside, out      int64
		sum             string
	}{
		{"keep",
			"id,place,value,batch,name,places_value\nN1,A,1.5,,Alder,high\nN2,B,2.5,,Brenlow,low\nS1,A,10,b1,Alder,high\nS2,C,20,b2,,\nS3,,,b2,,\n", 0, 5, "34"},
		{"set_aside",
			"id,place,value,batch,name,places_value\nN1,A,1.5,,Alder,high\nN2,B,2.5,,Brenlow,low\nS1,A,10,b1,Alder,high\n", 2, 3, "14"},
	} {
		table, a, err := run(t, joinPlaces+"    unmatched: "+c.unmatched+"\n", inputs(t, north, south, places), 2)
		if err != nil {
			t.Fatal(err)
		}
		if table != c.want {
			t.Errorf("%s: %q, want %q", c.unmatched, table, c.want)
		}
		j := a.Joins[0]
		if j.RowsIn != 5 || j.Matched != 3 || j.Unmatched != 2 || j.SetAside != c.aside || j.RowsOut != c.out ||
			j.Multiplied != 0 || j.SumsOut["value"] != c.sum {
			t.Errorf("%s: %+v", c.unmatched, j)
		}
		if j.JoinedRows != 3 || j.JoinedUnused != 1 {
			t.Errorf("%d of %d places were not asked for", j.JoinedUnused, j.JoinedRows)
		}
		if err := a.Balance(); err != nil {
			t.Error(err)
		}
	}
}

func TestAMergeThatIsRefused(t *testing.T) {
	twice := places + "A,Another,mid\n"
	for _, c := range []struct {
		name, plan, want string
		in               map[string]merge.Input
	}{
		{"rows without a partner", joinPlaces, `row 2: places has no row with the key "C"`,
			inputs(t, north, south, places)},
		{"a key that differs in case", joinPlaces, `(it has "A", and would meet it if upper and lower case are levelled too)`,
			inputs(t, "id,place,value\nN1, a,1\n", "place,id,value,batch\n", places)},
		{"a repeated key", joinPlaces, "the key A is there 2 times in places, so rows would be multiplied",
			inputs(t, north, south, twice)},
		{"a column to join on that is not there",
			"merge: all\nstack: [north]\njoin:\n  - {with: places, match: {plaec: code}, take: [name]}\n",
			`the table so far has no column "plaec"; did you mean "place"?`, inputs(t, north, south, places)},
		{"a column to take that is not there",
			"merge: all\nstack: [north]\njoin:\n  - {with: places, match: {place: code}, take: [nam]}\n",
			`places has no column "nam"; did you mean "name"?`, inputs(t, north, south, places)},
		{"columns of two types", "merge: all\nstack: [north, places]\n",
			`the column "value" is of type decimal in north and of type text in places`,
			inputs(t, north, south, places)},
	} {
		_, _, err := run(t, c.plan, c.in, 2)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
}

func TestRowsMultiplyOnlyWhereThatIsDeclared(t *testing.T) {
	table, a, err := run(t, joinPlaces+"    unmatched: set_aside\n    repeated: multiply\n",
		inputs(t, north, south, places+"A,Another,mid\n"), 2)
	if err != nil {
		t.Fatal(err)
	}
	want := "id,place,value,batch,name,places_value\nN1,A,1.5,,Alder,high\nN1,A,1.5,,Another,mid\nN2,B,2.5,,Brenlow,low\nS1,A,10,b1,Alder,high\nS1,A,10,b1,Another,mid\n"
	j := a.Joins[0]
	if table != want || j.Multiplied != 2 || j.SumsMultiplied["value"] != "11.5" || j.RowsOut != 5 ||
		a.Sums["value"] != "25.5" {
		t.Errorf("%q\n%+v", table, j)
	}
}

func TestKeysThatAlmostMeetAreNamed(t *testing.T) {
	_, a, err := run(t, joinPlaces+"    unmatched: keep\n    met_at_least: 10\n",
		inputs(t, "id,place,value\nN1,a,1\nN2,a,1\nN3,B ,1\nN4,Z,1\n", south, places), 2)
	if err != nil {
		t.Fatal(err)
	}
	want := []merge.KeyMiss{{Key: "a", Rows: 2, Close: "A"}, {Key: "B ", Rows: 1, Close: "B"}, {Key: "C", Rows: 1}, {Key: "Z", Rows: 1}}
	if !reflect.DeepEqual(a.Joins[0].Misses, want) || a.Joins[0].Blank != 1 {
		t.Errorf("%+v, want %+v", a.Joins[0].Misses, want)
	}
}

func TestJoiningOnSeveralColumns(t *testing.T) {
	in := inputs(t, north, south, places)
	in["pairs"] = merge.Input{Dataset: "pairs", Source: testkit.File(t, "id,place,note\nN1,A,first\nN1,B,wrong\n",
		intake.Standard()), Book: testkit.Book(t,
		"dataset: pairs\ncolumns: [{name: id}, {name: place}, {name: note}]\n")}
	table, _, err := run(t,
		"merge: all\nstack: [north]\njoin:\n  - {with: pairs, match: [id, place], take: [note], unmatched: keep}\n", in,
		1)
	if want := "id,place,value,note\nN1,A,1.5,first\nN2,B,2.5,\n"; err != nil || table != want {
		t.Errorf("%q, want %q; %v", table, want, err)
	}
}

func TestAnAccountingThatDoesNotAddUp(t *testing.T) {
	_, good, err := run(t, joinPlaces+"    unmatched: set_aside\n", inputs(t, north, south, places), 2)
	if err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func(a *merge.Accounting){
		"an input":        func(a *merge.Accounting) { a.Inputs[0].Rows++ },
		"the stack":       func(a *merge.Accounting) { a.Stack.Rows-- },
		"the matches":     func(a *merge.Accounting) { a.Joins[0].Matched-- },
		"the set aside":   func(a *merge.Accounting) { a.Joins[0].SetAside-- },
		"the join":        func(a *merge.Accounting) { a.Joins[0].RowsOut++ },
		"the result":      func(a *merge.Accounting) { a.Rows++ },
		"a sum":           func(a *merge.Accounting) { a.Sums = merge.Sums{"value": "14.01"} },
		"a sum set aside": func(a *merge.Accounting) { a.Joins[0].SumsSetAside = merge.Sums{"value": "0"} },
	} {
		a := *good
		a.Inputs = append([]merge.InputRows(nil), good.Inputs...)
		a.Joins = append([]merge.JoinResult(nil), good.Joins...)
		spoil(&a)
		if err := a.Balance(); err == nil || !strings.Contains(err.Error(), "does not add up") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestVerifyReadsTheMergedTableAgain(t *testing.T) {
	table, a, err := run(t, "merge: all\nstack: [north, south]\n", inputs(t, north, south, places), 2)
	if err != nil {
		t.Fatal(err)
	}
	book := testkit.Book(t, "dataset: all\ncolumns: [{name: id}, {name: value, type: decimal}]\nmeasures: [value]\n")
	for content, good := range map[string]bool{table: true, strings.Replace(table, "S1,A,10", "S1,A,11", 1): false,
		table + "X,A,0,\n": false} {
		if err := merge.Verify(context.Background(), testkit.File(t, content, intake.Standard()), book, a,
			2); (err == nil) != good {
			t.Errorf("%q: %v", content, err)
		}
	}
}

func TestOneWorkerAndEightMakeTheSameTable(t *testing.T) {
	var many strings.Builder
	many.WriteString("id,place,value\n")
	for range 60_000 {
		many.WriteString("N,A,1.25\nM,B,2.75\nL,Q,1\n")
	}
	plan := joinPlaces + "    unmatched: keep\n"
	one, a, err := run(t, plan, inputs(t, many.String(), south, places), 1)
	if err != nil {
		t.Fatal(err)
	}
	eight, b, err := run(t, plan, inputs(t, many.String(), south, places), 8)
	if err != nil || one != eight || !reflect.DeepEqual(a, b) {
		t.Errorf("the table or its accounting depends on the number of workers; %v", err)
	}
}

func TestMistakesInAMerge(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"no name", "stack: [a]\n", `a merge needs "merge"`},
		{"no stack", "merge: m\n", `a merge needs "stack"`},
		{"an empty stack", "merge: m\nstack: []\n", "stack names at least one dataset"},
		{"a name with a capital", "merge: M\nstack: [a]\n",
			"line 1, column 8: the name of a merge is written in lower-case letters"},
		{"a misspelt key", "merge: m\nstack: [a]\njoins: []\n", `a merge has no "joins"; did you mean "join"?`},
		{"a join with nothing", "merge: m\nstack: [a]\njoin:\n  - {match: [x], take: [y]}\n", `a join needs "with"`},
		{"a join on nothing", "merge: m\nstack: [a]\njoin:\n  - {with: b, match: [], take: [y]}\n",
			"match names at least one column"},
		{"another way with unmatched rows",
			"merge: m\nstack: [a]\njoin:\n  - {with: b, match: [x], take: [y], unmatched: drop}\n",
			`"drop" is not a way with unmatched rows`},
		{"a dataset stacked twice", "merge: m\nstack: [a, b, a]\n",
			"line 2, column 8: a is stacked twice, so that its rows and sums would be counted twice"},
		{"a dataset stacked and joined", "merge: m\nstack: [a]\njoin:\n  - {with: a, match: [x], take: [y]}\n",
			"line 4, column 6: a takes part in the merge already"},
		{"a dataset joined twice",
			"merge: m\nstack: [a]\njoin:\n  - {with: b, match: [x], take: [y]}\n  - {with: b, match: [z], take: [y]}\n",
			"line 5, column 6: b takes part in the merge already"},
		{"a share beyond all", "merge: m\nstack: [a]\njoin:\n  - {with: b, match: [x], take: [y], met_at_least: 101}\n",
			"met_at_least is the least percentage of rows that must find a partner, 0 to 100"},
		{"another way with repeated keys",
			"merge: m\nstack: [a]\njoin:\n  - {with: b, match: [x], take: [y], repeated: allow}\n",
			`"allow" is not a way with repeated keys`},
	} {
		_, err := merge.Parse([]byte(c.source))
		var mistakes document.Problems
		if !errors.As(err, &mistakes) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %q", c.name, err, c.want)
		}
	}
	p, err := merge.Parse(
		[]byte("merge: m\nstack: [a, b]\njoin:\n  - {with: c, match: [x], take: [y]}\n  - {with: d, match: [x], take: [z]}\n"))
	if err != nil || !reflect.DeepEqual(p.Datasets(), []string{"a", "b", "c", "d"}) {
		t.Errorf("datasets %v, %v", p.Datasets(), err)
	}
}

func TestTheSameBytesUnderTwoNamesAreRefused(t *testing.T) {
	in := inputs(t, north, south, places)
	a, b := in["north"], in["south"]
	a.Digest, b.Digest = "abc", "abc"
	in["north"], in["south"] = a, b
	if _, _, err := run(t, "merge: all\nstack: [north, south]\n", in, 1); err == nil ||
		!strings.Contains(err.Error(), "the tables of north and south have the same bytes") {
		t.Errorf("%v", err)
	}
}

func TestAJoinThatMeetsLessThanOneRowInTwoIsRefusedUnlessDeclared(t *testing.T) {
	few := "id,place,value\nN1,A,1\nN2,b,1\nN3,c,1\n"
	plan := "merge: all\nstack: [north]\njoin:\n  - {with: places, match: {place: code}, take: [name], unmatched: "
	for _, way := range []string{"keep", "set_aside"} {
		_, _, err := run(t, plan+way+"}\n", inputs(t, few, south, places), 2)
		if err == nil || !strings.Contains(err.Error(),
			`only 1 of 3 rows find a partner by place, fewer than 50 %; "b" is not there, "B" is; "c" is not there`) {
			t.Errorf("%s: %v", way, err)
		}
	}
	if _, a, err := run(t, plan+"keep, met_at_least: 33}\n", inputs(t, few, south, places), 2); err != nil ||
		a.Joins[0].Matched != 1 {
		t.Errorf("declared: %v", err)
	}
	if _, _, err := run(t, plan+"keep, met_at_least: 34}\n", inputs(t, few, south, places), 2); err == nil {
		t.Error("a declared share that is not reached is let through")
	}
}

func TestKeysMeetByTheValueOfTheirType(t *testing.T) {
	numbers := func(dataset, content string) merge.Input {
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, intake.Standard()),
			Book: testkit.Book(t, "dataset: "+dataset+
				"\ncolumns: [{name: depth, type: decimal}, {name: day, type: date}, {name: band}]\n")}
	}
	in := map[string]merge.Input{"visits": numbers("visits",
		"depth,day\n1.0,2024-01-02\n02.50,2024-01-02\n3,2024-01-02\nabc,2024-01-02\n,2024-01-02\n"),
		"bands": numbers("bands",
			"depth,day,band\n1,2024-01-02,shallow\n2.5,2024-01-02,middle\nabc,2024-01-02,odd\n,2024-01-02,none\n")}
	table, a, err := run(t,
		"merge: all\nstack: [visits]\njoin:\n  - {with: bands, match: [depth, day], take: [band], unmatched: keep}\n",
		in, 2)
	want := "depth,day,band\n1.0,2024-01-02,shallow\n02.50,2024-01-02,middle\n3,2024-01-02,\nabc,2024-01-02,odd\n,2024-01-02,\n"
	if err != nil || table != want || a.Joins[0].Matched != 3 {
		t.Errorf("%q, want %q; %v", table, want, err)
	}
	in["bands"] = merge.Input{Dataset: "bands", Source: in["bands"].Source,
		Book: testkit.Book(t, "dataset: bands\ncolumns: [{name: depth}, {name: day}, {name: band}]\n")}
	if _, _, err := run(t,
		"merge: all\nstack: [visits]\njoin:\n  - {with: bands, match: [depth], take: [band], unmatched: keep}\n", in,
		2); err == nil {
		t.Error("a number and a text meet by value")
	}
}

func TestTheJoinedTableGoesToDiskWhereMemoryIsShort(t *testing.T) {
	var codes, rows strings.Builder
	codes.WriteString("code,name,value\n")
	rows.WriteString("id,place,value\n")
	for i := range 60_000 {
		fmt.Fprintf(&codes, "P%d,the place of the number %d,%d\n", i, i, i)
		fmt.Fprintf(&rows, "N%d,P%d,1\n", i, (i*7919)%60_000)
	}
	plan, err := merge.Parse([]byte(joinPlaces))
	if err != nil {
		t.Fatal(err)
	}
	made := map[string]string{}
	for name, bytes := range map[string]int64{"in memory": 1 << 30, "on disk": 60_000*36 + 1<<20, "keys on disk": 1 << 20} {
		share, err := budget.New(bytes).Take(context.Background(), 0)
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		p := *plan
		p.Stack = []string{"north"}
		if _, err := merge.Run(budget.With(context.Background(), share), &p,
			listed(inputs(t, rows.String(), south, codes.String())), 2, merge.Outputs{Table: &out}); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		made[name] = out.String()
	}
	if made["in memory"] != made["on disk"] || made["in memory"] != made["keys on disk"] ||
		!strings.Contains(made["on disk"], "N1,P7919,1,the place of the number 7919") {
		t.Error("the merged table depends on the memory there is")
	}
	share, err := budget.New(1000).Take(context.Background(), 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := merge.Run(budget.With(context.Background(), share), plan,
		listed(inputs(t, rows.String(), south, codes.String())), 2, merge.Outputs{Table: io.Discard}); !errors.Is(err, budget.ErrTooMuch) {
		t.Errorf("without memory for the keys: %v", err)
	}
}

// Whatever becomes of keys that are there several times, and of rows that nobody asks for, is the same with the keys on disk.
func TestJoinsWithTheirKeysOnDisk(t *testing.T) {
	var codes, rows strings.Builder
	codes.WriteString("code,name,value\n")
	rows.WriteString("id,place,value\n")
	for i := range 50_000 {
		fmt.Fprintf(&codes, "P%d,%d,%d\n", i%31_000, i, i*7%101)
		fmt.Fprintf(&rows, "N%d,P%d,%d\n", i, i*7919%40_000, i)
	}
	for i := range 900 {
		fmt.Fprintf(&codes, "P7,again %d,%d\n", i, i)
	}
	for _, way := range []string{"multiply", "earliest_row", "latest_row", "largest_value\n    by: value"} {
		plan, err := merge.Parse([]byte(strings.Replace(joinPlaces, "[north, south]", "[north]", 1) + "    unmatched: keep\n    unasked: keep\n    met_at_least: 0\n    repeated: " + way + "\n"))
		if err != nil {
			t.Fatal(err)
		}
		var made [2]string
		var accountings [2]*merge.Accounting
		for k, bytes := range []int64{1 << 30, 700_000} {
			share, err := budget.New(bytes).Take(context.Background(), 0)
			if err != nil {
				t.Fatal(err)
			}
			var out strings.Builder
			in := inputs(t, rows.String(), south, codes.String())
			delete(in, "south")
			if accountings[k], err = merge.Run(budget.With(context.Background(), share), plan, listed(in), 3, merge.Outputs{Table: &out}); err != nil {
				t.Fatalf("%s: %v", way, err)
			}
			made[k] = out.String()
		}
		if made[0] != made[1] || !reflect.DeepEqual(accountings[0], accountings[1]) {
			t.Errorf("%s: the merged table depends on the memory there is", way)
		}
	}
	// A key that is there twice is told with the keys on disk too.
	share, err := budget.New(700_000).Take(context.Background(), 0)
	if err != nil {
		t.Fatal(err)
	}
	plan, err := merge.Parse([]byte(joinPlaces))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := merge.Run(budget.With(context.Background(), share), plan, listed(inputs(t, rows.String(), south, codes.String())), 2, merge.Outputs{Table: io.Discard}); err == nil ||
		!strings.Contains(err.Error(), "the key P0 is there 2 times in places") {
		t.Error(err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("merge: m\nstack: [a, b]\norigin: o\njoin:\n  - {with: c, match: {x: y}, take: [z], unmatched: keep, met_at_least: 5}\n")
	f.Add("merge: m\nstack: [a]\ntables: {a: \"last 3, named 2*\"}\ncolumns: {a.x: y}\ngrain: {a: \"\\\"k, l\\\", day of t: mean of v\"}\ncontradicting: by_cell\njoin:\n  - {with: b, between: {x: f to before g}, take: [z]}\n  - {with: c, nearest: {x: t}, within: 2 hours, take: [z]}\n")
	f.Fuzz(func(t *testing.T, source string) {
		_, err := merge.Parse([]byte(source))
		var mistakes document.Problems
		if err != nil && !errors.As(err, &mistakes) {
			t.Errorf("%q: the error %v has no place", source, err)
		}
	})
}

func TestAnAccountingOfOtherTables(t *testing.T) {
	_, a, err := run(t, joinPlaces+"    unmatched: set_aside\n", inputs(t, north, south, places), 2)
	if err != nil {
		t.Fatal(err)
	}
	of := []merge.Brought{{"north", 1, 2}, {"south", 2, 3}, {"places", 3, 3}}
	if err := a.Holds(3, of); err != nil {
		t.Error(err)
	}
	for name, c := range map[string]struct {
		rows int64
		of   []merge.Brought
		want string
	}{
		"a table of other rows":     {4, of, "ends with 3 rows, and the table has 4"},
		"a stacked table of others": {3, []merge.Brought{{"north", 1, 6}, {"south", 2, 3}, {"places", 3, 3}}, "has 2 rows of north, and its table has 6"},
		"a joined table of others":  {3, []merge.Brought{{"north", 1, 2}, {"south", 2, 3}, {"places", 3, 2}}, "has 3 rows of places, and its table has 2"},
		"a table that is not there": {3, []merge.Brought{{"north", 1, 2}, {"south", 2, 3}}, "speaks of a table of places"},
		"a table more":              {3, append(of, merge.Brought{"visits", 4, 7}), "does not speak of the 7 rows of table 4 of visits"},
	} {
		if err := a.Holds(c.rows, c.of); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestRowsAreChosenByWhereTheyAreFrom(t *testing.T) {
	plan, err := merge.Parse([]byte(joinPlaces + "    unmatched: keep\n    repeated: multiply\n    unasked: keep\n"))
	if err != nil {
		t.Fatal(err)
	}
	var out, sources bytes.Buffer
	a, err := merge.Run(context.Background(), plan, listed(inputs(t, north, south, places+"A,Another,mid\n")), 2, merge.Outputs{Table: &out, Sources: &sources})
	if err != nil {
		t.Fatal(err)
	}
	for chosen, want := range map[string]string{"met:places": "{1,2,3,4,5}", "unmet:places": "{6,7}", "several:places": "{1,2,4,5}", "unasked:places": "{8}", "filled": "{}"} {
		rows, err := a.RowsThat(bytes.NewReader(sources.Bytes()), int64(sources.Len()), chosen)
		if err != nil || rows.String() != want {
			t.Errorf("%s: %v, %v, want %s\n%s", chosen, rows, err, want, out.String())
		}
	}
	for _, wrong := range []string{"met:north", "lost:places", "from:x", "from:7", ""} {
		if _, err := a.RowsThat(bytes.NewReader(sources.Bytes()), int64(sources.Len()), wrong); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
}

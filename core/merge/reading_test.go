package merge_test

import (
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// Texts that would mean one thing in one table and another in the next are refused, with the step that would settle it;
// where they are alike, the merged table carries their reading.
func TestTablesThatAreWrittenInDifferentWays(t *testing.T) {
	comma := rulebook.TableReading{Columns: map[string]rulebook.Written{"v": {DecimalMark: ","}}}
	marked := rulebook.TableReading{Missing: []string{"n/a"}}
	in := func(dataset, content string, reading rulebook.TableReading) merge.Input {
		b := testkit.Book(t, "dataset: "+dataset+"\ncolumns: [{name: k}, {name: v, type: decimal}]\nmeasures: [v]\npass_mark: 0\n").ForTable(reading)
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, b.Reading), Book: b}
	}
	const plan = "merge: m\nstack: [a, b]\n"
	for _, c := range []struct {
		name string
		a, b merge.Input
		want string
	}{
		{"another decimal mark", in("a", "k,v\nx,\"1,5\"\n", comma), in("b", "k,v\ny,2.5\n", rulebook.TableReading{}),
			`the column "v" is written in one way in a and in another in b, so that the same text is not the same value; a step standard_form in the fix plan of a would settle it`},
		{"other marks for missing values", in("a", "k,v\nx,1.5\n", rulebook.TableReading{}), in("b", "k,v\ny,n/a\n", marked),
			`texts stand for missing values in a (none) that do not in b (["n/a"]); a step standard_form in the fix plan of b would settle it`},
	} {
		if _, _, err := run(t, plan, map[string]merge.Input{"a": c.a, "b": c.b}, 1); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
	text, a, err := run(t, plan, map[string]merge.Input{"a": in("a", "k,v\nx,\"1,5\"\n", comma), "b": in("b", "k,v\ny,\"2,5\"\n", comma)}, 1)
	if err != nil || text != "k,v\nx,\"1,5\"\ny,\"2,5\"\n" || a.Sums["v"] != "4" || !reflect.DeepEqual(a.Reading, comma) {
		t.Errorf("%q, %+v, %v", text, a, err)
	}
}

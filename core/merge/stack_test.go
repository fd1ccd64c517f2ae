package merge_test

import (
	"bytes"
	"context"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const labBook = "dataset: lab\ncolumns:\n  - {name: sample}\n  - {name: day, type: date}\n  - {name: value, type: decimal}\n  - {name: note}\nkeys: [{id: one_sample, columns: [sample]}]\nmeasures: [value]\n"

// deliveries are tables of the dataset lab, numbered from 1.
func deliveries(t testing.TB, contents ...string) (all merge.Inputs) {
	t.Helper()
	for i, content := range contents {
		all = append(all, merge.Input{Dataset: "lab", Table: int64(i + 1), Source: testkit.File(t, content, intake.Standard()), Book: testkit.Book(t, labBook)})
	}
	return all
}

const (
	january  = "sample,day,value,note\nS1,2024-01-03,1,\nS2,2024-01-31,2,old\nS3,2024-01-31,,kept\n,2024-01-31,7,x\n"
	february = "sample,day,value,note\nS4,2024-02-05,4,\nS2,2024-01-31,2.0,old\nS3,2024-01-31,3,\nS5,2024-02-29,5,\n,2024-01-31,7,x\n"
	may      = "sample,day,value\nS6,2024-05-03,6\n"
)

func TestSeveralDeliveriesAreStackedAndWhatTheyShareIsTold(t *testing.T) {
	const plan = "merge: all\nstack: [lab]\ntables: {lab: all}\norigin_table: table\norigin_row: row\n"
	text, a, err := stack(t, plan, deliveries(t, january, february, may), 2)
	if err != nil {
		t.Fatal(err)
	}
	if want := "S3,2024-01-31,3,,2,3\nS5,2024-02-29,5,,2,4\n,2024-01-31,7,x,2,5\nS6,2024-05-03,6,,3,1\n"; !strings.HasSuffix(text, want) {
		t.Errorf("%q, want it to end with %q", text, want)
	}
	want := &merge.Shared{Key: []string{"sample"}, Equal: merge.SharedKeys{Keys: 2, Rows: 4, Became: "keep"}, Contradicting: merge.SharedKeys{Keys: 1, Rows: 2, Became: "keep"},
		Examples: []merge.SharedKey{{Key: "S3", Differ: []string{"value", "note"},
			Rows: []merge.SharedRow{{Dataset: "lab", Table: 1, Row: 3, Cells: []string{"", "kept"}}, {Dataset: "lab", Table: 2, Row: 3, Cells: []string{"3", ""}}}}}}
	if !reflect.DeepEqual(a.Stack.Shared, want) {
		t.Errorf("%+v\nwant %+v", a.Stack.Shared, want)
	}
	periods := &merge.Periods{Column: "day", Covered: []merge.Period{{Dataset: "lab", Table: 1, First: "2024-01-03", Last: "2024-01-31", Days: 2},
		{Dataset: "lab", Table: 2, First: "2024-01-31", Last: "2024-02-29", Days: 3}, {Dataset: "lab", Table: 3, First: "2024-05-03", Last: "2024-05-03", Days: 1}},
		Overlaps: []merge.Overlap{{Dataset: "lab", Table: 2, First: "2024-01-31", Last: "2024-01-31", Days: 1}},
		Gaps:     []merge.Gap{{After: "2024-02-29", Before: "2024-05-03", Days: 63}}}
	if !reflect.DeepEqual(a.Stack.Periods, periods) {
		t.Errorf("%+v\nwant %+v", a.Stack.Periods, periods)
	}
	if got := a.Stack.Lacking["note"]; !reflect.DeepEqual(got, []string{"lab (table 3)"}) {
		t.Errorf("the note is lacking in %v", got)
	}
}

func TestWhatBecomesOfKeysThatSeveralDeliveriesHave(t *testing.T) {
	for _, c := range []struct {
		name, says, want, sum string
		aside, unmet          int64
		filled                map[string]int64
	}{
		{"the newest row stands", "contradicting: newest_wins", "S1,S2,,S4,S2,S3,S5,,", "31", 1, 1, nil},
		{"empty cells are filled from the rows before", "contradicting: by_cell", "S1,S2,,S4,S2,S3 kept,S5,,", "31", 1, 1, map[string]int64{"note": 1}},
		{"equal rows stand once", "equal_rows: once", "S1,S2,S3,,S4,S3,S5,", "22", 2, 2, nil},
		{"both", "equal_rows: once\ncontradicting: newest_wins", "S1,S2,,S4,S3,S5,", "22", 3, 3, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan, err := merge.Parse([]byte("merge: all\nstack: [lab]\ntables: {lab: last 2}\n" + c.says + "\n"))
			if err != nil {
				t.Fatal(err)
			}
			var out, unmet bytes.Buffer
			a, err := merge.Run(context.Background(), plan, deliveries(t, january, february), 2, merge.Outputs{Table: &out, Unmet: &unmet})
			if err != nil {
				t.Fatal(err)
			}
			got := ""
			for _, line := range strings.Split(strings.TrimSpace(out.String()), "\n")[1:] {
				cells := strings.Split(line, ",")
				if got += cells[0]; strings.HasSuffix(line, ",kept") && cells[2] != "" {
					got += " kept"
				}
				got += ","
			}
			if got != c.want || a.Stack.SetAside != c.aside || a.Unmet != c.unmet || a.Sums["value"] != c.sum || !reflect.DeepEqual(a.Stack.Filled, c.filled) {
				t.Errorf("%s, %d set aside, %d told, sum %s, filled %v; want %s, %d, %s\n%s", got, a.Stack.SetAside, a.Unmet, a.Sums["value"], a.Stack.Filled, c.want, c.aside, c.sum, unmet.String())
			}
			if told := strings.Count(unmet.String(), "another row of the stack stands for it"); int64(told) != c.aside {
				t.Errorf("%d rows are told of:\n%s", told, unmet.String())
			}
			if err := a.Balance(); err != nil {
				t.Error(err)
			}
		})
	}
}

func TestStacksThatAreRefused(t *testing.T) {
	twice := "sample,day,value,note\nS3,2024-01-31,1,\nS3,2024-02-01,2,\n"
	for _, c := range []struct{ name, says, want string }{
		{"a key that somebody named", "key: [sample]", `1 key is in several of the stacked tables with rows that contradict one another; "S3" is in row 3 of table 1 of lab and row 3 of table 2 of lab, with "" and "3" of value`},
		{"equal rows", "equal_rows: refuse", "4 rows are equal in several of the stacked tables, so that rows and sums would be counted twice"},
		{"a key that is not there", "key: [smaple]", `lab (table 1) has no column "smaple", which is in the key of the stack; did you mean "sample"?`},
		{"a period that is not there", "period: dya", `the stack has no column "dya", by whose days it is to be told; known are sample, day, value, note`},
		{"a column to be renamed that is not there", "columns: {lab.valu: result}", `lab (table 1) has no column "valu"; did you mean "value"?`},
		{"two columns of one name", "columns: {lab.note: value}", `lab (table 1) would bring two columns as "value": "value" and "note"`},
	} {
		if _, _, err := stack(t, "merge: all\nstack: [lab]\ntables: {lab: all}\n"+c.says+"\n", deliveries(t, january, february), 2); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", c.name, err, c.want)
		}
	}
	_, _, err := stack(t, "merge: all\nstack: [lab]\ntables: {lab: all}\ncontradicting: by_cell\n", deliveries(t, january, twice), 2)
	if err == nil || !strings.Contains(err.Error(), "rows 1 and 2 of lab (table 2) have one key") {
		t.Errorf("cells of rows that share their key within a table: %v", err)
	}
}

func TestColumnsOfAStackThatAreCalledOtherwise(t *testing.T) {
	in := merge.Inputs{{Dataset: "a", Source: testkit.File(t, "id,value\n1,2\n", intake.Standard()), Book: testkit.Book(t, "dataset: a\ncolumns: [{name: id}, {name: value, type: decimal}]\nmeasures: [value]\n")},
		{Dataset: "b", Source: testkit.File(t, "result,number\n3,4\n", intake.Standard()), Book: testkit.Book(t, "dataset: b\ncolumns: [{name: number}, {name: result, type: decimal}]\nmeasures: [result]\n")}}
	text, a, err := stack(t, "merge: m\ncolumns: {b.result: value, b.number: id}\nstack: [a, b]\n", in, 1)
	if err != nil || text != "id,value\n1,2\n4,3\n" || a.Sums["value"] != "5" || len(a.Sums) != 1 {
		t.Errorf("%q, %+v, %v", text, a, err)
	}
}

func TestColumnsThatMeanOtherThingsAreNotStacked(t *testing.T) {
	in := func(dataset, column, lists string) merge.Input {
		return merge.Input{Dataset: dataset, Source: testkit.File(t, "x\n1\n", intake.Standard()), Book: testkit.Book(t, "dataset: "+dataset+"\ncolumns: [{name: x, "+column+"}]\n"+lists)}
	}
	codes := func(list string) (column, lists string) {
		return "type: code, codes: c", "code_lists: {c: [" + list + "]}\n"
	}
	for _, c := range []struct{ name, a, aLists, b, bLists, want string }{
		{name: "units", a: "type: decimal, unit: mg/L", b: "type: decimal, unit: ug/L", want: `the column "x" is in mg/L in a and in ug/L in b, so that its sums would mean nothing; a step convert`},
		{name: "labels", want: `"1" stands for "North" in the one and for "South" in the other`},
		{name: "spellings", want: `"2" is "1" in the one and "2" in the other`},
		{name: "codes for one label", want: `"North" is "1" in the one and "3" in the other`},
		{name: "no code in common", want: `none is in both lists, which begin with "1" and "5"`},
	} {
		switch c.name {
		case "labels":
			c.a, c.aLists = codes("{code: 1, label: North}")
			c.b, c.bLists = codes("{code: 1, label: South}")
		case "spellings":
			c.a, c.aLists = codes("{code: 1, spellings: [2]}")
			c.b, c.bLists = codes("1, 2")
		case "codes for one label":
			c.a, c.aLists = codes("{code: 1, label: North}, 4")
			c.b, c.bLists = codes("{code: 3, label: north}, 4")
		case "no code in common":
			c.a, c.aLists = codes("1, 2")
			c.b, c.bLists = codes("5, 6")
		}
		tables := merge.Inputs{in("a", c.a, c.aLists), in("b", c.b, c.bLists)}
		if _, _, err := stack(t, "merge: m\nstack: [a, b]\n", tables, 1); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", c.name, err, c.want)
		}
		if _, _, err := stack(t, "merge: m\nstack: [a, b]\nother_codes: [x]\n", tables, 1); c.name != "units" && err != nil {
			t.Errorf("%s, where that is meant: %v", c.name, err)
		}
	}
}

func TestWhichTablesTakePart(t *testing.T) {
	all := []merge.Arrived{{"2024-01-05", "a_2024.csv"}, {"2024-02-05", "b.csv"}, {"2024-03-05", "a_2024b.csv"}}
	for says, want := range map[string][]int{"": {2}, "all": {0, 1, 2}, "last 2": {1, 2}, "since 2024-02-05": {1, 2}, "named a_*": {0, 2}, "named a_*, last 1": {2}, "last 9": {0, 1, 2}, "named c*": nil} {
		var c merge.Choice
		var err error
		if says != "" {
			c, err = merge.ParseChoice(says)
		}
		if got := c.Of(all); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %v, want %v; %v", says, got, want, err)
		}
	}
	for _, wrong := range []string{"", "some", "last 0", "since 2024-02-31", "named [", "last 2 3"} {
		if _, err := merge.ParseChoice(wrong); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
}

func TestWhereEachRowIsFrom(t *testing.T) {
	plan, err := merge.Parse([]byte("merge: all\nstack: [lab]\ntables: {lab: all}\ncontradicting: by_cell\n"))
	if err != nil {
		t.Fatal(err)
	}
	var out, sources bytes.Buffer
	if _, err := merge.Run(context.Background(), plan, deliveries(t, january, february, may), 2, merge.Outputs{Table: &out, Sources: &sources}); err != nil {
		t.Fatal(err)
	}
	for row, want := range map[int64]merge.Sourced{1: {Row: 1, Joined: []int64{}}, 3: {Row: 4, Joined: []int64{}}, 6: {Table: 1, Row: 3, Joined: []int64{}, Filled: []merge.FilledFrom{{0, 3}}}, 9: {Table: 2, Row: 1, Joined: []int64{}}} {
		if want.Filled == nil {
			want.Filled = []merge.FilledFrom{}
		}
		got, err := merge.ReadSourced(bytes.NewReader(sources.Bytes()), int64(sources.Len()), row)
		if err != nil || !reflect.DeepEqual(*got, want) {
			t.Errorf("row %d: %+v, %v, want %+v", row, got, err, want)
		}
	}
	if _, err := merge.ReadSourced(bytes.NewReader(sources.Bytes()), int64(sources.Len()), 10); err == nil {
		t.Error("a row that is not there")
	}
}

// A cell that is filled from a row in which it is an estimate stays one.
func TestACellFilledFromAnEstimateIsOne(t *testing.T) {
	in := deliveries(t, january, february)
	rows := table.NewRowSet()
	rows.Add(3)
	in[0].Source = marked{in[0].Source, &table.Marks{All: []table.Mark{{Column: "note", Method: "group_mean", Reason: "r", Draws: 1, Rows: rows}}}}
	_, a, err := stack(t, "merge: all\nstack: [lab]\ntables: {lab: all}\ncontradicting: by_cell\n", in, 1)
	if err != nil || !reflect.DeepEqual(a.Estimates, map[string]int64{"note": 1}) {
		t.Errorf("%v, %v", a, err)
	}
}

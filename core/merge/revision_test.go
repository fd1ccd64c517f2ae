package merge_test

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

func revised(t *testing.T, before, after string) (a, b *merge.Input) {
	in := func(text string) *merge.Input {
		return &merge.Input{Dataset: "lab", Source: testkit.File(t, text, intake.Standard()), Book: testkit.Book(t, labBook)}
	}
	return in(before), in(after)
}

func TestWhatARevisedDeliveryChanged(t *testing.T) {
	a, b := revised(t, "sample,day,value,note,old\nS1,2024-01-01,1.50,,x\nS2,2024-01-01,2,a,x\nS3,2024-01-01,3,b,x\n,2024-01-01,4,,x\nS4,2024-01-01,,c,x\n",
		"sample,value,note,day,new\nS4,7,,2024-01-01,y\nS5,5,,2024-01-05,y\nS1,1.5,,2024-01-01,y\n,4,,2024-01-01,y\nS2,2,A,2024-01-02,y\nS5,6,,2024-01-05,y\n")
	r, err := merge.Revise(context.Background(), a, b, nil, 2)
	if err != nil {
		t.Fatal(err)
	}
	if r.RowsBefore != 5 || r.RowsAfter != 6 || r.Same != 2 || r.Changed != 2 || r.Came != 2 || r.Went != 1 || r.Unkeyed != 2 || r.Repeated != 1 {
		t.Errorf("%+v", r)
	}
	columns := []merge.ColumnRevised{{Column: "note", Rows: 2, Emptied: 1}, {Column: "value", Rows: 1, Filled: 1}, {Column: "day", Rows: 1}, {Column: "sample"}}
	if !reflect.DeepEqual(r.Columns, columns) || !reflect.DeepEqual(r.ColumnsCame, []string{"new"}) || !reflect.DeepEqual(r.ColumnsWent, []string{"old"}) {
		t.Errorf("%+v %v %v", r.Columns, r.ColumnsCame, r.ColumnsWent)
	}
	if want := []merge.SumRevised{{"value", "10.5", "11", "3", "7", "25.5"}}; !reflect.DeepEqual(r.Sums, want) {
		t.Errorf("%+v, want %+v", r.Sums, want)
	}
	for kind, want := range map[string]string{
		"changed": "[S4] 5 1 [{value  7} {note c }];[S2] 2 5 [{note a A} {day 2024-01-01 2024-01-02}];",
		"came":    "[S5] 0 2 [{sample  S5} {value  5} {note  } {day  2024-01-05} {new  y}];[S5] 0 6 [{sample  S5} {value  6} {note  } {day  2024-01-05} {new  y}];",
		"went":    "[S3] 3 0 [{sample S3 } {day 2024-01-01 } {value 3 } {note b } {old x }];",
	} {
		rows, err := r.Rows(context.Background(), a, b, kind, 0, 10, 1)
		got := ""
		for _, one := range rows {
			got += fmt.Sprint(one.Key, " ", one.RowBefore, " ", one.RowAfter, " ", one.Cells, ";")
		}
		if err != nil || got != want {
			t.Errorf("%s: %s\nwant %s; %v", kind, got, want, err)
		}
	}
	if rows, err := r.Rows(context.Background(), a, b, "changed", 1, 10, 1); err != nil || len(rows) != 1 || rows[0].Key[0] != "S2" {
		t.Errorf("from the second on: %+v, %v", rows, err)
	}
	var out strings.Builder
	want := "change,row_before,row_after,sample,column,before,after\nchanged,5,1,S4,value,,7\nchanged,5,1,S4,note,c,\nchanged,2,5,S2,note,a,A\nchanged,2,5,S2,day,2024-01-01,2024-01-02\ncame,,2,S5,,,\ncame,,6,S5,,,\nwent,3,,S3,,,\n"
	if err := r.Write(context.Background(), a, b, &out, 2); err != nil || out.String() != want {
		t.Errorf("%v\n%s\nwant\n%s", err, out.String(), want)
	}
	if _, err := r.Rows(context.Background(), a, b, "chnged", 1, 10, 1); err == nil {
		t.Error("rows of no kind")
	}
	if _, err := merge.Revise(context.Background(), a, b, []string{"old"}, 1); err == nil || !strings.Contains(err.Error(), `the later table has no column "old"`) {
		t.Error(err)
	}
}

// A comparison does not depend on how much is held in memory, nor on the number of workers.
func TestARevisionThatGoesToDisk(t *testing.T) {
	var before, after strings.Builder
	before.WriteString("sample,day,value,note\n")
	after.WriteString("sample,day,value,note\n")
	for i := range 20_000 {
		fmt.Fprintf(&before, "S%d,2024-01-01,%d,\n", i, i)
		if i%10 != 3 {
			fmt.Fprintf(&after, "S%d,2024-01-01,%d,\n", 20_000-i, (20_000-i)*(1+(i%7)/6))
		}
	}
	a, b := revised(t, before.String(), after.String())
	one, err := merge.Revise(context.Background(), a, b, nil, 1)
	if err != nil {
		t.Fatal(err)
	}
	held := table.SortedBytes
	table.SortedBytes = 1 << 16
	defer func() { table.SortedBytes = held }()
	eight, err := merge.Revise(context.Background(), a, b, nil, 8)
	if err != nil || !reflect.DeepEqual(one, eight) || one.Went != 2001 || one.Came != 1 || one.Changed == 0 || one.Same+one.Changed+one.Went != 20_000 {
		t.Errorf("%+v\n%+v, %v", one, eight, err)
	}
}

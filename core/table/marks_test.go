package table_test

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/table"
)

func marksOf(rows ...uint32) *table.Marks {
	set := table.NewRowSet()
	set.AddMany(rows)
	return &table.Marks{All: []table.Mark{{Column: "flow", Method: "group_mean", Reason: "The logger was out.", Seed: 7, Draws: 1, Rows: set}}}
}

func TestMarksAreReadAsTheyWereWritten(t *testing.T) {
	m := marksOf(3, 4, 5, 9)
	other := table.NewRowSet()
	for row := uint32(1); row < 30_000; row += 2 { // more stretches than a line has
		other.Add(row)
	}
	m.All = append(m.All, table.Mark{Column: "level", Method: "in_time", Rows: other})
	var out bytes.Buffer
	if err := m.Write(&out); err != nil {
		t.Fatal(err)
	}
	first, _, _ := strings.Cut(out.String(), "\n")
	want := `{"column":"flow","method":"group_mean","reason":"The logger was out.","seed":7,"draws":1,"rows":[[3,5],[9,9]]}`
	if first != want {
		t.Errorf("the first line is %s, want %s", first, want)
	}
	again, err := table.ReadMarks(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	if !again.In("flow").Equals(m.In("flow")) || !again.In("level").Equals(other) || again.Count() != 4+15_000 || len(again.All) != 2 {
		t.Errorf("read: %d cells in %d marks", again.Count(), len(again.All))
	}
	if got := again.Columns([]string{"level", "day", "flow"}); !reflect.DeepEqual(got, []string{"level", "flow"}) {
		t.Errorf("columns with estimates: %v", got)
	}
}

func TestATableWithoutMarks(t *testing.T) {
	var none *table.Marks
	var out bytes.Buffer
	if err := none.Write(&out); err != nil || out.Len() > 0 || none.In("flow") != nil || none.Count() != 0 {
		t.Errorf("no marks: %q %v", out.String(), err)
	}
}

func FuzzMarks(f *testing.F) {
	var out bytes.Buffer
	_ = marksOf(1, 2, 9).Write(&out)
	f.Add(out.Bytes())
	f.Add([]byte(`{"column":"flow","rows":[[0,4]]}`))
	f.Add([]byte(`{"column":"flow","rows":[[4,2]]}`))
	f.Add([]byte("nothing"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := table.ReadMarks(bytes.NewReader(raw))
		if err != nil {
			if !errors.Is(err, table.ErrMarks) {
				t.Errorf("%v does not say that these are no marks", err)
			}
			return
		}
		var first, second bytes.Buffer
		if err := m.Write(&first); err != nil {
			t.Fatal(err)
		}
		again, err := table.ReadMarks(bytes.NewReader(first.Bytes()))
		if err != nil {
			t.Fatalf("what was written is not read: %v", err)
		}
		if err := again.Write(&second); err != nil || !bytes.Equal(first.Bytes(), second.Bytes()) {
			t.Errorf("%q is written, and then %q", first.Bytes(), second.Bytes())
		}
	})
}

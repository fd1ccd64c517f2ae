package relation_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"proudsieve/core/budget"
	"proudsieve/core/condition"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/relation/relationtest"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

func small(t *testing.T, content string) *relation.Table {
	return &relation.Table{Source: testkit.File(t, content, intake.Reading{}),
		Book: testkit.Book(t,
			"dataset: d\nreading: {missing: [n/a]}\ncolumns: [{name: name}, {name: n, type: decimal}, {name: day, type: date}]\n"), Workers: 3}
}

const few = "name,n,day\nb,10,2024-01-02\nA,9,2024-01-01\n,n/a,\nb,-1.5,2023-05-05\nÄ,many,no day\na very long name that goes beyond a token,100,2024-01-03\n"

func TestRowsThatAChoiceMeans(t *testing.T) {
	for _, c := range []struct {
		holds string
		is    []relation.Is
		find  string
		want  string
	}{
		{"", nil, "", "[1 2 3 4 5 6]"},
		{"n > 9", nil, "", "[1 6]"},
		{"n IS NULL", nil, "", "[3 5]"},
		{"name = 'b' AND n < 0", nil, "", "[4]"},
		{"day >= DATE '2024-01-02'", nil, "", "[1 6]"},
		{"", []relation.Is{{Column: "name", Text: "b"}}, "", "[1 4]"},
		{"", []relation.Is{{Column: "name", Text: "b"}, {Column: "n", Text: "10"}}, "", "[1]"},
		{"", []relation.Is{{Column: "n"}}, "", "[3]"}, // missing, by its mark
		{"", nil, "LONG name", "[6]"},
		{"", nil, "2024", "[1 2 6]"},
		{"n < 50", []relation.Is{{Column: "name", Text: "b"}}, "2024", "[1]"},
		{"n > 1000", nil, "", "[]"},
	} {
		s := small(t, few)
		choice := relation.Choice{Is: c.is, Find: c.find}
		if c.holds != "" {
			compiled, mistakes := condition.Compile(c.holds, map[string]table.Type{"name": table.TypeText,
				"n": table.TypeDecimal, "day": table.TypeDate})
			if len(mistakes) > 0 {
				t.Fatal(mistakes)
			}
			choice.Holds = compiled
		}
		rows, err := relation.Where(context.Background(), s, choice)
		if err != nil || fmt.Sprint(rows.ToArray()) != c.want {
			t.Errorf("%s %v %q: %v, %v; want %s", c.holds, c.is, c.find, rows.ToArray(), err, c.want)
		}
	}
	if _, err := relation.Where(context.Background(), small(t, few),
		relation.Choice{Is: []relation.Is{{Column: "nome"}}}); err == nil {
		t.Error("a column that is not there is accepted")
	}
}

func TestRowsInTheOrderOfAColumn(t *testing.T) {
	for _, c := range []struct {
		column  string
		falling bool
		want    string
	}{
		{"n", false, "[4 2 1 6 5 3]"}, // numbers, then what is none, then what is missing
		{"n", true, "[6 1 2 4 5 3]"},
		{"day", false, "[4 2 1 6 5 3]"},
		{"name", false, "[2 6 1 4 5 3]"}, // by their bytes; equal ones as in the file
		{"name", true, "[5 1 4 6 2 3]"},
	} {
		rows, err := relation.Order(context.Background(), small(t, few), c.column, c.falling, nil)
		if err != nil || fmt.Sprint(rows) != c.want {
			t.Errorf("%s, falling %v: %v, %v; want %s", c.column, c.falling, rows, err, c.want)
		}
	}
	some := table.NewRowSet()
	some.AddMany([]uint32{1, 3, 4})
	if rows, err := relation.Order(context.Background(), small(t, few), "n", false, some); err != nil ||
		fmt.Sprint(rows) != "[4 1 3]" {
		t.Errorf("some rows: %v, %v", rows, err)
	}
}

func TestOrderAgreesWithASortOfManyRows(t *testing.T) {
	content := relationtest.Generated(40_000, true, 9)
	s := &relation.Table{Source: testkit.File(t, content, intake.Reading{}), Book: testkit.Book(t, relationtest.Book),
		Workers: 4}
	got, err := relation.Order(context.Background(), s, "c", true, nil)
	must(t, err)
	for _, atOnce := range []int{50_000, 2_000_000} { // by way of the disk: some 1,000 rows, and all but the last few
		usual := table.SortedBytes
		table.SortedBytes = atOnce
		again, err := relation.Order(context.Background(), s, "c", true, nil)
		table.SortedBytes = usual
		must(t, err)
		if !slices.Equal(again, got) {
			t.Errorf("sorted %d bytes at once, the order is another one", atOnce)
		}
	}
	share, err := budget.New(1000).Take(context.Background(), 0)
	must(t, err)
	if _, err := relation.Order(budget.With(context.Background(), share), s, "c", true, nil); !errors.Is(err,
		budget.ErrBusy) {
		t.Errorf("without memory: %v", err)
	}
	type row struct {
		number int
		filled bool
		row    uint32
	}
	var want []row
	for i, line := range strings.Split(strings.TrimSpace(content), "\n")[1:] {
		n, err := strconv.Atoi(strings.Split(line, ",")[5])
		want = append(want, row{n, err == nil, uint32(i) + 1})
	}
	slices.SortStableFunc(want, func(a, b row) int {
		if a.filled != b.filled {
			return map[bool]int{true: -1, false: 1}[a.filled]
		}
		return cmp.Compare(b.number, a.number)
	})
	for i := range want {
		if got[i] != want[i].row {
			t.Fatalf("row %d stands at place %d, want row %d", got[i], i+1, want[i].row)
		}
	}
}

func TestQuestionsCanBeInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := relation.Correlate(ctx, small(t, few), []string{"n"}); err == nil {
		t.Error("correlations were not interrupted")
	}
	if _, err := relation.Order(ctx, small(t, few), "n", false, nil); err == nil {
		t.Error("sorting was not interrupted")
	}
}

package waiver_test

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
	"proudsieve/core/waiver"
)

const book = `dataset: samples
reading: {missing: [n/a]}
columns: [{name: id}, {name: parameter}, {name: value, type: decimal, to: 14}]
keys: [{id: one, columns: [id]}]
`

func opened(t *testing.T, rows string, workers int) func() (*relation.Table, error) {
	return func() (*relation.Table, error) {
		return &relation.Table{Source: testkit.File(t, "id,parameter,value\n"+rows, intake.Reading{}), Book: testkit.Book(t, book), Workers: workers}, nil
	}
}

func never(t *testing.T) func() (*relation.Table, error) {
	return func() (*relation.Table, error) {
		t.Error("the table was opened for a number of rows")
		return nil, fmt.Errorf("not opened")
	}
}

func set(rows ...uint32) *table.RowSet {
	s := table.NewRowSet()
	s.AddMany(rows)
	return s
}

func finding(of int64, rows ...uint32) waiver.Finding {
	return waiver.Finding{Rows: int64(len(rows)), Of: of, Set: func() (*table.RowSet, error) { return set(rows...), nil }}
}

func cover(t *testing.T, open func() (*relation.Table, error), f waiver.Finding, scopes ...waiver.Scope) *waiver.Covered {
	t.Helper()
	c, err := waiver.Cover(context.Background(), open, f, scopes)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// A number of rows was accepted of a table; a later one has 132 more, a smaller one has as great a share.
func TestANumberOfRowsIsAcceptedAndNoMore(t *testing.T) {
	many := func(n int64) waiver.Finding { return waiver.Finding{Rows: n, Of: 3000} }
	for _, c := range []struct {
		found         waiver.Finding
		count, of     int64
		covered, more int64
	}{
		{many(1), 1, 3000, 1, 0},
		{many(133), 1, 3000, 1, 132},
		{waiver.Finding{Rows: 10, Of: 30_000}, 1, 3000, 1, 9},    // a greater table has no more
		{waiver.Finding{Rows: 1, Of: 10}, 1, 3000, 1, 0},         // a third of a thousandth is one row, rounded up
		{waiver.Finding{Rows: 12, Of: 300}, 100, 3000, 10, 2},    // 100 of 3,000 are 10 of 300
		{waiver.Finding{Rows: 11, Of: 301}, 100, 3000, 11, 0},    // 10.03 of 301
		{waiver.Finding{Rows: 100, Of: 3000}, 100, 3000, 100, 0}, // as it was
	} {
		got := cover(t, never(t), c.found, waiver.Scope{Count: c.count, Of: c.of})
		if got.Covered != c.covered || got.Beyond != c.more || got.All() != (c.more == 0) {
			t.Errorf("%d of %d, accepted %d of %d: %+v", c.found.Rows, c.found.Of, c.count, c.of, got)
		}
	}
	// Of two numbers the greater counts, and not their sum.
	if got := cover(t, never(t), many(9), waiver.Scope{Count: 2, Of: 3000}, waiver.Scope{Count: 7, Of: 3000}); got.Beyond != 2 {
		t.Errorf("%+v", got)
	}
}

func TestTextsAreAcceptedByTheirValue(t *testing.T) {
	rows := "a,PH,99\nb,PH,99.0\nc,PH,98\nd,PH,n/a\ne,PH,\nf,PH,7\n"
	found := finding(6, 1, 2, 3, 4, 5)
	for _, workers := range []int{1, 8} {
		open := opened(t, rows, workers)
		if got := cover(t, open, found, waiver.Scope{Column: "value", Texts: []string{"99"}}); got.Covered != 2 || got.Beyond != 3 || !slices.Equal(got.First, []uint32{3, 4, 5}) {
			t.Errorf("99 is 99.0: %+v", got)
		}
		if got := cover(t, open, found, waiver.Scope{Column: "value", Texts: []string{""}}, waiver.Scope{Column: "value", Texts: []string{"99", "98"}}); !got.All() || got.Covered != 5 {
			t.Errorf("a missing value is one whatever its mark: %+v", got)
		}
		if got := cover(t, open, found, waiver.Scope{Column: "parameter", Texts: []string{"ph"}}); got.Covered != 0 {
			t.Errorf("another text: %+v", got)
		}
		if got := cover(t, open, found, waiver.Scope{Column: "gone", Texts: []string{"99"}}); got.Covered != 0 {
			t.Errorf("a column that is not there: %+v", got)
		}
		// What is named counts first, a number for what is left.
		if got := cover(t, open, found, waiver.Scope{Column: "value", Texts: []string{"99"}}, waiver.Scope{Count: 2, Of: 6}); got.Covered != 4 || got.Beyond != 1 {
			t.Errorf("%+v", got)
		}
	}
}

func TestRowsAreAcceptedByTheirKeyAndWhatStandsInThem(t *testing.T) {
	ctx := context.Background()
	before := opened(t, "a,PH,99\nb,PH,20\nc,PH,7\nc,PH,7\nc,PH,7\n", 2)
	then, err := before()
	if err != nil {
		t.Fatal(err)
	}
	scope, err := waiver.OfRows(ctx, then, set(1, 2), []string{"id"}, []string{"value"})
	if err != nil {
		t.Fatal(err)
	}
	if raw, _ := json.Marshal(scope); string(raw) != `{"columns":["id","value"],"rows":[{"cells":["a","99"],"times":1},{"cells":["b","20"],"times":1}]}` {
		t.Errorf("%s", raw)
	}
	// The next delivery has them in another order and writing; in one of them something else stands, and there is a new one.
	now := opened(t, "x,PH,50\nb,PH,20.0\na,PH,990\n", 2)
	if got := cover(t, now, finding(3, 1, 2, 3), *scope); got.Covered != 1 || got.Beyond != 2 || !slices.Equal(got.First, []uint32{1, 3}) {
		t.Errorf("%+v", got)
	}
	// Two surplus rows were accepted; a third is beyond.
	twice, err := waiver.OfRows(ctx, then, set(4, 5), []string{"id"}, []string{"id"})
	if err != nil || len(twice.Rows) != 1 || twice.Rows[0].Times != 2 {
		t.Fatalf("%+v, %v", twice, err)
	}
	four := opened(t, strings.Repeat("c,PH,7\n", 4), 2)
	if got := cover(t, four, finding(4, 2, 3, 4), *twice); got.Covered != 2 || got.Beyond != 1 || !slices.Equal(got.First, []uint32{4}) {
		t.Errorf("%+v", got)
	}
	// Where nothing names a row, all that stands in it does.
	whole, err := waiver.OfRows(ctx, then, set(2), nil, nil)
	if err != nil || !slices.Equal(whole.Columns, []string{"id", "parameter", "value"}) {
		t.Errorf("%+v, %v", whole, err)
	}
}

func TestMoreRowsThanCanBeNamedAreRefused(t *testing.T) {
	open := opened(t, strings.Repeat("a,PH,99\n", waiver.Most+1), 2)
	then, _ := open()
	all := table.NewRowSet()
	all.AddRange(1, waiver.Most+2)
	if _, err := waiver.OfRows(context.Background(), then, all, []string{"id"}, nil); err == nil || !strings.Contains(err.Error(), "at most 10,000 rows, and these are 10,001") {
		t.Errorf("%v", err)
	}
}

func TestASentenceIsAcceptedAsItWasSaid(t *testing.T) {
	accepted := waiver.Scope{Says: "The mean of value moved by 12 %."}
	for says, all := range map[string]bool{"The mean of value moved by 12 %.": true, "The mean of value moved by 300 %.": false} {
		if got := cover(t, never(t), waiver.Finding{Says: says, Of: 10}, accepted); got.All() != all || got.Otherwise == all {
			t.Errorf("%s: %+v", says, got)
		}
	}
}

func TestWhatIsWrongWithAScope(t *testing.T) {
	for says, s := range map[string]waiver.Scope{
		"for texts, for rows or for a number of rows": {},
		"one of them":                    {Count: 1, Of: 3, Column: "a", Texts: []string{"b"}},
		"in a column; name it":           {Texts: []string{"b"}},
		"4 rows are accepted of a table": {Count: 4, Of: 3},
		"named by its 1 columns":         {Columns: []string{"a"}, Rows: []waiver.NamedRow{{Cells: []string{"x", "y"}, Times: 1}}},
		"there once at least":            {Columns: []string{"a"}, Rows: []waiver.NamedRow{{Cells: []string{"x"}}}},
	} {
		if err := s.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %s", s, err, says)
		}
	}
	for says, s := range map[string]waiver.Scope{
		`6 texts of unit: "a", "b", "c", "d", "e" and 1 more`: {Column: "unit", Texts: strings.Split("a b c d e f", " ")},
		"3 rows, by id":       {Columns: []string{"id"}, Rows: []waiver.NamedRow{{Cells: []string{"a"}, Times: 1}, {Cells: []string{"b"}, Times: 2}}},
		"1 row of 3,000":      {Count: 1, Of: 3000},
		"what it said: Gone.": {Says: "Gone."},
	} {
		if err := s.Check(); err != nil || s.String() != says {
			t.Errorf("%s, %v", s.String(), err)
		}
	}
}

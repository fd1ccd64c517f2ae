package audit_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// Ten samples, with every kind of fault worked out by hand.
const samples = `sample,parameter,value,taken,received
S-01,PH,7.1,2024-05-01,2024-05-02
S-02,ph,7.2,2024-05-01,2024-05-02
S-03,PH,,2024-05-01,2024-05-02
S-04,XX,7.4,2024-05-01,2024-05-02
S-05,PH,trace,2024-05-01,2024-05-02
S-06,PH,99,2024-05-01,2024-05-02
S-07,PH,7.7,2024-05-03,2024-05-02
S-07,PH,7.8,2024-05-01,2024-05-02
s8,PH,7.9,soon,2024-05-02
S-01,PH,7.1,2024-05-01,2024-05-02
`

func TestEveryKindOfRuleAgainstAHandWorkedTable(t *testing.T) {
	r := audittest.Run(t, samples, audittest.SamplesBook)
	if r.Rows != 10 || r.SetAside != 0 || r.Records != 10 || r.DefectCount != 0 {
		t.Errorf("%d records, %d rows, %d set aside, %d defects", r.Records, r.Rows, r.SetAside, r.DefectCount)
	}
	for _, c := range []struct {
		rule   string
		rows   []uint32
		impact string
	}{
		{"sample.pattern", []uint32{9}, "7.9"},
		{"sample.required", nil, ""},
		{"parameter.spelling", []uint32{2}, "7.2"},
		{"parameter.codes", []uint32{4}, "7.4"},
		{"value.required", []uint32{3}, "0"},
		{"value.type", []uint32{5}, "0"},
		{"value.range", []uint32{6}, "99"},
		{"taken.type", []uint32{9}, "7.9"},
		{"received.type", nil, ""},
		{"one_sample", []uint32{8, 10}, "14.9"}, // 7.8 + 7.1
		{"equal_rows", []uint32{10}, "7.1"},
		{"in_order", []uint32{7}, "7.7"}, // row 9 has no date, so nothing is known of it
		{"acid", []uint32{6}, "99"},      // row 2 is PH in another spelling, and holds
	} {
		f := audittest.Finding(t, r, c.rule)
		got := f.RowSet.ToArray()
		if len(got) != len(c.rows) || !slices.Equal(got, c.rows) && len(c.rows) > 0 || f.Rows != int64(len(c.rows)) ||
			f.Impact["value"] != c.impact {
			t.Errorf("%s: rows %v with an impact of %q, want %v with %q", c.rule, got, f.Impact["value"], c.rows,
				c.impact)
		}
	}
	if r.Sums["value"] != "151.2" { // 7.1 + 7.2 + 7.4 + 99 + 7.7 + 7.8 + 7.9 + 7.1
		t.Errorf("the sum of value is %s, want 151.2", r.Sums["value"])
	}
	if len(r.Rules) != 16 {
		t.Errorf("%d rules were judged", len(r.Rules))
	}
}

func TestScoresAreTheShareOfCellsWithNothingWrong(t *testing.T) {
	r := audittest.Run(t, samples, audittest.SamplesBook)
	for _, c := range []struct {
		name                                                   string
		score, completeness, validity, uniqueness, consistency float64
	}{
		{"sample", 70, 100, 90, 80, 100},    // rows 8, 9, 10
		{"parameter", 70, 100, 90, 100, 80}, // rows 2, 4, and 6 by the rule acid
		{"value", 70, 90, 80, 100, 90},      // rows 3, 5, 6: row 6 is out of range and breaks a rule, and counts once
		{"taken", 80, 100, 90, 100, 90},     // rows 7, 9
		{"received", 90, 100, 100, 100, 90}, // row 7
	} {
		got := audittest.Column(t, r, c.name)
		for what, pair := range map[string][2]float64{"score": {got.Score, c.score},
			"completeness": {got.Completeness, c.completeness},
			"validity":     {got.Validity, c.validity}, "uniqueness": {got.Uniqueness, c.uniqueness},
			"consistency": {got.Consistency, c.consistency}} {
			if math.Abs(pair[0]-pair[1]) > 1e-9 {
				t.Errorf("%s of %s is %v, want %v", what, c.name, pair[0], pair[1])
			}
		}
	}
	if r.Score != 10 { // row 1 alone has nothing wrong
		t.Errorf("the score of the table is %v, want 10", r.Score)
	}
}

func TestPassing(t *testing.T) {
	book := func(mark, severity string) string {
		return "dataset: d\ncolumns:\n  - {name: a, type: integer, severity: " + severity + "}\npass_mark: " + mark +
			"\n"
	}
	for _, c := range []struct {
		name, content, book string
		want                bool
	}{
		{"nothing wrong", "a\n1\n2\n", book("100", "major"), true},
		{"a major rule is broken", "a\n1\nx\n", book("0", "major"), false},
		{"a minor rule above the mark", "a\n1\n2\n3\nx\n", book("75", "minor"), true},
		{"a minor rule below the mark", "a\n1\n2\nx\n", book("75", "minor"), false},
		{"no rows", "a\n", book("100", "major"), true},
		{"the column is not there", "b\n1\n", book("0", "note"), false},
	} {
		if r := audittest.Run(t, c.content, c.book); r.HasPassed() != c.want {
			t.Errorf("%s: passed %v with a score of %v, want %v", c.name, r.HasPassed(), r.Score, c.want)
		}
	}
}

func TestAColumnThatIsNotThere(t *testing.T) {
	r := audittest.Run(t, "a,other\n1,2\n3,4\n",
		"dataset: d\ncolumns:\n  - {name: a}\n  - {name: b, type: integer}\nkeys:\n  - {id: k, columns: [a, b]}\nrules:\n  - {id: r, condition: b > 1}\n")
	f := audittest.Finding(t, r, "b.column")
	if f.Rows != 2 || f.Severity != rulebook.Major || !strings.Contains(f.Found, "no column b") {
		t.Errorf("%+v", f)
	}
	unjudged := 0
	for _, j := range r.Rules {
		if j.Unjudged != "" {
			unjudged++
			if !strings.Contains(j.Unjudged, `no column "b"`) {
				t.Errorf("%s is not judged since %s", j.Rule, j.Unjudged)
			}
		}
	}
	if unjudged != 2 || r.HasPassed() {
		t.Errorf("%d rules unjudged, passed %v", unjudged, r.HasPassed())
	}
	if other := audittest.Column(t, r, "other"); other.Declared || other.Type != table.TypeInteger || other.Sum != "6" {
		t.Errorf("the column that nobody declared: %+v", other)
	}
}

func TestKeysCompareValuesOfNumbersAndDatesAndTextsAsTheyStand(t *testing.T) {
	book := "dataset: d\nreading: {dates: [yyyy-MM-dd, dd/MM/yyyy]}\ncolumns:\n  - {name: n, type: decimal}\n  - {name: d, type: date}\n  - {name: t}\nkeys:\n"
	content := "n,d,t\n1.0,2024-03-01,a\n1,01/03/2024,a\n1.00,2024-03-01,A\n,2024-03-01,a\n,2024-03-01,a\nx,2024-03-01,a\nx,2024-03-01,a\n"
	for key, want := range map[string][]uint32{"[n, d, t]": {2, 7}, "[n, d]": {2, 3, 7}, "[t]": {2, 4, 5, 6, 7}} {
		got := audittest.Finding(t, audittest.Run(t, content, book+"  - {id: k, columns: "+key+"}\n"), "k")
		if !slices.Equal(got.RowSet.ToArray(), want) {
			t.Errorf("surplus of %s: %v, want %v", key, got.RowSet.ToArray(), want)
		}
	}
}

func TestEqualRowsAreEqualInEveryCellAlsoBeyondTheHeader(t *testing.T) {
	r := audittest.Run(t, "a,b\n1,2\n1,2,3\n1,2,3\n1,2\n1, 2\n",
		"dataset: d\ncolumns: [{name: a}, {name: b}]\nequal_rows: {severity: warn}\n")
	if got := audittest.Finding(t, r, "equal_rows").RowSet.ToArray(); !slices.Equal(got, []uint32{3, 4}) {
		t.Errorf("surplus %v, want rows 3 and 4", got)
	}
	for _, c := range r.Columns {
		if c.Score != 100 {
			t.Errorf("equal rows name no column, and %s lost points", c.Name)
		}
	}
	if r.Score != 60 {
		t.Errorf("the table's score is %v, want 60", r.Score)
	}
}

func TestMissingMarksAreCountedApart(t *testing.T) {
	r := audittest.Run(t, "v\n1\n\" \"\nn/a\n-999\n-999\n2\n",
		"dataset: d\nreading: {missing: [n/a, \"-999\"]}\ncolumns:\n  - {name: v, type: integer, required: true}\n")
	c := audittest.Column(t, r, "v")
	if want := map[string]int64{" ": 1, "n/a": 1, "-999": 2}; !reflect.DeepEqual(c.MissingMarks, want) ||
		c.Filled != 2 {
		t.Errorf("marks %v, want %v; %d filled", c.MissingMarks, want, c.Filled)
	}
	if f := audittest.Finding(t, r, "v.required"); f.Rows != 4 || len(f.Texts) != 3 || f.Texts[0].Text != "-999" {
		t.Errorf("%d rows, texts %v", f.Rows, f.Texts)
	}
}

func TestOneWorkerAndEightGiveTheSameBytes(t *testing.T) {
	b := testkit.Book(t, audittest.SamplesBook)
	content := audittest.Random(60_000)
	outcome := func(workers int) (string, string) {
		result, err := audit.Run(context.Background(), testkit.File(t, content, b.Reading), b, workers)
		if err != nil {
			t.Fatal(err)
		}
		raw, err := json.Marshal(result)
		if err != nil {
			t.Fatal(err)
		}
		var rows bytes.Buffer
		if err := result.WriteRows(&rows); err != nil {
			t.Fatal(err)
		}
		return string(raw), rows.String()
	}
	one, oneRows := outcome(1)
	for range 3 {
		if eight, eightRows := outcome(8); eight != one || eightRows != oneRows {
			t.Fatal("the result depends on the number of workers")
		}
	}
}

func TestRowsBehindAnAudit(t *testing.T) {
	r := audittest.Run(t, samples, audittest.SamplesBook)
	var out bytes.Buffer
	if err := r.WriteRows(&out); err != nil {
		t.Fatal(err)
	}
	rows, err := audit.OpenRows(bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		rule, column string
		dimension    rulebook.Dimension
		want         []uint32
	}{
		{"one_sample", "", "", []uint32{8, 10}},
		{"", "value", "", []uint32{3, 5, 6}},
		{"", "value", rulebook.Validity, []uint32{5, 6}},
		{"", "", rulebook.Uniqueness, []uint32{8, 10}},
		{"no_such_rule", "", "", []uint32{}},
		{"acid", "sample", "", []uint32{}},
	} {
		set, err := rows.Where(c.rule, c.column, c.dimension)
		if err != nil {
			t.Fatal(err)
		}
		if got := set.ToArray(); len(got) != len(c.want) || len(got) > 0 && !slices.Equal(got, c.want) {
			t.Errorf("rows where rule %q, column %q, dimension %q: %v, want %v", c.rule, c.column, c.dimension, got,
				c.want)
		}
	}
	if set, err := rows.Where("", "", ""); set != nil || err != nil {
		t.Errorf("nothing asked for is answered with %v, %v", set, err)
	}
	caught, err := rows.Of([]uint32{1, 6, 10})
	if err != nil {
		t.Fatal(err)
	}
	names := func(list []audit.Caught) []string {
		out := []string{}
		for _, c := range list {
			out = append(out, c.Rule)
		}
		slices.Sort(out)
		return out
	}
	if len(caught[1]) != 0 || !slices.Equal(names(caught[6]), []string{"acid", "value.range"}) ||
		!slices.Equal(names(caught[10]), []string{"equal_rows", "one_sample"}) {
		t.Errorf("caught %v", caught)
	}
	if len(rows.Checkpoints) != 1 || rows.Checkpoints[0].Row != 1 {
		t.Errorf("checkpoints %v", rows.Checkpoints)
	}
	if _, err := audit.OpenRows(strings.NewReader("no archive"), 10); err == nil {
		t.Error("something else is opened as the rows of an audit")
	}
}

func TestTheMeshCountsEveryCaughtRowOnce(t *testing.T) {
	r := audittest.Run(t, audittest.Random(5_000), audittest.SamplesBook)
	for _, c := range r.Columns {
		for d, cells := range c.Mesh.Caught {
			var sum uint32
			for _, n := range cells {
				sum += n
			}
			share := map[rulebook.Dimension]float64{rulebook.Completeness: c.Completeness,
				rulebook.Validity: c.Validity, rulebook.Uniqueness: c.Uniqueness,
				rulebook.Consistency: c.Consistency}[d]
			if want := float64(r.Rows) * (100 - share) / 100; math.Abs(float64(sum)-want) > 1e-6 ||
				len(cells) != c.Mesh.Cells {
				t.Errorf("the mesh of %s shows %d rows in %s, want %v", c.Name, sum, d, want)
			}
		}
	}
	for rows, want := range map[int64]int{0: 0, 1: 1, 47: 47, 48: 48, 5_000_000: 48} {
		if got := audit.MeshCells(rows); got != want {
			t.Errorf("%d rows have %d cells, want %d", rows, got, want)
		}
	}
}

func TestDefectsAreCountedAndTheirRowsKept(t *testing.T) {
	r := audittest.Run(t, "a,b\n1,2\n3\n\n4,5,6\n7,8\n", "dataset: d\ncolumns: [{name: a}, {name: b}]\n")
	if r.Rows != 4 || r.SetAside != 1 || r.Records != 5 || r.DefectCount != 2 ||
		r.Defects[0].Kind != table.TooFewCells || r.Defects[1].Line != 5 {
		t.Errorf("%d rows + %d set aside = %d records; defects %v", r.Rows, r.SetAside, r.Records, r.Defects)
	}
}

func TestFindingsAreSentences(t *testing.T) {
	r := audittest.Run(t, samples, audittest.SamplesBook)
	for rule, want := range map[string]string{
		"value.required":     "1 of 10 rows has nothing in value.",
		"value.type":         "1 of 10 rows has something in value that is no decimal.",
		"value.range":        "1 of 10 rows has a value out of range in value.",
		"sample.pattern":     "1 of 10 rows has a text of another form in sample.",
		"parameter.codes":    "1 of 10 rows has something in parameter that is no code of its list.",
		"parameter.spelling": "1 of 10 rows has another spelling of a code in parameter.",
		"one_sample":         "2 of 10 rows are surplus: 2 values of sample occur more than once.",
		"in_order":           "1 of 10 rows breaks the rule received >= taken.",
	} {
		if got := audittest.Finding(t, r, rule).Found; got != want {
			t.Errorf("%s: %q, want %q", rule, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000",
		-100: "-100"} {
		if got := document.Grouped(n); got != want {
			t.Errorf("%d is written %s, want %s", n, got, want)
		}
	}
}

func TestAnAuditCanBeInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	b := testkit.Book(t, audittest.SamplesBook)
	f := testkit.File(t, audittest.Random(100_000), b.Reading)
	f.OnProgress = func(_, rows int64) {
		if rows > 20_000 {
			cancel()
		}
	}
	if _, err := audit.Run(ctx, f, b, 2); !errors.Is(err, context.Canceled) {
		t.Errorf("%v, want %v", err, context.Canceled)
	}
}

// endless is a file that is made while it is read, so that only the reader's own memory counts.
type endless struct {
	rows, next int
	row        func(to *bytes.Buffer, i int)
	buffer     bytes.Buffer
}

func (e *endless) Read(p []byte) (int, error) {
	for e.buffer.Len() < len(p) && e.next < e.rows {
		e.next++
		e.row(&e.buffer, e.next)
	}
	return e.buffer.Read(p)
}

func (e *endless) Close() error { return nil }

// settled audits an endless file of so many rows, and returns the memory that is in use once
// most of it is read. What is under way between the workers comes and goes, so the least of
// several measurements counts.
func settled(t *testing.T, book, header string, rows int, row func(to *bytes.Buffer, i int)) uint64 {
	t.Helper()
	b := testkit.Book(t, book)
	f, err := intake.Open(context.Background(), func(offset int64) (io.ReadCloser, error) {
		e := &endless{rows: rows, row: row}
		e.buffer.WriteString(header + "\n")
		_, err := io.CopyN(io.Discard, e, offset)
		return e, err
	}, b.Reading)
	if err != nil {
		t.Fatal(err)
	}
	least, parts := uint64(math.MaxUint64), 0
	f.OnProgress = func(_, read int64) {
		if parts++; parts%16 != 0 || read < int64(rows)*2/3 {
			return
		}
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		least = min(least, m.HeapAlloc)
	}
	if _, err := audit.Run(context.Background(), f, b, 1); err != nil {
		t.Fatal(err)
	}
	return least
}

// Memory may grow with distinct values up to a cap, and not with rows: more of the
// rows, all of them new keys that do not ascend, take no more.
func TestMemoryDependsOnColumnsAndNotOnRows(t *testing.T) {
	if testing.Short() {
		t.Skip("reads millions of rows")
	}
	defer func(held int) { table.RowsHeld = held }(table.RowsHeld)
	table.RowsHeld = 1 << 18
	row := func(to *bytes.Buffer, i int) {
		fmt.Fprintf(to, "S-%d,PH,%d.%02d,2024-05-01,2024-05-02\n", i^1, i%14, i%100)
	}
	few, many := settled(t, audittest.SamplesBook, "sample,parameter,value,taken,received", 2_400_000, row),
		settled(t, audittest.SamplesBook, "sample,parameter,value,taken,received", 6_000_000, row)
	if many > few+40<<20 { // both are beyond what is held before spilling
		t.Errorf("%d MB for 2,400,000 rows, %d MB for 6,000,000", few>>20, many>>20)
	}
	t.Logf("%d MB for 2,400,000 rows, %d MB for 6,000,000", few>>20, many>>20)
}

// What is known of texts from one stretch to the next is bounded by their bytes, too.
func TestMemoryDoesNotGrowWithLongTexts(t *testing.T) {
	if testing.Short() {
		t.Skip("reads many megabytes")
	}
	row := func(to *bytes.Buffer, i int) { fmt.Fprintf(to, "%d,%0900d\n", i, i*2/5) }
	const book = "dataset: remarks\ncolumns:\n  - {name: id}\n"
	few, many := settled(t, book, "id,remark", 60_000, row), settled(t, book, "id,remark", 300_000, row)
	if many > few+40<<20 {
		t.Errorf("%d MB for 60,000 rows, %d MB for 300,000", few>>20, many>>20)
	}
	t.Logf("%d MB for 60,000 rows, %d MB for 300,000", few>>20, many>>20)
}

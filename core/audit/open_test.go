package audit_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// column writes a table of one column, and a second one that is never blank.
func column(cells []string) string {
	var b strings.Builder
	b.WriteString("c,row\n")
	for i, cell := range cells {
		fmt.Fprintf(&b, "%s,r%d\n", cell, i)
	}
	return b.String()
}

func repeat(n int, cell func(i int) string) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = cell(i)
	}
	return out
}

// undeclared audits a text that nobody declared anything about.
func undeclared(t *testing.T, content string) *audit.Result {
	t.Helper()
	d, err := detect.Detect(t.Context(), testkit.Opener([]byte(content)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	r, err := audit.Run(context.Background(), d.File, rulebook.Draft("d", d, d.File.Columns()), 2)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// A column that nobody declared is of the narrowest type that all its values are of; else of the one that nine in
// ten are of, with every exception named; else it is text. What its beginning looks like decides nothing.
func TestWhatNobodyDeclaredIsReadByAllOfItsValues(t *testing.T) {
	whole := func(i int) string { return fmt.Sprint(i + 1) }
	long := func(first, then func(i int) string) []string { // the beginning is what a first look sees
		return append(repeat(90_000, first), repeat(60_000, then)...)
	}
	for _, c := range []struct {
		name       string
		cells      []string
		is         table.Type
		sum        string
		exceptions int64
	}{
		{"integers", repeat(20, whole), table.TypeInteger, "210", 0},
		{"two decimals among integers", append(repeat(18, whole), "10.75", "20.75"), table.TypeDecimal, "202.5", 0},
		{"decimals that are whole", repeat(20, func(i int) string { return fmt.Sprint(i, ".0") }), table.TypeInteger,
			"190", 0},
		{"nine in ten numbers", append(repeat(18, whole), "dry", "frozen"), table.TypeInteger, "171", 2},
		{"fewer than nine in ten", append(repeat(17, whole), "dry", "frozen"), table.TypeText, "", 0},
		{"codes with zeros before", repeat(20, func(i int) string { return fmt.Sprintf("%05d", i*997) }),
			table.TypeText, "", 0},
		{"numbers of one length, one with a zero before", append(repeat(50, func(i int) string {
			return fmt.Sprint(100 + i)
		}), "007"), table.TypeText, "", 0},
		{"a zero before one of many numbers", append(repeat(30, whole), "007"), table.TypeInteger, "465", 1},
		{"dates", repeat(20, func(i int) string { return fmt.Sprintf("2024-05-%02d", i+1) }), table.TypeDate, "", 0},
		{"times", repeat(20, func(i int) string { return fmt.Sprintf("2024-05-%02d 10:00", i+1) }),
			table.TypeDateTime, "", 0},
		{"words for true and false", repeat(20, func(i int) string { return []string{"yes", "no"}[i%2] }),
			table.TypeBoolean, "", 0},
		{"nothing", repeat(20, func(int) string { return "" }), table.TypeText, "", 0},
		{"decimals far down", long(whole, func(int) string { return "0.5" }), table.TypeDecimal, "4050075000", 0},
		{"words far down", long(whole, func(i int) string { return fmt.Sprint("word ", i) }), table.TypeText, "", 0},
		{"words first, few", append(repeat(30_000, func(i int) string { return fmt.Sprint("w", i) }),
			repeat(400_000, whole)...), table.TypeInteger, "80000200000", 30_000},
		{"nothing first", long(func(int) string { return "" }, whole), table.TypeInteger, "1800030000", 0},
		{"dates after nothing", long(func(int) string { return "" },
			func(i int) string { return fmt.Sprintf("2024-05-%02d", i%28+1) }), table.TypeDate, "", 0},
		{"zeros before far down", long(whole, func(i int) string { return fmt.Sprintf("0%d", i) }), table.TypeText, "",
			0},
	} {
		content := column(c.cells)
		check := func(how string, r *audit.Result) {
			t.Helper()
			got := audittest.Column(t, r, "c")
			if got.Type != c.is || got.Sum != c.sum || got.Mistyped != c.exceptions || got.Declared {
				t.Errorf("%s, %s: a %s with the sum %q and %d exceptions, want a %s, %q and %d", c.name, how, got.Type,
					got.Sum, got.Mistyped, c.is, c.sum, c.exceptions)
			}
			if read := r.Book().Column("c"); read.Type != c.is || !read.Open {
				t.Errorf("%s, %s: read as %s", c.name, how, read.Type)
			}
		}
		check("without a rulebook", undeclared(t, content))
		check("beside what is declared", audittest.Run(t, content, "dataset: d\ncolumns: [{name: row, required: true}]\n"))
	}
}

func inJSON(t *testing.T, r *audit.Result) string {
	t.Helper()
	raw, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// asked counts how often the cells of each column are taken out of a part.
type asked struct {
	table.Source
	times []atomic.Int64
}

func (a *asked) Open(ctx context.Context) (table.Parts, error) {
	parts, err := a.Source.Open(ctx)
	return askedParts{parts, a}, err
}

type askedParts struct {
	table.Parts
	of *asked
}

func (p askedParts) Next() (table.Part, error) {
	part, err := p.Parts.Next()
	return askedPart{part, p.of}, err
}

type askedPart struct {
	table.Part
	of *asked
}

func (p askedPart) Batch(shared []*table.Dictionary) (*table.Batch, error) {
	if first, _ := p.Span(); first > 50_000 { // beyond what a first look sees
		for c := range p.of.times {
			if shared == nil || shared[c] != nil {
				p.of.times[c].Add(1)
			}
		}
	}
	return p.Part.Batch(shared)
}

// Where the end of a column decides otherwise than its beginning, it alone is read once more; what is found is the same as where it is
// read so from the beginning.
func TestOnlyWhatIsReadOtherwiseIsReadOnceMore(t *testing.T) {
	var b strings.Builder
	b.WriteString("visit,at,level,by\n")
	for i := range 120_000 {
		at, level := fmt.Sprintf("%02d/09/2001 0%d:15", 1+i%9, i%10), strconv.Itoa(i%700)
		if i > 80_000 { // now either may be the day
			at = fmt.Sprintf("%02d/10/2001 0%d:15", 1+i%9, i%10)
		}
		if i > 100_000 {
			level = "dry " + strconv.Itoa(i%5)
		}
		fmt.Fprintf(&b, "%d,%s,%s,%s\n", i, at, level, []string{"", "red", "blue"}[i%3])
	}
	for _, c := range []struct {
		name, book string
	}{
		{"nothing asked", "columns: [{name: visit}]\n"},
		{"another column declared", "columns: [{name: visit, type: integer, from: 0, required: true}]\nkeys: [{id: one, columns: [visit]}]\nequal_rows: {severity: minor}\n"},
	} {
		book, err := rulebook.Parse([]byte("dataset: visits\n" + c.book))
		if err != nil {
			t.Fatal(err)
		}
		file, err := intake.Open(t.Context(), testkit.Opener([]byte(b.String())), intake.Reading{}.WithDefaults())
		if err != nil {
			t.Fatal(err)
		}
		source := &asked{file, make([]atomic.Int64, 4)}
		got, err := audit.Run(t.Context(), source, book, 2)
		if err != nil {
			t.Fatal(err)
		}
		if is := audittest.Column(t, got, "level").Type; is != table.TypeText {
			t.Errorf("%s: level is read as %s", c.name, is)
		}
		visit, level := source.times[0].Load(), source.times[2].Load()
		if visit == 0 || level != 2*visit {
			t.Errorf("%s: visit was taken %d times, level %d times", c.name, visit, level)
		}
		again, err := audit.Run(t.Context(), file, got.Book(), 2)
		if err != nil {
			t.Fatal(err)
		}
		if mine, theirs := inJSON(t, got), inJSON(t, again); mine != theirs {
			t.Errorf("%s: read once more it says\n%s\nand read so from the beginning\n%s", c.name, mine, theirs)
		}
	}
}

// A table about which nothing was declared has no verdict.
func TestNothingDeclaredNoVerdict(t *testing.T) {
	r := undeclared(t, "a,b\n1,x\n2,\nthree,y\n")
	if r.Passed != nil || r.FellShort() || r.HasPassed() || len(r.Findings) != 0 {
		t.Errorf("passed %v with %d findings", r.Passed, len(r.Findings))
	}
	if r := audittest.Run(t, "a\n1\n", "dataset: d\ncolumns: [{name: a}]\n"); !r.HasPassed() {
		t.Error("a table with the column that was declared did not pass")
	}
}

// Which of day and month comes first is decided by all dates of a column, however it begins.
func TestTheOrderOfDayAndMonthIsDecidedByAllDates(t *testing.T) {
	either := func(i int) string { return fmt.Sprintf("%02d/%02d/2024", i%12+1, (i/12)%12+1) }
	dayFirst := func(i int) string { return fmt.Sprintf("%02d/%02d/2024", i%28+1, i%12+1) }
	monthFirst := func(i int) string { return fmt.Sprintf("%02d/%02d/2024", i%12+1, i%28+1) }
	for _, c := range []struct {
		name       string
		cells      []string
		is         table.Type
		dates      string
		exceptions int64
	}{
		{"decided at once", repeat(100, dayFirst), table.TypeDate, "dd/MM/yyyy", 0},
		{"decided far down", append(repeat(40_000, either), repeat(40_000, dayFirst)...), table.TypeDate, "dd/MM/yyyy",
			0},
		{"decided far down, the other way", append(repeat(40_000, either), repeat(40_000, monthFirst)...),
			table.TypeDate, "MM/dd/yyyy", 0},
		{"never decided", repeat(40_000, either), table.TypeText, "", 0},
		{"the second half is the other way round", append(repeat(40_000, dayFirst), repeat(40_000, monthFirst)...),
			table.TypeText, "", 0},
		{"one slip among many", append(repeat(1000, dayFirst), "05/31/2024"), table.TypeDate, "dd/MM/yyyy", 1},
		{"the beginning misleads", append(repeat(2_000, dayFirst), repeat(80_000, monthFirst)...), table.TypeDate,
			"MM/dd/yyyy", 1136},
		{"with a time", repeat(100, func(i int) string { return dayFirst(i) + " 8:30" }), table.TypeDateTime,
			"dd/MM/yyyy H:mm", 0},
		{"ISO, months alone", repeat(24, func(i int) string { return fmt.Sprintf("2024-%02d-01", i%12+1) }),
			table.TypeDate, "yyyy-MM-dd", 0},
		{"names of months", repeat(100, func(i int) string { return fmt.Sprintf("%02d-Mar-24", i%28+1) }),
			table.TypeDate, "dd-MMM-yy", 0},
		{"offsets", repeat(100, func(i int) string { return fmt.Sprintf("2024-05-%02dT10:00:00+02:00", i%28+1) }),
			table.TypeDateTime, "yyyy-MM-dd'T'HH:mm:ssX", 0},
	} {
		r := undeclared(t, column(c.cells))
		got, read := audittest.Column(t, r, "c"), r.Book().Column("c")
		if got.Type != c.is || strings.Join(read.Dates, " ") != c.dates || got.Mistyped != c.exceptions {
			t.Errorf("%s: %s by %v with %d exceptions, want %s by %q with %d", c.name, got.Type, read.Dates, got.Mistyped,
				c.is, c.dates, c.exceptions)
		}
	}
}

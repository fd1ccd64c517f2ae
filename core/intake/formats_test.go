package intake

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"proudsieve/core/table"
)

func inMemory(content string) Opener {
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(content[offset:])), nil
	}
}

func TestRecordsOfJSON(t *testing.T) {
	for _, c := range []struct {
		line  string
		cells string // path=text, in the order met
		wrong string // part of the error
	}{
		{`{}`, "", ""},
		{`{"a":1,"b":"x"}`, "a=1|b=x", ""},
		{` { "a" : 1.50 , "b" : null } `, "a=1.50", ""},
		{`{"a":{"b":{"c":true}},"d":false}`, "a.b.c=true|d=false", ""},
		{`{"a":[1,[2,{"x":"}"}]],"b":2}`, `a=[1,[2,{"x":"}"}]]|b=2`, ""},
		{`{"a":"\"\\\/\b\f\n\r\t"}`, "a=\"\\/\b\f\n\r\t", ""},
		{`{"a":"\u00e9\ud83d\ude00\ud83d"}`, "a=é😀\uFFFD", ""},
		{`{"a":-0.5e+3,"b":0}`, "a=-0.5e+3|b=0", ""},
		{`[1]`, "", "no object"},
		{`{"a":01}`, "", "no value"},
		{`{"a":.5}`, "", "no value"},
		{`{"a":1.}`, "", "no value"},
		{`{"a":tru}`, "", "character 6: this is no value"},
		{`{"a" 1}`, "", "character 6: a colon"},
		{`{"a":1,}`, "", "name in quotes"},
		{`{"a":1 "b":2}`, "", "comma or a closing brace"},
		{`{"a":1`, "", "comma or a closing brace"},
		{`{"a":"x`, "", "not closed"},
		{`{"a":"x\`, "", "not closed"},
		{`{"a":"\x"}`, "", "escape"},
		{`{"a":"\u12g4"}`, "", "four hexadecimal"},
		{"{\"a\":\"\x01\"}", "", "control character"},
		{`{"a":1} x`, "", "something follows"},
		{`{"a":[1 2]}`, "", "closing bracket"},
		{`{"a":[`, "", "not closed"},
		{strings.Repeat(`{"a":`, 70) + "1" + strings.Repeat("}", 70), "", "64 deep"},
		{`{"a":` + strings.Repeat("[", 70) + strings.Repeat("]", 70) + "}", "", "64 deep"},
	} {
		var cells, paths []string
		_, err := parseRecord([]byte(c.line), func(path string) (int, error) {
			paths = append(paths, path)
			return len(paths) - 1, nil
		}, func(at int, text string) { cells = append(cells, paths[at]+"="+text) })
		switch {
		case c.wrong == "" && (err != nil || strings.Join(cells, "|") != c.cells):
			t.Errorf("%s: %q, %v; want %q", c.line, cells, err, c.cells)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)):
			t.Errorf("%s: the error is %v, want %q", c.line, err, c.wrong)
		}
	}
}

func TestAMemberGivenTwiceIsNamed(t *testing.T) {
	repeated, err := parseRecord([]byte(`{"a":1,"b":{"c":1,"c":2},"a":3}`), func(path string) (int, error) {
		return slices.Index([]string{"a", "b.c"}, path), nil
	}, func(int, string) {})
	if err != nil || !slices.Equal(repeated, []string{"b.c", "a"}) {
		t.Errorf("%v, %v", repeated, err)
	}
}

func TestLinesOfJSONAreThoseOfTheFile(t *testing.T) {
	f, err := Open(context.Background(), inMemory("{\"a\":1}\n\n\n{\"a\":\"two\\nlines\"}\nbroken\n{\"a\":4}\n"), Reading{HeaderLine: NoHeader}.WithDefaults())
	if err != nil {
		t.Fatal(err)
	}
	p, err := f.Open(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	part, err := p.Next()
	if err != nil {
		t.Fatal(err)
	}
	b, err := part.Batch(nil)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(b.Lines, []int64{1, 4, 5, 6}) || b.SetAside != 2 {
		t.Errorf("rows stand on the lines %v, with %d set aside", b.Lines, b.SetAside)
	}
	if len(b.Defects) != 1 || b.Defects[0].Kind != table.BrokenRecord || b.Defects[0].Line != 5 || b.Surplus[2][0] != "broken" {
		t.Errorf("%+v, beyond the columns %v", b.Defects, b.Surplus)
	}
}

func TestDateFormatsOfWorkbooks(t *testing.T) {
	for code, want := range map[string]bool{
		"yyyy-mm-dd": true, "d/m/yy h:mm": true, "[$-409]mmmm d, yyyy": true, "[h]:mm:ss": true, "[Red]0.00": false, "0.00": false, "General": false,
		`0.0" days"`: false, `#,##0\ "m³"`: false, "@": false, "0.00;[Red]-0.00": false, `"yyyy"0`: false,
	} {
		if got := isDateFormat(code); got != want {
			t.Errorf("%q shows dates: %v, want %v", code, got, want)
		}
	}
}

func TestValuesOfWorkbooks(t *testing.T) {
	b := &bookParts{shared: []string{"x", "12.5", " 7"}, dates: []bool{false, true}}
	b.from = dateOf("1899-12-30")
	for _, c := range []struct {
		kind, raw, style, want string
		asText                 bool
	}{
		{"", "1", "0", "1", false}, {"", "0.30000000000000004", "0", "0.3", false}, {"", "1.5E-3", "0", "0.0015", false}, {"", "123456789012345678", "0", "123456789012346000", false},
		{"s", "0", "", "x", false}, {"s", "1", "", "12.5", true}, {"s", "2", "", " 7", true}, {"b", "1", "", "true", false}, {"e", "#N/A", "", "#N/A", false},
		{"str", "y", "", "y", false}, {"", "45351", "1", "2024-02-29", false}, {"", "45351.5", "1", "2024-02-29 12:00:00", false}, {"", "0.25", "1", "06:00:00", false},
		{"", "1", "1", "1900-01-01", false}, {"", "61", "1", "1900-03-01", false}, {"", "-1", "1", "-1", false}, {"", "", "1", "", false}, {"d", "2024-02-29T00:00:00", "", "2024-02-29", false},
	} {
		got, err := b.value(sheetCell{}, c.kind, c.raw, c.style)
		if err != nil || got.text != c.want || got.numberAsText != c.asText {
			t.Errorf("%q of kind %q: %+v, %v; want %q, as text %v", c.raw, c.kind, got, err, c.want, c.asText)
		}
	}
	for _, raw := range []string{"3", "-1", "x"} {
		if _, err := b.value(sheetCell{}, "s", raw, ""); !errors.Is(err, ErrWorkbook) {
			t.Errorf("the shared text %q: %v", raw, err)
		}
	}
}

func TestPlacesOfCells(t *testing.T) {
	for ref, want := range map[string][3]int{"A1": {0, 1, 1}, "Z9": {25, 9, 1}, "AA10": {26, 10, 1}, "XFD1048576": {16383, 1048576, 1}, "1": {-1, 1, 0}, "A": {0, 0, 0}, "": {-1, 0, 0}} {
		column, row, ok := cellPlace(ref)
		if column != want[0] || row != want[1] || ok != (want[2] == 1) {
			t.Errorf("%q is column %d, row %d, %v", ref, column, row, ok)
		}
	}
}

func TestClosingLinesAreSetAsideWhereverTheyFall(t *testing.T) {
	for _, rows := range []int{0, 1, 5, 30_000} { // within one part, and in several
		for _, closing := range []int{1, 3} {
			content := "a,b\n" + strings.Repeat("row,1\n", rows) + strings.Repeat("closing,\n", closing) + "\n"
			f, err := Open(context.Background(), inMemory(content), Reading{ClosingLines: closing}.WithDefaults())
			if err != nil {
				t.Fatal(err)
			}
			got, setAside := 0, int64(0)
			err = table.Scan(context.Background(), f, 2, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
				for i := range b.Rows {
					got++
					if b.Columns[0].At(i) != "row" || b.Lines[i] != int64(got)+1 {
						t.Fatalf("row %d is %q on line %d", got, b.Columns[0].At(i), b.Lines[i])
					}
				}
				setAside += b.SetAside
				return nil
			})
			if err != nil || got != rows || setAside != int64(closing)+1 {
				t.Errorf("%d rows and %d closing lines: %d rows, %d set aside, %v", rows, closing, got, setAside, err)
			}
		}
	}
}

func TestFormatsAreKnownByTheirContent(t *testing.T) {
	for content, want := range map[string]Format{
		"a,b\n1,2\n": Delimited, "": Delimited, "{\"a\":1}\n": JSONLines, "\ufeff  {\"a\" :1}": JSONLines, "{}": JSONLines, "{x},y\n": Delimited, "{\"a\",1\n": Delimited,
		"[{\"a\":1}]": JSONArray, "[]": JSONArray, "[1,2]": Delimited, "[section]\na=1\n": Delimited, "PAR1xxx": Parquet, "{\"a\\\"b\": 1}": JSONLines,
	} {
		if got := formatOf([]byte(content)); got != want {
			t.Errorf("%q is %s, want %s", content, got, want)
		}
	}
}

func TestTheDeclaredFormatCounts(t *testing.T) {
	c, err := look(context.Background(), ending(inMemory("{\"a\":1}\n")), Reading{Format: Delimited})
	if err != nil || c.format != Delimited {
		t.Errorf("%s, %v", c.format, err)
	}
	if _, err := look(context.Background(), ending(inMemory("a,b\n")), Reading{Format: Parquet}); !errors.Is(err, ErrFormat) {
		t.Errorf("%v", err)
	}
}

func columnOf(texts ...string) *table.Batch {
	b := &table.Batch{Columns: []table.Column{{}}}
	for i, text := range texts {
		b.Columns[0].Texts = append(b.Columns[0].Texts, text)
		b.Columns[0].Codes = append(b.Columns[0].Codes, uint32(i))
		b.Rows = append(b.Rows, uint32(i)+1)
	}
	return b
}

func TestDatesAreDecidedAmbiguousOrMixed(t *testing.T) {
	for _, c := range []struct {
		name     string
		texts    []string
		status   string
		patterns []PatternFit
		both     int
		row      uint32
	}{
		{"decided by the third row", []string{"01/02/2024", "03/04/2024", "29/02/2024"}, DatesDecided, []PatternFit{{"dd/MM/yyyy", 3}}, 0, 3},
		{"the same day either way decides nothing and harms nothing", []string{"01/01/2024", "29/02/2024"}, DatesDecided, []PatternFit{{"dd/MM/yyyy", 2}}, 0, 1},
		{"either way", []string{"01/02/2024", "03/04/2024"}, DatesAmbiguous, []PatternFit{{"dd/MM/yyyy", 2}, {"MM/dd/yyyy", 2}}, 0, 0},
		{"mixed", []string{"29/02/2024", "02/28/2024", "02/27/2024", "03/04/2024"}, DatesMixed, []PatternFit{{"MM/dd/yyyy", 2}, {"dd/MM/yyyy", 1}}, 1, 0},
		{"two ways that cannot be confused", []string{"2024-02-29", "29/02/2024", "2024-03-01"}, DatesMixed, []PatternFit{{"yyyy-MM-dd", 2}, {"dd/MM/yyyy", 1}}, 0, 0},
	} {
		e := columnEvidence("day", columnOf(c.texts...), 0)
		if e.Dates == nil {
			t.Errorf("%s: no dates", c.name)
			continue
		}
		if e.Dates.Status != c.status || !slices.Equal(e.Dates.Patterns, c.patterns) || e.Dates.Both != c.both || e.Dates.DecidedRow != c.row {
			t.Errorf("%s: %+v", c.name, *e.Dates)
		}
	}
	if e := columnEvidence("n", columnOf("1.5", "2.5", "2024-02-29"), 0); e.Dates != nil || e.Numbers == nil {
		t.Errorf("a date among numbers: %+v", e)
	}
}

func TestMarksOfNumbers(t *testing.T) {
	for _, c := range []struct {
		texts             []string
		decimal, grouping string
		confidence        Confidence
		row               uint32
	}{
		{[]string{"1.5", "2.25"}, ".", "", Certain, 1},
		{[]string{"1,5", "2,25"}, ",", "", Certain, 1},
		{[]string{"1.234,5", "2"}, ",", ".", Certain, 1},
		{[]string{"1,234", "2,345"}, ",", "", Ambiguous, 0},
		{[]string{"1,234", "2,345", "1,234,567"}, ".", ",", Certain, 3},
		{[]string{"1 234,5", "7,25"}, ",", " ", Certain, 1},
		{[]string{"12", "13"}, ".", "", Certain, 0},
		{[]string{"1.5", "2.5", "3.5", "4,5"}, ".", "", Likely, 1},
	} {
		e := columnEvidence("n", columnOf(c.texts...), 0)
		if m := e.Numbers; m == nil || m.DecimalMark != c.decimal || m.GroupingMark != c.grouping || m.Confidence != c.confidence || m.DecidedRow != c.row {
			t.Errorf("%q: %+v", c.texts, e.Numbers)
		}
	}
}

func TestPackedFilesThatGrowWithoutEndAreRefused(t *testing.T) {
	u := &unpacked{Reader: zeros{}, read: func() int64 { return 1000 }, close: func() {}}
	n, err := io.Copy(io.Discard, u)
	if !errors.Is(err, ErrTooLarge) || n > packedAlways+1<<20 {
		t.Errorf("%d bytes, %v", n, err)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

func TestBrokenZipsAreSaidToBe(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("PK\x03\x04 and nothing more")
	if _, err := look(context.Background(), ending(inMemory(b.String())), Reading{}); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("%v", err)
	}
}

func dateOf(text string) time.Time {
	when, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return when
}

package intake_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/intake/detect"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

type cells = [][]string

func TestReadingDelimitedText(t *testing.T) {
	semicolons := intake.Reading{Delimiter: ";"}
	for _, c := range []struct {
		name    string
		reading intake.Reading
		text    string
		columns string // joined by |
		want    cells
		defects string // "kind line column", joined by ;
		aside   int64
	}{
		{name: "plain", text: "a,b\n1,2\n3,4\n", columns: "a|b", want: cells{{"1", "2"}, {"3", "4"}}},
		{name: "no line end at the end", text: "a,b\n1,2", columns: "a|b", want: cells{{"1", "2"}}},
		{name: "CR LF", text: "a,b\r\n1,2\r\n", columns: "a|b", want: cells{{"1", "2"}}},
		{name: "mixed line ends", text: "a,b\r\n1,2\n3,4\r\n", columns: "a|b", want: cells{{"1", "2"}, {"3", "4"}}},
		{name: "CR alone", text: "a,b\r1,2\r", columns: "a|b", want: cells{{"1", "2"}}},
		{name: "a byte order mark", text: "\ufeffa,b\n1,2\n", columns: "a|b", want: cells{{"1", "2"}}},
		{name: "header only", text: "a,b\n", columns: "a|b", want: cells{}},
		{name: "semicolons", reading: semicolons, text: "a;b\n1,5;2\n", columns: "a|b", want: cells{{"1,5", "2"}}},
		{name: "tabs", reading: intake.Reading{Delimiter: "\t"}, text: "a\tb\n\t\n1\t2\n", columns: "a|b",
			want: cells{{"", ""}, {"1", "2"}}},
		{name: "quotes", text: "a,b\n\"1,2\",\"say \"\"hi\"\"\"\n", columns: "a|b", want: cells{{"1,2", `say "hi"`}}},
		{name: "a line end within quotes", text: "a,b\n\"1\n2\",3\n4,5\n", columns: "a|b",
			want: cells{{"1\n2", "3"}, {"4", "5"}}},
		{name: "an empty quoted cell", text: "a\n\"\"\nx\n", columns: "a", want: cells{{""}, {"x"}}},
		{name: "another quote", reading: intake.Reading{Quote: "'"}, text: "a,b\n'1,2',\"3\n", columns: "a|b",
			want: cells{{"1,2", `"3`}}},
		{name: "no quoting", reading: intake.Reading{Quote: "none"}, text: "a,b\n\"1,2\n", columns: "a|b",
			want: cells{{`"1`, "2"}}},
		{name: "spaces stay", text: "a,b\n 1 ,  \n", columns: "a|b", want: cells{{" 1 ", "  "}}},
		{name: "blank lines are set aside", text: "a,b\n\n1,2\n   \n3,4\n\n", columns: "a|b",
			want: cells{{"1", "2"}, {"3", "4"}}, aside: 3},
		{name: "lines before the header", reading: intake.Reading{HeaderLine: 3}, text: "Export\n\na,b\n1,2\n",
			columns: "a|b", want: cells{{"1", "2"}}, aside: 2},
		{name: "no header", reading: intake.Reading{HeaderLine: intake.NoHeader}, text: "1,2\n3,4\n",
			columns: "column_1|column_2", want: cells{{"1", "2"}, {"3", "4"}}},
		{name: "too few cells", text: "a,b,c\n1,2\n", columns: "a|b|c", want: cells{{"1", "2", ""}},
			defects: "too_few_cells 2 "},
		{name: "too many cells", text: "a,b\n1,2,3,4\n", columns: "a|b", want: cells{{"1", "2"}},
			defects: "too_many_cells 2 "},
		{name: "a quote within a cell", text: "a,b\n5\" pipe,2\n", columns: "a|b", want: cells{{`5" pipe`, "2"}},
			defects: "broken_quote 2 a"},
		{name: "text after a closing quote", text: "a,b\n\"1\"x,2\n", columns: "a|b", want: cells{{`"1"x`, "2"}},
			defects: "broken_quote 2 a"},
		{name: "a quote never closed", text: "a,b\n\"1,2\n3,4\n5,6\n", columns: "a|b",
			want: cells{{`"1`, "2"}, {"3", "4"}, {"5", "6"}}, defects: "open_quote 2 a"},
		{name: "a quote closed by the next one's opening", text: "a,b\n\"1,2\n\"3\",4\n", columns: "a|b",
			want: cells{{`"1`, "2"}, {"3", "4"}}, defects: "open_quote 2 a"},
		{name: "an open quote in the last line", text: "a,b\n1,\"2\n", columns: "a|b", want: cells{{"1", `"2`}},
			defects: "open_quote 2 b"},
		{name: "bytes that are no UTF-8", text: "a,b\nx\xffy,2\n", columns: "a|b", want: cells{{"x\ufffdy", "2"}},
			defects: "undecodable_bytes 2 a"},
		{name: "a NUL later on", text: "a,b\n" + strings.Repeat("1,2\n", 3000) + "x\x00,2\n", columns: "a|b",
			defects: "nul_byte 3002 a"},
		{name: "windows-1252", reading: intake.Reading{Encoding: "windows-1252"}, text: "a,b\n\xb5S,caf\xe9\n",
			columns: "a|b", want: cells{{"µS", "café"}}},
		{name: "a hole in windows-1252", reading: intake.Reading{Encoding: "windows-1252"}, text: "a,b\n\x81,1\n",
			columns: "a|b", want: cells{{"\ufffd", "1"}}, defects: "undecodable_bytes 2 a"},
		{name: "iso-8859-15", reading: intake.Reading{Encoding: "iso-8859-15"}, text: "a,b\n\xa4,1\n", columns: "a|b",
			want: cells{{"€", "1"}}},
		{name: "blank and repeated names", text: "a,,a, b \n1,2,3,4\n", columns: "a|column_2|a_2|b",
			want: cells{{"1", "2", "3", "4"}}, defects: "blank_column_name 1 column_2;repeated_column_name 1 a_2"},
		{name: "names of before", text: "a, b,c\n1,2,3\n", columns: "a|value|c", want: cells{{"1", "2", "3"}},
			reading: intake.Reading{Renamed: map[string]string{"b": "value", "x": "y"}}},
		{name: "a name of before beside the one of now", text: "b,value\n1,2\n", columns: "b|value", want: cells{{"1", "2"}},
			reading: intake.Reading{Renamed: map[string]string{"b": "value"}}},
		{name: "two names of before of one column", text: "b,c\n1,2\n", columns: "value|c", want: cells{{"1", "2"}},
			reading: intake.Reading{Renamed: map[string]string{"b": "value", "c": "value"}}},
		{name: "a repeated name that is taken", text: "a,a_2,a\n1,2,3\n", columns: "a|a_2|a_3",
			want: cells{{"1", "2", "3"}}, defects: "repeated_column_name 1 a_3"},
		{name: "a quoted header over two lines", text: "\"a\nb\",c\n1,2\n", columns: "a\nb|c", want: cells{{"1", "2"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := testkit.File(t, c.text, c.reading)
			if got := strings.Join(f.Columns(), "|"); got != c.columns {
				t.Errorf("columns %q, want %q", got, c.columns)
			}
			got := testkit.All(t, f, 2)
			if c.want != nil && !reflect.DeepEqual(got.Cells, c.want) {
				t.Errorf("cells %q, want %q", got.Cells, c.want)
			}
			places := []string{}
			for _, d := range got.Defects {
				places = append(places, fmt.Sprintf("%s %d %s", d.Kind, d.Line, d.Column))
			}
			if s := strings.Join(places, ";"); s != c.defects {
				t.Errorf("defects %q, want %q", s, c.defects)
			}
			if got.SetAside != c.aside {
				t.Errorf("%d lines set aside, want %d", got.SetAside, c.aside)
			}
		})
	}
}

func TestCellsBeyondTheHeaderStayWithTheirRow(t *testing.T) {
	got := testkit.All(t, testkit.File(t, "a,b\n1,2\n3,4,five,six\n", intake.Reading{}), 1)
	if want := []string{"five", "six"}; !slices.Equal(got.Surplus[2], want) || len(got.Surplus) != 1 {
		t.Errorf("surplus %v, want %v in row 2", got.Surplus, want)
	}
	if d := got.Defects[0]; !strings.Contains(d.Detail, "five | six") || d.Row != 2 {
		t.Errorf("the defect says %+v", d)
	}
}

func TestLinesAndRowsAreNumberedAcrossQuotedLineEnds(t *testing.T) {
	got := testkit.All(t, testkit.File(t, "a,b\n\"x\ny\nz\",1\n\n2,3\n", intake.Reading{}), 1)
	if !slices.Equal(got.Lines, []int64{2, 6}) || !slices.Equal(got.Rows, []uint32{1, 2}) {
		t.Errorf("rows %v on lines %v", got.Rows, got.Lines)
	}
}

func TestUTF16BothWays(t *testing.T) {
	for name, order := range map[string]unicode.Endianness{"utf-16le": unicode.LittleEndian,
		"utf-16be": unicode.BigEndian} {
		encoded, err := unicode.UTF16(order, unicode.UseBOM).NewEncoder().String("Maß,µ\n1,2\n3,„x“\n")
		if err != nil {
			t.Fatal(err)
		}
		got := testkit.All(t, testkit.File(t, encoded, intake.Reading{Encoding: name}), 2)
		if want := (cells{{"1", "2"}, {"3", "„x“"}}); !reflect.DeepEqual(got.Cells, want) {
			t.Errorf("%s: %q", name, got.Cells)
		}
		if got.Checkpoints[0].Offset != -1 {
			t.Errorf("%s: reading claims to resume at %d", name, got.Checkpoints[0].Offset)
		}
	}
}

// generated is a file of several parts with quotes, line ends and broken records in it.
func generated(rows int) string {
	r := rand.New(rand.NewPCG(5, 6))
	var b strings.Builder
	b.WriteString("id,text,number\n")
	for i := range rows {
		switch r.IntN(40) {
		case 0:
			fmt.Fprintf(&b, "%d,\"several\nlines, and a \"\"quote\"\"\",%d\n", i, i*7)
		case 1:
			fmt.Fprintf(&b, "%d,short\n", i)
		case 2:
			fmt.Fprintf(&b, "%d,5\" pipe,%d,surplus\n", i, i)
		case 3:
			b.WriteString("\n")
		default:
			fmt.Fprintf(&b, "%d,%s,%d\n", i, strings.Repeat("x", r.IntN(60)), i*7)
		}
	}
	return b.String()
}

func TestTheNumberOfWorkersCannotBeSeen(t *testing.T) {
	f := testkit.File(t, generated(80_000), intake.Reading{})
	one := testkit.All(t, f, 1)
	if len(one.Checkpoints) < 3 {
		t.Fatalf("the file has only %d parts", len(one.Checkpoints))
	}
	if eight := testkit.All(t, f, 8); !reflect.DeepEqual(one, eight) {
		t.Error("one worker and eight read different things")
	}
}

func TestNoRecordIsLost(t *testing.T) {
	content := generated(50_000)
	got := testkit.All(t, testkit.File(t, content, intake.Reading{}), 4)
	quotedLineEnds := strings.Count(content, "several\n")
	lines := strings.Count(content, "\n") - 1 - quotedLineEnds // without the header
	if int(got.SetAside)+len(got.Cells) != lines {
		t.Errorf("%d rows and %d lines set aside, of %d records", len(got.Cells), got.SetAside, lines)
	}
}

func TestSoundFilesAreReadAsEncodingCSVReadsThem(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	pieces := []string{"", "a", "ü", ",", "\n", `"`, `""`, " ", "'", "\t", "long text ", "1.5", ";"}
	for round := range 300 {
		var want cells
		width := 2 + r.IntN(4)
		for range 1 + r.IntN(30) {
			row := make([]string, width)
			for i := range row {
				for range r.IntN(4) {
					row[i] += pieces[r.IntN(len(pieces))]
				}
			}
			row[0] = "x" + row[0] // encoding/csv drops blank lines
			want = append(want, row)
		}
		var text bytes.Buffer
		w := csv.NewWriter(&text)
		header := make([]string, width)
		for i := range header {
			header[i] = fmt.Sprint("c", i)
		}
		if err := errors.Join(w.Write(header), w.WriteAll(want)); err != nil {
			t.Fatal(err)
		}
		got := testkit.All(t, testkit.File(t, text.String(), intake.Reading{}), 2)
		if !reflect.DeepEqual(got.Cells, want) || len(got.Defects) > 0 {
			t.Fatalf("round %d: %q is read as %q with %v, want %q", round, text.String(), got.Cells, got.Defects, want)
		}
	}
}

func TestFilesThatCannotBeRead(t *testing.T) {
	for _, c := range []struct {
		name    string
		content string
		reading intake.Reading
		want    error
	}{
		{"nothing", "", intake.Reading{}, intake.ErrEmpty},
		{"spaces and line ends", " \n\n\t\n", intake.Reading{}, intake.ErrEmpty},
		{"a byte order mark alone", "\ufeff", intake.Reading{}, intake.ErrEmpty},
		{"binary", "\x7fELF\x02\x01\x00\x00\x00", intake.Reading{}, intake.ErrBinary},
		{"ends before the header", "a\nb\n", intake.Reading{HeaderLine: 5}, intake.ErrNoHeader},
		{"a hundred thousand columns", strings.Repeat("a,", 100_000), intake.Reading{}, intake.ErrTooMany},
	} {
		_, err := intake.Open(context.Background(), testkit.Opener([]byte(c.content)), c.reading.WithDefaults())
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.name, err, c.want)
		}
	}
	if _, err := intake.Open(context.Background(), content.AtPath(filepath.Join(t.TempDir(), "none.csv")),
		intake.Standard()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
}

func TestARecordWithoutEndIsRefusedAndNotHeldInMemory(t *testing.T) {
	content := "a,b\n1,2\n" + strings.Repeat("x", 70<<20)
	f := testkit.File(t, content, intake.Reading{})
	err := table.Scan(context.Background(), f, 1, func(b *table.Batch) (int, error) { return b.Len(), nil },
		func(int) error { return nil })
	if !errors.Is(err, intake.ErrTooLong) || !strings.Contains(err.Error(), "line 3") {
		t.Errorf("%v, want %v in line 3", err, intake.ErrTooLong)
	}
}

func TestAnOpenQuoteInALargeFileCostsOneRow(t *testing.T) {
	content := "a,b\n1,\"never closed\n" + strings.Repeat("2,plain text without quotes\n", 60_000)
	got := testkit.All(t, testkit.File(t, content, intake.Reading{}), 2)
	if len(got.Cells) != 60_001 || len(got.Defects) != 1 || got.Defects[0].Line != 2 {
		t.Errorf("%d rows, %d defects", len(got.Cells), len(got.Defects))
	}
}

func TestPickTakesSingleRowsWithAndWithoutMarks(t *testing.T) {
	f := testkit.File(t, generated(60_000), intake.Reading{})
	all := testkit.All(t, f, 2)
	wanted := []uint32{1, 2, 777, 20_000, 20_001, 41_234, uint32(len(all.Cells)), uint32(len(all.Cells)) + 5}
	for name, checkpoints := range map[string][]delimited.Checkpoint{"with checkpoints": all.Checkpoints, "without": nil} {
		picked, err := f.Pick(context.Background(), checkpoints, wanted)
		if err != nil {
			t.Fatal(err)
		}
		if len(picked) != len(wanted)-1 {
			t.Fatalf("%s: %d rows picked, want %d", name, len(picked), len(wanted)-1)
		}
		for i, p := range picked {
			if p.Row != wanted[i] || p.Line != all.Lines[p.Row-1] || !slices.Equal(p.Cells, all.Cells[p.Row-1]) ||
				!slices.Equal(p.Surplus, all.Surplus[p.Row]) {
				t.Errorf("%s: row %d is %+v, want %q on line %d", name, wanted[i], p, all.Cells[p.Row-1],
					all.Lines[p.Row-1])
			}
		}
	}
}

// A byte that is a space beyond ASCII once it is turned into UTF-8 makes no record another one.
func TestSpacesOfOtherEncodingsMoveNoRecord(t *testing.T) {
	got := testkit.All(t, testkit.File(t, "a,b\n1,\xe4\n \xa0\n \x85\n\"\xfc\n\",3\n4,\xdf\n", intake.Reading{Encoding: "windows-1252"}), 2)
	want := cells{{"1", "ä"}, {" \u00a0", ""}, {" …", ""}, {"ü\n", "3"}, {"4", "ß"}}
	if !reflect.DeepEqual(got.Cells, want) {
		t.Errorf("%q, want %q", got.Cells, want)
	}
}

// Rows far from the start of what cannot be read from any place on are found without reading all before them each time.
func TestPickTakesSingleRowsOfPackedTextAndOfOtherFormats(t *testing.T) {
	text := generated(60_000)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err := w.Write([]byte(text))
	if err := errors.Join(err, w.Close()); err != nil {
		t.Fatal(err)
	}
	var lines strings.Builder
	for i := range 60_000 {
		fmt.Fprintf(&lines, "{\"a\":%d,\"b\":\"the text\\nof %d\"}\n", i, i)
	}
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		content string
		reading intake.Reading
	}{"gz": {packed.String(), intake.Reading{}}, "json": {lines.String(), intake.Reading{}}, "utf-16": {wide, intake.Reading{Encoding: "utf-16le"}}} {
		f := testkit.File(t, c.content, c.reading)
		all := testkit.All(t, f, 2)
		opened := 0
		bytesOf := f.Bytes
		f.Bytes = func(ctx context.Context, offset int64) (io.ReadCloser, error) {
			if offset == 0 {
				opened++
			}
			return bytesOf(ctx, offset)
		}
		for round := range 5 {
			wanted := []uint32{7, 20_000 + uint32(round), 41_234, uint32(len(all.Cells)), uint32(len(all.Cells)) + 5}
			picked, err := f.Pick(t.Context(), all.Checkpoints, wanted)
			if err != nil || len(picked) != len(wanted)-1 {
				t.Fatalf("%s: %d rows picked, want %d; %v", name, len(picked), len(wanted)-1, err)
			}
			for i, p := range picked {
				if p.Row != wanted[i] || p.Line != all.Lines[p.Row-1] || !slices.Equal(p.Cells, all.Cells[p.Row-1]) ||
					!slices.Equal(p.Surplus, all.Surplus[p.Row]) {
					t.Errorf("%s: row %d is %+v, want %q on line %d", name, wanted[i], p, all.Cells[p.Row-1], all.Lines[p.Row-1])
				}
			}
		}
		if name != "json" && opened > 1 { // whose text is at hand
			t.Errorf("%s: the text was unpacked %d times", name, opened)
		}
		if err := f.Close(); err != nil {
			t.Error(err)
		}
	}
}

func TestProgressTellsBytesAndRows(t *testing.T) {
	content := generated(60_000)
	f := testkit.File(t, content, intake.Reading{})
	var bytes, rows int64
	f.OnProgress = func(b, r int64) { bytes, rows = b, r }
	all := testkit.All(t, f, 2)
	if bytes != int64(len(content)) || rows != int64(len(all.Cells)) {
		t.Errorf("at the end %d bytes and %d rows, of %d and %d", bytes, rows, len(content), len(all.Cells))
	}
}

func TestReadingsThatAreRefused(t *testing.T) {
	for field, r := range map[string]intake.Reading{
		"encoding": {Encoding: "utf-7"}, "delimiter": {Delimiter: "||"}, "quote": {Quote: ","},
		"header_line":  {HeaderLine: -3},
		"decimal_mark": {DecimalMark: "'"}, "grouping_mark": {GroupingMark: "."},
		"dates": {Dates: []string{"DD/MM/YYYY"}}, "datetimes": {DateTimes: []string{"HH:mm"}},
	} {
		wrong := r.WithDefaults().Check()
		if len(wrong) != 1 || wrong[0].Field != field || wrong[0].Error() == "" {
			t.Errorf("%s: %v", field, wrong)
		}
	}
	if wrong := intake.Standard().Check(); len(wrong) > 0 {
		t.Errorf("the standard reading: %v", wrong)
	}
}

func TestDetectedReadings(t *testing.T) {
	latin := func(s string) string {
		encoded, err := charmap.Windows1252.NewEncoder().String(s)
		if err != nil {
			t.Fatal(err)
		}
		return encoded
	}
	for _, c := range []struct {
		name, text, encoding, delimiter, mark, dates string
	}{
		{"plain", "a,b\n1.5,x\n2.5,y\n", "utf-8", ",", ".", ""},
		{"semicolons and decimal commas", "a;b\n1,5;x\n2,5;y\n", "utf-8", ";", ",", ""},
		{"tabs", "a\tb\n1\tx, y\n2\tz, w\n", "utf-8", "\t", ".", ""},
		{"bars", "a|b|c\n1|x|2\n2|y|3\n", "utf-8", "|", ".", ""},
		{"windows-1252", latin("a;b\ncafé;1,5\nµ;2,5\n"), "windows-1252", ";", ",", ""},
		{"day first, decided by the 29th", "a,b\n29/03/2024,1\n01/04/2024,2\n", "utf-8", ",", ".", "dd/MM/yyyy"},
		{"month first, decided by the 29th", "a,b\n03/29/2024,1\n01/04/2024,2\n", "utf-8", ",", ".", "MM/dd/yyyy"},
		{"day or month first, undecided", "a,b\n03/04/2024,1\n01/04/2024,2\n", "utf-8", ",", ".", ""},
		{"one column", "name\nx\ny\n", "utf-8", ",", ".", ""},
		{"commas within quotes", "a;b\n\"1,2,3\";x\n\"4,5,6\";y\n", "utf-8", ";", ".", ""},
	} {
		d, err := detect.Detect(context.Background(), testkit.Opener([]byte(c.text)), intake.Reading{})
		if err != nil {
			t.Fatal(err)
		}
		r := d.Reading
		if r.Encoding != c.encoding || r.Delimiter != c.delimiter || r.DecimalMark != c.mark || strings.Join(r.Dates, " ") != c.dates {
			t.Errorf("%s: %s, %q, %q, %v", c.name, r.Encoding, r.Delimiter, r.DecimalMark, r.Dates)
		}
	}
}

// FuzzReading feeds any bytes to the reader: it must neither fail nor lose a byte of
// any record, and read the same with one worker and with three.
func FuzzReading(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "a,b\n\"1\n2\",3", "\"", "a\n\"x\"y\n\"", "a,b\r\n\"\"\"\",\"\r\n",
		"a;b\rc;d\r", "\xff\xfe", "a,\n,,,,\n\n\n\"a"} {
		f.Add([]byte(s), ",")
	}
	f.Fuzz(func(t *testing.T, content []byte, delimiter string) {
		reading := intake.Reading{Delimiter: delimiter}.WithDefaults()
		if len(reading.Check()) > 0 {
			return
		}
		file, err := intake.Open(context.Background(), testkit.Opener(content), reading)
		if err != nil {
			return
		}
		one, three := testkit.All(t, file, 1), testkit.All(t, file, 3)
		if !reflect.DeepEqual(one, three) {
			t.Fatal("one worker and three read different things")
		}
		for i := 1; i < len(one.Rows); i++ {
			if one.Rows[i] != one.Rows[i-1]+1 || one.Lines[i] <= one.Lines[i-1] {
				t.Fatalf("row %d on line %d follows row %d on line %d", one.Rows[i], one.Lines[i], one.Rows[i-1],
					one.Lines[i-1])
			}
		}
	})
}

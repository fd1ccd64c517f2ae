package intake_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// Small awkward files as they arrive, each with what has to be made of it when nobody
// has declared anything: how it is read, which findings are said to be ambiguous, the
// type and the filled cells of every column, and the kinds of the defects.
func TestAwkwardFilesWithoutARulebook(t *testing.T) {
	for _, c := range []struct {
		name, text, reading, ambiguous, columns, defects string
	}{
		// Plain tables.
		{"numbers and texts", "id,name,amount\n1,a,1.5\n2,b,2.5\n", "delimited utf-8 , . h1", "",
			"id integer 2|name text 2|amount decimal 2", ""},
		{"numbers that name something", "plz,n\n01067,5\n01069,6\n", "delimited utf-8 , . h1", "",
			"plz text 2|n integer 2", ""},
		{"one text among many numbers", "n,m\n1,1\n2,1\n3,1\n4,1\n5,1\n6,1\n7,1\n8,1\n9,1\n10,1\n11,1\nx,1\n",
			"delimited utf-8 , . h1", "", "n integer 12|m integer 12", ""},
		{"half texts, half numbers", "n,m\n1,1\nx,1\n2,1\ny,1\n", "delimited utf-8 , . h1", "", "n text 4|m integer 4",
			""},
		{"empty cells", "a,b\n1,\n,2\n,\n", "delimited utf-8 , . h1", "", "a integer 1|b integer 1", ""},
		{"an empty column", "a,b\n1,\n2,\n", "delimited utf-8 , . h1", "", "a integer 2|b text 0", ""},
		{"yes and no", "a,b\nyes,1\nno,2\n", "delimited utf-8 , . h1", "", "a boolean 2|b integer 2", ""},
		{"negative numbers and exponents", "a,b\n-1,1e3\n+2,2.5E-2\n", "delimited utf-8 , . h1", "",
			"a integer 2|b decimal 2", ""},
		{"very large numbers", "a,b\n123456789012345678901234567890,1\n5,2\n", "delimited utf-8 , . h1", "",
			"a integer 2|b integer 2", ""},
		{"stray spaces around numbers are no numbers", "a,b\n 1,x\n 2,y\n", "delimited utf-8 , . h1", "",
			"a text 2|b text 2", ""},
		{"one column", "name\nx\ny\n", "delimited utf-8 , . h1", "delimiter|header", "name text 2", ""},
		{"a header and nothing else", "a,b\n", "delimited utf-8 , . h1", "header", "a text 0|b text 0", ""},
		{"trailing commas", "a,b,\n1,2,\n3,4,\n", "delimited utf-8 , . h1", "",
			"a integer 2|b integer 2|column_3 text 0", "blank_column_name"},

		// Decimal and thousands marks.
		{"decimal commas", "a;b\n1,5;2\n2,25;3\n", "delimited utf-8 ; , h1", "", "a decimal 2|b integer 2", ""},
		{"thousands with commas", "a;b\n\"1,234,567.5\";x\n\"2,000.25\";y\n", "delimited utf-8 ; .-, h1", "",
			"a decimal 2|b text 2", ""},
		{"thousands with points", "a;b\n1.234.567,5;x\n2.000,25;y\n", "delimited utf-8 ; ,-. h1", "",
			"a decimal 2|b text 2", ""},
		{"thousands with apostrophes", "a;b\n1'234.5;x\n2'000.25;y\n", "delimited utf-8 ; .-' h1", "",
			"a decimal 2|b text 2", ""},
		{"three digits after a mark may be thousands", "a;b\n1,234;x\n2,345;y\n", "delimited utf-8 ; . h1",
			"decimal mark", "a text 2|b text 2", ""},
		{"one column with commas, one with points", "a;b;c\n1,5;2.25;x\n2,5;3.75;y\n3,25;1.5;z\n",
			"delimited utf-8 ; . h1", "", "a decimal 3|b decimal 3|c text 3", ""},

		// Dates.
		{"ISO dates", "day,n\n2024-02-29,1\n2024-03-01,2\n", "delimited utf-8 , . h1", "", "day date 2|n integer 2",
			""},
		{"dates with the day first", "day,n\n29/02/2024,1\n01/03/2024,2\n", "delimited utf-8 , . h1", "",
			"day date 2|n integer 2", ""},
		{"dates with the month first", "day,n\n02/29/2024,1\n03/01/2024,2\n", "delimited utf-8 , . h1", "",
			"day date 2|n integer 2", ""},
		{"dates with points", "day,n\n29.02.2024,1\n13.03.2024,2\n", "delimited utf-8 , . h1", "",
			"day date 2|n integer 2", ""},
		{"dates without leading zeros", "day,n\n9.2.2024,1\n13.3.2024,2\n", "delimited utf-8 , . h1", "",
			"day date 2|n integer 2", ""},
		{"dates with two digits of the year", "day,n\n29/02/24,1\n13/03/24,2\n", "delimited utf-8 , . h1", "",
			"day date 2|n integer 2", ""},
		{"dates that may be either way stay text", "day,n\n02/03/2024,1\n01/03/2024,2\n", "delimited utf-8 , . h1",
			"dates of day", "day text 2|n integer 2", ""},
		{"mixed patterns stay text", "day,n\n29/02/2024,1\n02/28/2024,2\n03/04/2024,3\n", "delimited utf-8 , . h1",
			"dates of day", "day text 3|n integer 3", ""},
		{"two columns, two patterns", "a,b\n29/02/2024,02/29/2024\n01/03/2024,03/01/2024\n", "delimited utf-8 , . h1",
			"", "a date 2|b date 2", ""},
		{"times", "at,n\n2024-02-29 10:30,1\n2024-03-01 23:59,2\n", "delimited utf-8 , . h1", "",
			"at datetime 2|n integer 2", ""},
		{"times with a T and seconds", "at,n\n2024-02-29T10:30:05,1\n2024-03-01T23:59:59,2\n", "delimited utf-8 , . h1",
			"", "at datetime 2|n integer 2", ""},
		{"a day that is in no calendar",
			"day,n\n30/02/2024,1\n28/02/2024,2\n27/02/2024,2\n26/02/2024,2\n25/02/2024,2\n24/02/2024,2\n23/02/2024,2\n22/02/2024,2\n21/02/2024,2\n20/02/2024,2\n19/02/2024,2\n", "delimited utf-8 , . h1", "", "day date 11|n integer 11", ""},
		{"eight digits are no date by themselves", "day,n\n20240229,1\n20240301,2\n", "delimited utf-8 , . h1", "",
			"day integer 2|n integer 2", ""},

		// Delimiters, quotes, line ends.
		{"tabs with commas within", "a\tb\n1,5\tx\n2,5\ty\n", "delimited utf-8 \t , h1", "", "a decimal 2|b text 2",
			""},
		{"bars", "a|b\n1|x\n2|y\n", "delimited utf-8 | . h1", "", "a integer 2|b text 2", ""},
		{"colons", "a:b:c\n1:x:2\n2:y:3\n", "delimited utf-8 : . h1", "", "a integer 2|b text 2|c integer 2", ""},
		{"quoted numbers", "a,b\n\"1\",\"2.5\"\n\"3\",\"4.5\"\n", "delimited utf-8 , . h1", "",
			"a integer 2|b decimal 2", ""},
		{"quoted delimiters and line ends", "a,b\n\"x, y\",\"two\nlines\"\nz,w\n", "delimited utf-8 , . h1", "header",
			"a text 2|b text 2", ""},
		{"apostrophes as quotes", "a,b\n'x, y',1\n'z, w',2\n'v, u',3\n", "delimited utf-8 , . h1 '", "",
			"a text 3|b integer 3", ""},
		{"a stray quote", "a,b\n5\" pipe,1\nx,2\n", "delimited utf-8 , . h1", "", "a text 2|b integer 2",
			"broken_quote"},
		{"a quote that is never closed", "a,b\n\"x,1\ny,2\n", "delimited utf-8 , . h1", "", "a text 2|b integer 2",
			"open_quote"},
		{"Windows line ends", "a,b\r\n1,2\r\n3,4\r\n", "delimited utf-8 , . h1", "", "a integer 2|b integer 2", ""},
		{"old line ends", "a,b\r1,2\r3,4\r", "delimited utf-8 , . h1", "", "a integer 2|b integer 2", ""},
		{"mixed line ends", "a,b\r\n1,2\n3,4\r\n", "delimited utf-8 , . h1", "", "a integer 2|b integer 2", ""},
		{"a short and a long row", "a,b,c\n1,2\n1,2,3,4\n", "delimited utf-8 , . h1", "",
			"a integer 2|b integer 2|c integer 1", "too_few_cells too_many_cells"},

		// Encodings.
		{"latin letters in windows-1252", "ort;n\nK\xf6ln;1\nM\xfcnchen;2\n", "delimited windows-1252 ; . h1", "",
			"ort text 2|n integer 2", ""},
		{"quotation marks of windows-1252", "ort;n\n\x93Mill\x94;1\nb;2\n", "delimited windows-1252 ; . h1", "",
			"ort text 2|n integer 2", ""},
		{"a euro or a currency sign", "p;n\n5 \xa4;1\nb;2\n", "delimited windows-1252 ; . h1", "encoding",
			"p text 2|n integer 2", ""},
		{"a byte order mark", "\ufeffa,b\n1,2\n", "delimited utf-8 , . h1", "", "a integer 1|b integer 1", ""},
		{"UTF-16 with its mark, least byte first", wide("ort,n\nKöln,1\nBonn,2\n", unicode.LittleEndian,
			unicode.UseBOM), "delimited utf-16le , . h1", "", "ort text 2|n integer 2", ""},
		{"UTF-16 with its mark, greatest byte first", wide("ort,n\nKöln,1\nBonn,2\n", unicode.BigEndian,
			unicode.UseBOM), "delimited utf-16be , . h1", "", "ort text 2|n integer 2", ""},
		{"UTF-16 without its mark", wide("ort,n\nKoeln,1\nBonn,2\n", unicode.LittleEndian, unicode.IgnoreBOM),
			"delimited utf-16le , . h1", "", "ort text 2|n integer 2", ""},
		{"one broken byte among sound UTF-8", "ort,n\n" + strings.Repeat("Köln,1\n", 100) + "K\xf6ln,2\n",
			"delimited utf-8 , . h1", "", "ort text 101|n integer 101", "undecodable_bytes"},
		{"a NUL in a cell", "a,b\n1,x" + strings.Repeat("y", 9000) + "\n2,\x00z\n", "delimited utf-8 , . h1", "",
			"a integer 2|b text 2", "nul_byte"},

		// What stands before, between and after the rows.
		{"blank lines between", "a,b\n1,2\n\n3,4\n\n\n", "delimited utf-8 , . h1", "", "a integer 2|b integer 2", ""},
		{"notes above the header", "Results of May\nLaboratory two\nid,value,unit\n1,7.5,mg\n2,8.25,mg\n3,8.5,mg\n",
			"delimited utf-8 , . h3", "", "id integer 3|value decimal 3|unit text 3", ""},
		{"names by default above the real ones", "Column1,Column2,Column3\nid,value,unit\n1,7.5,mg\n2,8.25,mg\n3,8.5,mg\n",
			"delimited utf-8 , . h2", "", "id integer 3|value decimal 3|unit text 3", ""},
		{"a blank line above the header", "\nid,value,unit\n1,7.5,mg\n2,8.25,mg\n", "delimited utf-8 , . h2", "",
			"id integer 2|value decimal 2|unit text 2", ""},
		{"days above what was measured on them", "s,01/06/2024,02/06/2024\na,1,2.5\nb,3,4.5\nc,5,6.5\n", "delimited utf-8 , . h1", "",
			"s text 3|01/06/2024 integer 3|02/06/2024 decimal 3", ""},
		{"no header", "1,7.5,mg\n2,8.25,mg\n3,8.5,mg\n", "delimited utf-8 , . h-1", "",
			"column_1 integer 3|column_2 decimal 3|column_3 text 3", ""},
		{"nothing but texts under a header", "name,place\nann,x\nbob,y\n", "delimited utf-8 , . h1", "header",
			"name text 2|place text 2", ""},
		{"a totals line at the end", "name,n\na,10\nb,20\nTotal,30\n", "delimited utf-8 , . h1 c Total", "",
			"name text 2|n integer 2", ""},
		{"totals and a note at the end", "id,name,n\n1,a,10\n2,b,20\n,Total:,30\nbelow detection: see the manual\n",
			"delimited utf-8 , . h1 c Total:|below detection: see", "", "id integer 2|name text 2|n integer 2", ""},
		{"a name twice, and a blank one", "a,a,\n1,2,3\n4,5,6\n", "delimited utf-8 , . h1", "",
			"a integer 2|a_2 integer 2|column_3 integer 2", "repeated_column_name blank_column_name"},
		{"missing values in disguise", "a,b\n1,n/a\n2,x\n3,n/a\n-999,y\n-999,z\n", "delimited utf-8 , . h1", "missing",
			"a integer 5|b text 5", ""},

		// Packed files.
		{"gzip", gzipped("a,b\n1,2.5\n3,4.5\n"), "delimited gzip utf-8 , . h1", "", "a integer 2|b decimal 2", ""},
		{"Zstandard", zstandard("a;b\n1;2,5\n3;4,5\n"), "delimited zstd utf-8 ; , h1", "", "a integer 2|b decimal 2",
			""},
		{"a zip with one file", zipped("data/results.csv", "a,b\n1,2.5\n3,4.5\n"), "delimited zip utf-8 , . h1", "",
			"a integer 2|b decimal 2", ""},
		{"JSON Lines in gzip", gzipped("{\"a\":1,\"b\":2.5}\n{\"a\":2,\"b\":3.5}\n"), "json_lines gzip . h-1", "",
			"a integer 2|b decimal 2", ""},

		// JSON.
		{"JSON Lines", "{\"id\":1,\"name\":\"a\"}\n{\"id\":2,\"name\":null}\n", "json_lines . h-1", "",
			"id integer 2|name text 1", ""},
		{"columns that come late", "{\"a\":1}\n{\"b\":2,\"a\":3}\n", "json_lines . h-1", "", "a integer 2|b integer 1",
			""},
		{"objects within objects", "{\"a\":{\"b\":{\"c\":1.5}},\"d\":[1,\"x\"]}\n{\"a\":{\"b\":{\"c\":2.5}}}\n",
			"json_lines . h-1", "", "a.b.c decimal 2|d text 1", ""},
		{"texts with escapes", "{\"t\":\"a\\\"b\\n\\u00e9\\ud83d\\ude00,\"}\n", "json_lines . h-1", "", "t text 1", ""},
		{"a broken line", "{\"a\":1}\n{\"a\":2,}\nnot json\n{\"a\":3}\n", "json_lines . h-1", "", "a integer 2",
			"broken_record broken_record"},
		{"a member twice", "{\"a\":1,\"a\":2}\n", "json_lines . h-1", "", "a integer 1", "repeated_column_name"},
		{"a JSON array", "[\n {\"a\": 1, \"b\": \"2024-02-29\"},\n {\"a\": 2, \"b\": \"2024-03-01\"}\n]\n",
			"json_array . h-1", "", "a integer 2|b date 2", ""},
		{"a JSON array that is cut off", "[{\"a\":1},{\"a\":2},{\"a\":", "json_array . h-1", "", "a integer 2",
			"broken_record"},
		{"an object over several lines", "{\n \"id\": 1,\n \"name\": \"a\"\n}\n", "json_object . h-1", "", "id integer 1|name text 1", ""},
		{"an object that holds records", "{\"made\": \"today\", \"results\": [\n {\"id\": 1, \"n\": 2.5},\n {\"id\": 2, \"n\": 3.5}],\n \"count\": 2}\n",
			"json_object . h-1", "", "id integer 2|n decimal 2", ""},
		{"an object that holds records, on one line", "{\"data\":{\"rows\":[{\"id\":1},{\"id\":2}]}}", "json_object . h-1", "", "id integer 2", ""},
		{"an object that holds records under two names", "{\"a\":[{\"id\":1}],\n\"b\":[{\"n\":1},{\"n\":2}]}", "json_object . h-1", "sheet", "id integer 1", ""},
		{"an object that is cut off", "{\"results\": [\n {\"id\": 1},\n {\"id\": 2},\n {\"id\":", "json_object . h-1", "", "id integer 2", "broken_record"},
		{"braces that are no JSON", "{a},{b}\n1,2\n3,4\n", "delimited utf-8 , . h1", "", "{a} integer 2|{b} integer 2",
			""},

		// Workbooks.
		{"a workbook", bookOf(t, nil, [][]any{{"id", "day", "value", "ok"},
			{1, time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC), 7.25, true},
			{2, time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC), 0.1 + 0.2, false}}),
			"xlsx . h1", "", "id integer 2|day date 2|value decimal 2|ok boolean 2", ""},
		{"a number stored as text", bookOf(t, nil, [][]any{{"id", "value"}, {1, 7.5}, {2, "8.5"}, {3, 9.5}}),
			"xlsx . h1", "", "id integer 3|value decimal 3", "number_as_text"},
		{"a title above the header, and a blank row",
			bookOf(t, nil, [][]any{{"Register of stations"}, {}, {"id", "name", "km"}, {1, "a", 1.5}, {2, "b", 2.5},
				{3, "c", 3.5}}), "xlsx . h3", "", "id integer 3|name text 3|km decimal 3", ""},
		{"a merged header", bookOf(t, func(f *excelize.File) { must(t, f.MergeCell("Sheet1", "A1", "B1")) },
			[][]any{{"site", nil, "n"}, {"a", "x", 1}, {"b", "y", 2}}), "xlsx . h1", "",
			"site text 2|site_2 text 2|n integer 2", "repeated_column_name"},
		{"two sheets", bookOf(t, func(f *excelize.File) {
			_, err := f.NewSheet("Other")
			must(t, err)
		}, [][]any{{"a", "n"}, {"x", 1}, {"y", 2}}), "xlsx . h1", "sheet", "a text 2|n integer 2", ""},
		{"a formula whose value was not stored", bookOf(t, func(f *excelize.File) {
			must(t, f.SetCellFormula("Sheet1", "B3", "=B2*2"))
		}, [][]any{{"a", "n"}, {"x", 1}, {"y", nil}, {"z", 3}}), "xlsx . h1", "", "a text 3|n integer 2", "formula_without_value"},
		{"totals under a sheet", bookOf(t, nil, [][]any{{"a", "n"}, {"x", 1}, {"y", 2}, {"Sum", 3}}), "xlsx . h1 c Sum",
			"", "a text 2|n integer 2", ""},

		// Parquet.
		{"Parquet", parquetFile(t, []sample{{1, "a", ptr(1.5), day(2024, 2, 29), nil},
			{2, "", nil, day(2024, 3, 1), []string{"x", `y"z`}}}), "parquet . h-1", "",
			"id integer 2|name text 1|value decimal 1|day date 2|tags.list.element text 1", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			open := testkit.Opener([]byte(c.text))
			d, err := detect.Detect(context.Background(), open, intake.Reading{})
			if err != nil {
				t.Fatal(err)
			}
			if got := readingText(d); got != c.reading {
				t.Errorf("read as %q, want %q", got, c.reading)
			}
			var ambiguous []string
			for _, e := range d.Evidence {
				if e.Confidence == detect.Ambiguous && e.Aspect != "quote" {
					ambiguous = append(ambiguous, e.Aspect)
				}
				if e.Found == "" || e.Because == "" {
					t.Errorf("%s: found %q because %q", e.Aspect, e.Found, e.Because)
				}
			}
			if want := strings.FieldsFunc(c.ambiguous,
				func(r rune) bool { return r == '|' }); !slices.Equal(sorted(ambiguous), sorted(want)) {
				t.Errorf("said to be ambiguous: %q, want %q; %+v", ambiguous, want, d.Evidence)
			}
			file, err := intake.Open(context.Background(), open, d.Reading)
			if err != nil {
				t.Fatal(err)
			}
			result, err := audit.Run(context.Background(), file, rulebook.Draft("f", d, file.Columns()), 2)
			if err != nil {
				t.Fatal(err)
			}
			columns, kinds := []string{}, []string{}
			for _, k := range result.Columns {
				columns = append(columns, fmt.Sprintf("%s %s %d", k.Name, k.Type, k.Filled))
			}
			for _, k := range result.Defects {
				kinds = append(kinds, string(k.Kind))
			}
			if got := strings.Join(columns, "|"); got != c.columns {
				t.Errorf("columns %q, want %q", got, c.columns)
			}
			if got := strings.Join(kinds, " "); got != c.defects {
				t.Errorf("defects %q, want %q; %+v", got, c.defects, result.Defects)
			}
			if result.Passed != nil {
				t.Error("what nobody declared anything about has a verdict")
			}
		})
	}
}

func sorted(words []string) []string {
	out := slices.Clone(words)
	slices.Sort(out)
	return out
}

func readingText(d *detect.Detection) string {
	r := d.Reading
	parts := []string{string(d.Format)}
	if d.Packing != "" {
		parts = append(parts, string(d.Packing))
	}
	if d.Format == intake.Delimited {
		parts = append(parts, r.Encoding, r.Delimiter)
	}
	mark := r.DecimalMark
	if r.GroupingMark != "" {
		mark += "-" + r.GroupingMark
	}
	parts = append(parts, mark, fmt.Sprintf("h%d", r.HeaderLine))
	if len(r.Closing) > 0 {
		parts = append(parts, "c "+strings.Join(r.Closing, "|"))
	}
	if r.Quote != `"` {
		parts = append(parts, r.Quote)
	}
	return strings.Join(parts, " ")
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func wide(text string, order unicode.Endianness, mark unicode.BOMPolicy) string {
	out, err := unicode.UTF16(order, mark).NewEncoder().String(text)
	if err != nil {
		panic(err)
	}
	return out
}

func gzipped(text string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte(text))
	_ = w.Close()
	return b.String()
}

func zstandard(text string) string {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		panic(err)
	}
	return string(w.EncodeAll([]byte(text), nil))
}

// zipped takes names and contents in turn.
func zipped(files ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		if err != nil {
			panic(err)
		}
		_, _ = w.Write([]byte(files[i+1]))
	}
	_ = z.Close()
	return b.String()
}

// workbook writes a workbook with a package that has nothing to do with the reader.
func bookOf(t *testing.T, change func(*excelize.File), rows [][]any) string {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for i, row := range rows {
		must(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row))
	}
	if change != nil {
		change(f)
	}
	b, err := f.WriteToBuffer()
	must(t, err)
	return b.String()
}

type sample struct {
	ID    int64    `parquet:"id"`
	Name  string   `parquet:"name"`
	Value *float64 `parquet:"value,optional"`
	Day   int32    `parquet:"day,date"`
	Tags  []string `parquet:"tags,list"`
}

func ptr(x float64) *float64 { return &x }

func day(year, month, day int) int32 {
	return int32(time.Date(year, time.Month(month), day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

func parquetFile(t *testing.T, rows []sample) string {
	t.Helper()
	var b bytes.Buffer
	must(t, parquet.Write(&b, rows))
	return b.String()
}

// parquetBytes is a small Parquet file.
func parquetBytes() string {
	var b bytes.Buffer
	if err := parquet.Write(&b, []sample{{1, "a", ptr(1.5), 19000, nil},
		{2, "b", nil, 19001, []string{"x", "y"}}}); err != nil {
		panic(err)
	}
	return b.String()
}

func TestCellsOfEveryFormatStandAsTheyWere(t *testing.T) {
	for _, c := range []struct {
		name, content string
		reading       intake.Reading
		want          string
	}{
		{"JSON texts", "{\"t\":\"a\\\"b\\n\\u00e9\\ud83d\\ude00,\",\"n\":1.50,\"b\":true,\"z\":null}\n",
			intake.Reading{}, "[[\"a\\\"b\\né😀,\" \"1.50\" \"true\" \"\"]]"},
		{"a broken record beside sound ones", "[{\"a\":1,\"b\":2}, 5, {\"a\":3}]", intake.Reading{},
			`[["1" "2"] ["" ""] ["3" ""]]`},
		{"arrays stand as they are", "{\"a\":[1, {\"b\":[2]}]}\n", intake.Reading{}, `[["[1, {\"b\":[2]}]"]]`},
		{"one of several files", zipped("x.csv", "a\n1\n", "y.csv", "b\n2\n"), intake.Reading{Entry: "y.csv"},
			`[["2"]]`},
		{"workbook times", bookOf(t, nil, [][]any{{"at"}, {time.Date(2024, 2, 29, 13, 30, 15, 0, time.UTC)}}),
			intake.Reading{}, `[["2024-02-29 13:30:15"]]`},
		{"a workbook's sum of tenths", bookOf(t, nil, [][]any{{"x", "y"}, {0.1 + 0.2, 12345678901}}), intake.Reading{},
			`[["0.3" "12345678901"]]`},
		{"Parquet", parquetFile(t, []sample{{7, "a,\"b\"\nc", ptr(0.25), day(1969, 12, 31), []string{"x", "y"}}}),
			intake.Reading{HeaderLine: intake.NoHeader}, `[["7" "a,\"b\"\nc" "0.25" "1969-12-31" "[\"x\",\"y\"]"]]`},
		{"windows-1252 beyond short texts", mustEncode("ort\nÄ“quoted” text that is longer than a token\nÖ\n"),
			intake.Reading{Encoding: "windows-1252"}, `[["Ä“quoted” text that is longer than a token"] ["Ö"]]`},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := testkit.All(t, testkit.File(t, c.content, c.reading), 3)
			if text := fmt.Sprintf("%q", got.Cells); text != strings.ReplaceAll(c.want, "\n", `\n`) {
				t.Errorf("cells %s, want %s", text, c.want)
			}
		})
	}
}

func mustEncode(text string) string {
	out, err := charmap.Windows1252.NewEncoder().String(text)
	if err != nil {
		panic(err)
	}
	return out
}

func TestSeveralFilesInAnArchiveAreNamed(t *testing.T) {
	_, err := detect.Detect(context.Background(), testkit.Opener([]byte(zipped("x.csv", "a\n1\n", "y.csv", "b\n2\n"))),
		intake.Reading{})
	if err == nil || !strings.Contains(err.Error(), "x.csv, y.csv") {
		t.Errorf("the error is %v", err)
	}
}

func TestEvidenceSaysWhatItRestsOn(t *testing.T) {
	for _, c := range []struct {
		name, text, aspect, found, because string
		confidence                         detect.Confidence
	}{
		{"a delimiter that nothing rivals", "a;b\n1;2\n3;4\n", "delimiter", "semicolon",
			"it divides 3 of the first 3 records into 2 cells each, and no other character does", detect.Certain},
		{"a delimiter with a rival", "a,b;c\n1,2;3\n3,4;5\n", "delimiter", "comma", "semicolon would divide 3 into 2",
			detect.Ambiguous},
		{"quotes that are doubled", "a,b\n\"say \"\"yes\"\"\",1\n\"\"\"no\"\"\",2\n", "quote", `"`, "2 cells start and end with it", detect.Likely},
		{"what an earlier conversion lost", "ort,n\nx,1\nK\uFFFDln,2\n", "encoding", "utf-8", "1 character is U+FFFD", detect.Likely},
		{"letters beyond ASCII", "ort,n\nx,1\nKöln,2\n", "encoding", "utf-8",
			"2 bytes beyond ASCII, from line 3 on, and all of them are sound UTF-8", detect.Certain},
		{"mixed line ends", "a,b\r\n1,2\n3,4\n", "line ends", "mixed: 1 CR LF, 2 LF", "a lone CR stays in its cell",
			detect.Likely},
		{"lines above the header", "x\n\na,b,c\n1,2,3\n4,5,6\n", "header", "line 3",
			"the 2 lines above it have fewer cells than the 3 of most records", detect.Likely},
		{"a total at the end", "name,n\na,1\nb,2\nTotal,3\n", "closing lines", "1 line of totals", `"Total 3"`,
			detect.Likely},
		{"a date that decides", "day,n\n01/02/2024,1\n31/01/2024,2\n", "dates of day", "dd/MM/yyyy",
			`row 2: "31/01/2024" can only be read so`, detect.Certain},
		{"mixed dates", "day,n\n31/01/2024,1\n01/31/2024,2\n02/03/2024,3\n", "dates of day", "left as text",
			"only dd/MM/yyyy (1), only MM/dd/yyyy (1); more than one: 1", detect.Ambiguous},
		{"decimal commas", "a;b\n1,5;2,5\n", "decimal mark", "comma", "2 columns can only be read so", detect.Likely},
		{"blank lines and columns", "a,b,c\n1,,3\n\n4,,6\n", "blanks", "1 blank line, 1 column without any value",
			"nothing stands in b", detect.Certain},
		{"a packed file", gzipped("a,b\n1,2\n"), "format", "delimited text, packed with gzip",
			"none of the other formats", detect.Certain},
		{"a file in a zip", zipped("x/y.csv", "a,b\n1,2\n"), "format", `the file "x/y.csv" of a zip`,
			"none of the other formats", detect.Certain},
		{"missing marks", "a,b\n1,n/a\n2,n/a\n3,x\n", "missing", "only empty cells", `"n/a" in b (2)`,
			detect.Ambiguous},
	} {
		d, err := detect.Detect(context.Background(), testkit.Opener([]byte(c.text)), intake.Reading{})
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(d.Evidence, func(e detect.Evidence) bool { return e.Aspect == c.aspect })
		if at < 0 {
			t.Errorf("%s: nothing is said of %s: %+v", c.name, c.aspect, d.Evidence)
			continue
		}
		if e := d.Evidence[at]; !strings.Contains(e.Found, c.found) || !strings.Contains(e.Because, c.because) ||
			e.Confidence != c.confidence {
			t.Errorf("%s: %+v, want %q because %q, %s", c.name, e, c.found, c.because, c.confidence)
		}
	}
}

func TestWhatIsDeclaredIsKept(t *testing.T) {
	fixed := intake.Reading{Delimiter: ";", DecimalMark: ".", HeaderLine: 1, Dates: []string{"MM/dd/yyyy"},
		Encoding: "windows-1252", Quote: "none", Closing: []string{"x"}}
	d, err := detect.Detect(context.Background(), testkit.Opener([]byte("a,b\n1,5,31/01/2024\nTotal,3\nx\n")), fixed)
	if err != nil {
		t.Fatal(err)
	}
	r := d.Reading
	if r.Delimiter != ";" || r.DecimalMark != "." || r.HeaderLine != 1 || r.Dates[0] != "MM/dd/yyyy" ||
		r.Encoding != "windows-1252" || r.Quote != "none" || !slices.Equal(r.Closing, fixed.Closing) {
		t.Errorf("%+v", r)
	}
}

package export_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"

	"proudsieve/core/export"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const source = `dataset: visits
reading: {missing: [n/a], delimiter: ';'}
columns:
  - {name: station, title: Where it was, type: code, codes: stations}
  - {name: visited, type: date, dates: [dd.MM.yyyy]}
  - {name: read_at, type: datetime}
  - {name: flow, type: decimal, unit: m3/s, decimal_mark: ','}
  - {name: count, type: integer}
  - {name: wide, type: decimal}
  - {name: dry, type: boolean}
  - {name: note}
code_lists: {stations: {codes: [{code: AV-1, label: The weir}, {code: AV-2}]}}
`

const content = `station;visited;read_at;flow;count;wide;dry;note
AV-1;29.02.2024;2024-02-29 06:30:00;1,50;7;12345678901234567890.5;yes;"a, ""b"" <c>"
AV-2;01.01.1890;n/a;-0,125;-3;-1;no;=1+1
n/a;n/a;1969-12-31 23:59:59;12;n/a;n/a;n/a;  Ærø
`

// opened is the table of these tests, whose second flow is an estimate.
func opened(t testing.TB, text string) (*intake.File, *rulebook.Rulebook) {
	t.Helper()
	book := testkit.Book(t, source)
	file := testkit.File(t, text, book.Reading)
	rows := table.NewRowSet()
	rows.Add(2)
	file.Estimated = &table.Marks{All: []table.Mark{{Column: "flow", Method: "group_mean", Draws: 1, Rows: rows}}}
	return file, book
}

func exported(t testing.TB, text string, asked export.Asked) []byte {
	t.Helper()
	file, book := opened(t, text)
	f, err := export.Measure(context.Background(), file, book, &asked)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := f.Write(context.Background(), &out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func same(t *testing.T, what string, got, want any) {
	t.Helper()
	if g, w := fmt.Sprintf("%q", got), fmt.Sprintf("%q", want); g != w {
		t.Errorf("%s:\n got %s\nwant %s", what, g, w)
	}
}

var heads = []string{"station", "station_label", "visited", "read_at", "flow", "flow_estimated", "count", "wide", "dry", "note"}

func TestCSVHasValuesInStandardForm(t *testing.T) {
	out := exported(t, content, export.Asked{Format: export.FormatOf("csv"), Labels: true})
	lines, err := csv.NewReader(bytes.NewReader(out)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	same(t, "csv", lines, [][]string{heads,
		{"AV-1", "The weir", "2024-02-29", "2024-02-29 06:30:00", "1.50", "false", "7", "12345678901234567890.5", "true", `a, "b" <c>`},
		{"AV-2", "", "1890-01-01", "", "-0.125", "true", "-3", "-1", "false", "'=1+1"},
		{"", "", "", "1969-12-31 23:59:59", "12", "false", "", "", "", "  Ærø"}})
	if exact := exported(t, content, export.Asked{Format: export.FormatOf("csv"), Exact: true}); !strings.Contains(string(exact), ",=1+1\n") {
		t.Errorf("exactly as it is: %s", exact)
	}
}

func TestJSONLinesHaveAllDigits(t *testing.T) {
	out := exported(t, content, export.Asked{Format: export.FormatOf("jsonl"), Labels: true})
	want := `{"station":"AV-1","station_label":"The weir","visited":"2024-02-29","read_at":"2024-02-29T06:30:00","flow":1.50,"flow_estimated":false,"count":7,"wide":12345678901234567890.5,"dry":true,"note":"a, \"b\" <c>"}
{"station":"AV-2","station_label":null,"visited":"1890-01-01","read_at":null,"flow":-0.125,"flow_estimated":true,"count":-3,"wide":-1,"dry":false,"note":"=1+1"}
{"station":null,"station_label":null,"visited":null,"read_at":"1969-12-31T23:59:59","flow":12,"flow_estimated":false,"count":null,"wide":null,"dry":null,"note":"  Ærø"}
`
	same(t, "jsonl", string(out), want)
	for line := range strings.Lines(string(out)) {
		if !json.Valid([]byte(line)) {
			t.Errorf("no JSON: %s", line)
		}
	}
}

func TestParquetHasDecimalsAndDatesAsSuch(t *testing.T) {
	out := exported(t, content, export.Asked{Format: export.FormatOf("parquet"), Labels: true})
	file, err := parquet.OpenFile(bytes.NewReader(out), int64(len(out)))
	if err != nil {
		t.Fatal(err)
	}
	var names, kinds []string
	for _, field := range file.Root().Columns() {
		names, kinds = append(names, field.Name()), append(kinds, field.Type().String())
	}
	same(t, "columns in their order", names, heads)
	same(t, "types", kinds, []string{"STRING", "STRING", "DATE", "TIMESTAMP(isAdjustedToUTC=false,unit=MICROS)", "DECIMAL(5,3)", "BOOLEAN", "INT(64,true)", "DECIMAL(21,1)", "BOOLEAN", "STRING"})
	rows := make([]parquet.Row, 5)
	n, err := file.RowGroups()[0].Rows().ReadRows(rows)
	if n != 3 || err != nil && !errors.Is(err, io.EOF) {
		t.Fatal(n, err)
	}
	// 2024-02-29 is day 19,782 since 1970, 1890-01-01 is 29,219 days before; the units of flow are thousandths.
	first, second := rows[0], rows[1]
	if first[2].Int32() != 19782 || second[2].Int32() != -29219 || first[4].Int32() != 1500 || second[4].Int32() != -125 || !second[5].Boolean() || first[6].Int64() != 7 {
		t.Errorf("%v\n%v", first, second)
	}
	if rows[2][3].Int64() != -1_000_000 || !rows[2][0].IsNull() || string(rows[2][9].ByteArray()) != "  Ærø" {
		t.Errorf("%v", rows[2])
	}
	want, _ := new(big.Int).SetString("123456789012345678905", 10)
	if got := new(big.Int).SetBytes(first[7].ByteArray()); got.Cmp(want) != 0 {
		t.Errorf("a wide decimal is %s", got)
	}
	if minus := second[7].ByteArray(); len(minus) != 16 || minus[15] != 0xf6 || minus[0] != 0xff { // -10 tenths
		t.Errorf("a negative one is %x", minus)
	}
}

// Whatever is written can be delivered again: our own reader has the same values of it.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	want := [][]string{{"AV-1", "2024-02-29", "1.5", "7", "true"}, {"AV-2", "1890-01-01", "-0.125", "-3", "false"}, {"", "", "12", "", ""}}
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: station}\n  - {name: visited, type: date}\n  - {name: flow, type: decimal}\n  - {name: count, type: integer}\n  - {name: dry, type: boolean}\n")
	for _, f := range export.Formats {
		out := exported(t, content, export.Asked{Format: f, Columns: []string{"station", "visited", "flow", "count", "dry"}})
		file := testkit.File(t, string(out), intake.Reading{})
		var got [][]string
		for _, row := range testkit.All(t, file, 1).Cells {
			var line []string
			for _, name := range []string{"station", "visited", "flow", "count", "dry"} {
				cell := book.Cells(name).Read(row[slices.Index(file.Columns(), name)])
				if cell.Mistyped {
					t.Errorf("%s: %s is mistyped", f.Name, name)
				}
				line = append(line, cell.Value.Identity())
			}
			got = append(got, line)
		}
		same(t, f.Name, got, want)
	}
}

func TestAWorkbookHasDatesNumbersAndASheetOfColumns(t *testing.T) {
	out := exported(t, content, export.Asked{Format: export.FormatOf("xlsx"), Labels: true, Title: "Visits"})
	book, err := excelize.OpenReader(bytes.NewReader(out))
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	rows, err := book.GetRows("rows")
	if err != nil {
		t.Fatal(err)
	}
	same(t, "as it is shown", rows, [][]string{heads,
		{"AV-1", "The weir", "2024-02-29", "2024-02-29 06:30:00", "1.5", "FALSE", "7", "12345678901234567890.5", "TRUE", `a, "b" <c>`},
		{"AV-2", "", "1890-01-01", "", "-0.125", "TRUE", "-3", "-1", "FALSE", "=1+1"},
		{"", "", "", "1969-12-31 23:59:59", "12", "FALSE", "", "", "", "  Ærø"}})
	if kind, _ := book.GetCellType("rows", "J3"); kind == excelize.CellTypeFormula {
		t.Error("a text became a formula")
	}
	if raw, _ := book.GetCellValue("rows", "C2", excelize.Options{RawCellValue: true}); raw != "45351" { // days since 1899-12-30
		t.Errorf("a date is %q", raw)
	}
	columns, err := book.GetRows("columns")
	if err != nil || len(columns) != len(heads)+1 || columns[1][1] != "Where it was" || columns[5][3] != "m3/s" || !strings.Contains(columns[8][4], "more than 15 digits") {
		t.Errorf("%q, %v", columns, err)
	}
}

func TestAWorkbookKeepsLineBreaksAndWhatLooksLikeAnEscape(t *testing.T) {
	text := "station;note\nAV-1;a_x0041_b\nAV-2;\"two\r\nlines\"\n"
	out := exported(t, text, export.Asked{Format: export.FormatOf("xlsx")})
	book, err := excelize.OpenReader(bytes.NewReader(out))
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	for cell, want := range map[string]string{"B2": "a_x0041_b", "B3": "two\r\nlines"} {
		if got, _ := book.GetCellValue("rows", cell); got != want {
			t.Errorf("%s is %q and should be %q", cell, got, want)
		}
	}
	same(t, "read by ourselves", testkit.All(t, testkit.File(t, string(out), intake.Reading{}), 1).Cells, [][]string{{"AV-1", "a_x0041_b"}, {"AV-2", "two\r\nlines"}})
}

func TestATextThatIsNoValueIsRefusedOrMakesTheColumnText(t *testing.T) {
	text := strings.Replace(content, "-0,125", "about 2", 1)
	for _, name := range []string{"jsonl", "parquet", "xlsx"} {
		file, book := opened(t, text)
		_, err := export.Measure(context.Background(), file, book, &export.Asked{Format: export.FormatOf(name)})
		if !errors.Is(err, export.ErrMixed) || !strings.Contains(err.Error(), `1 cell of flow is no decimal, as "about 2"`) {
			t.Errorf("%s: %v", name, err)
		}
	}
	out := exported(t, text, export.Asked{Format: export.FormatOf("jsonl"), Mixed: true, Columns: []string{"flow"}})
	same(t, "as text", string(out), "{\"flow\":\"1,50\",\"flow_estimated\":false}\n{\"flow\":\"about 2\",\"flow_estimated\":true}\n{\"flow\":\"12\",\"flow_estimated\":false}\n")
	if csv := exported(t, text, export.Asked{Format: export.FormatOf("csv"), Columns: []string{"flow"}}); string(csv) != "flow,flow_estimated\n1.50,false\nabout 2,true\n12,false\n" {
		t.Errorf("%s", csv)
	}
}

func TestColumnsAndRowsAreChosen(t *testing.T) {
	rows := table.NewRowSet()
	rows.Add(3)
	out := exported(t, content, export.Asked{Format: export.FormatOf("csv"), Columns: []string{"note", "station"}, Rows: rows})
	same(t, "csv", string(out), "note,station\n\"  Ærø\",\n")
	none := exported(t, content, export.Asked{Format: export.FormatOf("csv"), Columns: []string{"note"}, Rows: table.NewRowSet()})
	same(t, "no row", string(none), "note\n")
	file, book := opened(t, content)
	for _, columns := range [][]string{{"depth"}, {"note", "note"}} {
		if _, err := export.Measure(context.Background(), file, book, &export.Asked{Format: export.FormatOf("csv"), Columns: columns}); err == nil {
			t.Errorf("%v is taken", columns)
		}
	}
}

func TestFilesArePackedAndAreTheSameEachTime(t *testing.T) {
	plain := exported(t, content, export.Asked{Format: export.FormatOf("csv")})
	unpack := map[string]func(io.Reader) ([]byte, error){
		"gz": func(in io.Reader) ([]byte, error) {
			r, err := gzip.NewReader(in)
			if err != nil {
				return nil, err
			}
			return io.ReadAll(r)
		},
		"zst": func(in io.Reader) ([]byte, error) {
			r, err := zstd.NewReader(in)
			if err != nil {
				return nil, err
			}
			defer r.Close()
			return io.ReadAll(r)
		}}
	for _, packing := range export.Packings {
		got, err := unpack[packing](bytes.NewReader(exported(t, content, export.Asked{Format: export.FormatOf("csv"), Packing: packing})))
		if err != nil || !bytes.Equal(got, plain) {
			t.Errorf("%s: %s, %v", packing, got, err)
		}
	}
	for _, f := range export.Formats {
		first := exported(t, content, export.Asked{Format: f})
		for workers := range 8 { // often, as what is written in no order is the same now and then
			if !bytes.Equal(first, exported(t, content, export.Asked{Format: f, Workers: workers + 1})) {
				t.Errorf("%s is not the same each time", f.Name)
			}
		}
	}
}

func TestTheNameOfAFileTellsItsFormat(t *testing.T) {
	for name, want := range map[string]string{"a.csv": "csv ", "a.b.JSONL.gz": "jsonl gz", "x.parquet": "parquet ", "x.xlsx": "xlsx ", "x.csv.zst": "csv zst", "x.gz": " gz", "x": " "} {
		format, packing := export.ByName(name)
		got := " " + packing
		if format != nil {
			got = format.Name + got
		}
		if got != want {
			t.Errorf("%s is %q and should be %q", name, got, want)
		}
	}
	if !slices.Equal(export.FormatNames(), []string{"csv", "jsonl", "parquet", "xlsx"}) {
		t.Error(export.FormatNames())
	}
}

func TestWhatAWorkbookCannotHoldIsRefused(t *testing.T) {
	for text, want := range map[string]string{strings.Repeat("é", 40_000): "1 cell of note has more than 32,767 characters", "a\x01b": "1 cell of note has a control character"} {
		file, book := opened(t, "station;note\nAV-1;"+text+"\n")
		_, err := export.Measure(context.Background(), file, book, &export.Asked{Format: export.FormatOf("xlsx")})
		if !errors.Is(err, export.ErrUnheld) || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, not %q", err, want)
		}
	}
}

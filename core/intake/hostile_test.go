package intake_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/intake/parquet"
	"proudsieve/core/intake/workbook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// all reads whatever bytes to their end, as look does, and fails where rows and lines
// set aside do not add up. It reports what kept it from being read.
func all(t testing.TB, content []byte) error {
	open := testkit.Opener(content)
	d, err := detect.Detect(context.Background(), open, intake.Reading{})
	if err != nil {
		return err
	}
	f, err := intake.Open(context.Background(), open, d.Reading)
	if err != nil {
		return err
	}
	rows, last := int64(0), uint32(0)
	err = table.Scan(context.Background(), f, 2, func(b *table.Batch) (*table.Batch, error) { return b, nil },
		func(b *table.Batch) error {
			for i := range b.Rows {
				if b.Rows[i] != last+1 {
					t.Fatalf("row %d follows row %d", b.Rows[i], last)
				}
				last = b.Rows[i]
				for c := range b.Columns {
					if int(b.Columns[c].Codes[i]) >= len(b.Columns[c].Texts) {
						t.Fatalf("row %d has no text in column %d", last, c)
					}
				}
			}
			rows += int64(b.Len())
			return nil
		})
	if err == nil && rows != int64(last) {
		t.Fatalf("%d rows, the last one is number %d", rows, last)
	}
	return err
}

// sheet puts the XML of a worksheet into a workbook.
func sheet(rows string) string {
	return zipped(
		"xl/workbook.xml",
		`<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="s" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels",
		`<Relationships><Relationship Id="r1" Target="worksheets/s.xml"/></Relationships>`,
		"xl/worksheets/s.xml", `<worksheet><sheetData>`+rows+`</sheetData></worksheet>`)
}

func TestHostileFilesAreRefusedOrCostLittle(t *testing.T) {
	zeros := bytes.Repeat([]byte{'0'}, 1<<20)
	bomb := func(megabytes int) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		for range megabytes {
			_, _ = w.Write(zeros)
		}
		_ = w.Close()
		return b.Bytes()
	}
	zipBomb := func() []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, _ := z.Create("a.csv")
		for range 300 {
			_, _ = w.Write(zeros)
		}
		_ = z.Close()
		return b.Bytes()
	}
	rowBomb := func() []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, _ = w.Write([]byte("a\n"))
		rows := bytes.Repeat([]byte("1\n"), 1<<20)
		for range 100 {
			_, _ = w.Write(rows)
		}
		_ = w.Close()
		return b.Bytes()
	}
	for _, c := range []struct {
		name    string
		content []byte
		want    error // nil where it is read
	}{
		{"a quote that is never closed", []byte("a,b\n\"" + strings.Repeat("x,1\n", 5_000_000)), nil},
		{"quotes everywhere", []byte("a,b\n" + strings.Repeat("\"x,1\n", 500_000)), nil},
		{"a line without an end", append([]byte("a,b\n"), bytes.Repeat([]byte("x"), 100<<20)...), intake.ErrTooLong},
		{"a million columns", []byte(strings.Repeat("a,", 1_000_000) + "\n1,2\n"), intake.ErrTooMany},
		{"a JSON record with a million members", []byte(`{"a":1` + func() string {
			var b strings.Builder
			for i := range 100_000 {
				fmt.Fprintf(&b, `,"m%d":1`, i)
			}
			return b.String()
		}() + "}\n"), intake.ErrTooMany},
		{"JSON a million deep", []byte(`{"a":` + strings.Repeat(`{"a":`, 1_000_000) + "\n" + `{"a":1}` + "\n"), nil},
		{"JSON arrays a million deep", []byte(`{"a":` + strings.Repeat("[", 1_000_000) + "}\n{\"a\":1}\n"), nil},
		{"a JSON element without an end", append([]byte(`[{"a":"`), bytes.Repeat([]byte("x"), 100<<20)...),
			intake.ErrTooLong},
		{"a gzip that unpacks to a thousand times its size", bomb(300), content.ErrTooLarge},
		{"a zip that unpacks to a thousand times its size", zipBomb(), content.ErrTooLarge},
		{"a gzip of a hundred million short rows", rowBomb(), content.ErrTooLarge},
		{"a gzip that is cut off", bomb(3)[:1000], io.ErrUnexpectedEOF},
		{"a sheet that claims a billion rows",
			[]byte(
				sheet(`<row r="1"><c t="inlineStr"><is><t>a</t></is></c></row><row r="1000000000"><c><v>1</v></c></row>`)), workbook.ErrWorkbook},
		{"a sheet that claims rows it leaves out",
			[]byte(
				sheet(`<row r="1"><c t="inlineStr"><is><t>a</t></is></c></row><row r="1048576"><c><v>1</v></c></row>`)),
			nil},
		{"a sheet whose rows go backwards",
			[]byte(sheet(`<row r="9"><c><v>1</v></c></row><row r="2"><c><v>1</v></c></row>`)), workbook.ErrWorkbook},
		{"a cell beyond the last column", []byte(sheet(`<row r="1"><c r="ZZZZ1"><v>1</v></c></row>`)),
			workbook.ErrWorkbook},
		{"a cell that refers to a text that is not there", []byte(sheet(`<row r="1"><c t="s"><v>7</v></c></row>`)),
			workbook.ErrWorkbook},
		{"XML that never closes", []byte(sheet(strings.Repeat(`<row><c>`, 100_000))), workbook.ErrWorkbook},
		{"Parquet and nothing more", []byte("PAR1"), parquet.ErrParquet},
		{"Parquet with a footer that lies", []byte("PAR1aaaaaaaaaaaa\xff\xff\xff\x7fPAR1"), parquet.ErrParquet},
	} {
		t.Run(c.name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			started := time.Now()
			err := all(t, c.content)
			runtime.ReadMemStats(&after)
			if !errors.Is(err, c.want) || c.want == nil && err != nil {
				t.Errorf("the error is %v, want %v", err, c.want)
			}
			if err != nil && len(err.Error()) > 1000 {
				t.Errorf("the error is %d bytes long", len(err.Error()))
			}
			if took := time.Since(started); took > 2*time.Minute {
				t.Errorf("it took %s", took)
			}
			if grown := int64(after.Sys) - int64(before.Sys); grown > 1500<<20 {
				t.Errorf("it took %d MiB from the system", grown>>20)
			}
		})
	}
}

// FuzzDetect works out how any bytes are read, and reads them: it may refuse, and must
// neither fail nor lose count.
func FuzzDetect(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "PAR1", "{\"a\":1}\n[", "[{\"a\":{\"b\":2}}]", "\xff\xfea\x00",
		"a;b\n1,5;29.02.2024\n", "\n\n;;\nTotal;1\n", gzipped("a\n1\n"), zipped("a.csv", "a\n1\n"),
		sheet("<row><c><v>1</v></c></row>")} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, content []byte) { _ = all(t, content) })
}

// FuzzJSON holds what is taken for a record against the standard library.
func FuzzJSON(f *testing.F) {
	for _, s := range []string{`{"a":1}`, `{"a":[1,{"b":"\u00e9"}],"c":null}`, `{"a":{"b":true}}`, `{"a":01}`,
		`{"a":1e5,"b":-0.5}`, `{"\ud800":"\ud83d\ude00"}`, `{"a" : "x" }`, `{}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		if bytes.ContainsAny(line, "\n\r") || len(line) > 1<<16 || !bytes.HasPrefix(line, []byte("{")) {
			return
		}
		sound := json.Valid(line) // numbers beyond what a machine word holds are numbers too
		file, err := intake.Open(context.Background(), testkit.Opener(append([]byte(`{"sound":1}`+"\n"), line...)),
			intake.Reading{Format: "json_lines", HeaderLine: intake.NoHeader}.WithDefaults())
		if err != nil {
			return
		}
		read := testkit.All(t, file, 1)
		if len(read.Rows) != 2 {
			t.Fatalf("%d rows of two lines", len(read.Rows))
		}
		broken := false
		for _, d := range read.Defects {
			broken = broken || d.Kind == table.BrokenRecord
		}
		if broken == sound && !deep(line) {
			t.Errorf("%q is taken for a broken record: %v; the standard library reads it: %v", line, broken, sound)
		}
	})
}

// deep reports whether a record may be nested, or named, beyond what is read here.
func deep(line []byte) bool {
	return bytes.Count(line, []byte("{"))+bytes.Count(line, []byte("[")) > 60 || len(line) > 1000
}

// FuzzSheet reads worksheets of any XML.
func FuzzSheet(f *testing.F) {
	for _, s := range []string{`<row r="1"><c r="A1"><v>1</v></c></row>`,
		`<row><c t="inlineStr"><is><t>a</t><r><t>b</t></r></is></c><c t="b"><v>1</v></c></row>`,
		`<row><c t="e"><v>#N/A</v></c><c s="0"><v>45000.5</v></c></row>`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, rows string) { _ = all(t, []byte(sheet(rows))) })
}

// FuzzParquet reads Parquet files with some bytes changed.
func FuzzParquet(f *testing.F) {
	whole := []byte(parquetBytes())
	f.Add(10, byte(7), 100, byte(0))
	f.Fuzz(func(t *testing.T, a int, x byte, b int, y byte) {
		changed := bytes.Clone(whole)
		changed[max(a, -a)%len(changed)&(1<<30-1)%len(changed)] ^= x
		changed[max(b, -b)%len(changed)&(1<<30-1)%len(changed)] ^= y
		_ = all(t, changed)
	})
}

// manyTexts is a workbook whose cells share millions of texts.
func manyTexts(n int) string {
	return zipped(
		"xl/workbook.xml",
		`<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="s" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels",
		`<Relationships><Relationship Id="r1" Target="worksheets/s.xml"/></Relationships>`,
		"xl/sharedStrings.xml", "<sst>"+strings.Repeat("<si/>", n)+"</sst>",
		"xl/worksheets/s.xml", `<worksheet><sheetData><row r="1"><c><v>1</v></c></row></sheetData></worksheet>`)
}

func TestEveryReadingEndsWithItsContext(t *testing.T) {
	content.SetUnpacking(content.Unpacking{Ratio: 2000, Bytes: 1 << 40})
	t.Cleanup(func() { content.SetUnpacking(content.UsualUnpacking) })
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, _ = w.Write([]byte("a,b\n" + strings.Repeat("1,2\n", 8_000_000)))
	_ = w.Close()
	for name, content := range map[string]string{
		"a packed file":                     packed.String(),
		"JSON Lines":                        strings.Repeat("{\"a\":1,\"b\":[1,2,3]}\n", 2_000_000),
		"a JSON array":                      "[" + strings.Repeat("{\"a\":1},", 4_000_000) + "{}]",
		"a workbook with millions of texts": manyTexts(4_000_000),
	} {
		ctx, cancel := context.WithCancel(context.Background())
		opener := testkit.Opener([]byte(content))
		stopped := make(chan time.Time, 1)
		begun := false
		_, err := detect.Detect(ctx, func(offset int64) (io.ReadCloser, error) {
			if !begun {
				begun = true
				time.AfterFunc(100*time.Millisecond, func() { stopped <- time.Now(); cancel() })
			}
			return opener(offset)
		}, intake.Reading{})
		for err == nil { // where little is looked at, reading goes on; one that was stopped before does not begin
			_, err = detect.Detect(ctx, opener, intake.Reading{})
		}
		if took := time.Since(<-stopped); !errors.Is(err, context.Canceled) || took > time.Second {
			t.Errorf("%s: %v, %s after it was stopped", name, err, took)
		}
	}
}

func TestAWorkbookWithTooManyTextsIsRefusedByWhatTheyTake(t *testing.T) {
	content.SetUnpacking(content.Unpacking{Ratio: 2000, Bytes: 1 << 40})
	t.Cleanup(func() { content.SetUnpacking(content.UsualUnpacking) })
	if err := all(t, []byte(manyTexts(7_000_000))); !errors.Is(err, content.ErrTooLarge) ||
		!strings.Contains(err.Error(), "the texts that its cells share") {
		t.Errorf("%v", err)
	}
}

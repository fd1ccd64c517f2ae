package workbook

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"

	"proudsieve/core/intake/delimited"
)

// plainRows walks the rows of a sheet by a decoder of any XML, as rows must.
func (b *bookParts) plainRows(in io.Reader, f func(row int, cells []sheetCell) error,
	merged func(first, last, row int)) error {
	d := xml.NewDecoder(bufio.NewReaderSize(in, 256<<10))
	row, column := 0, 0
	var cells []sheetCell
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("row %d: %w (%w)", row+1, ErrWorkbook, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "row":
				next := row + 1
				if r := attribute(t, "r"); r != "" {
					if next, err = strconv.Atoi(r); err != nil || next <= row || next > sheetRows {
						return fmt.Errorf("%w (row %q follows row %d)", ErrWorkbook, r, row)
					}
				}
				row, column, cells = next, 0, cells[:0]
			case "c":
				cell, err := b.plainCell(d, t, column)
				if err != nil {
					return fmt.Errorf("row %d: %w", row, err)
				}
				column = cell.column + 1
				cells = append(cells, cell)
			case "mergeCell":
				first, last, top := mergedColumns(attribute(t, "ref"))
				merged(first, last, top)
			}
		case xml.EndElement:
			if t.Name.Local == "row" {
				if err := f(row, cells); err != nil {
					return err
				}
			}
		}
	}
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value
		}
	}
	return ""
}

func (b *bookParts) plainCell(d *xml.Decoder, start xml.StartElement, column int) (sheetCell, error) {
	if ref := attribute(start, "r"); ref != "" {
		at, _, ok := cellPlace(ref)
		if !ok || at < column || at >= sheetColumns {
			return sheetCell{}, fmt.Errorf("%w (a cell %q)", ErrWorkbook, ref)
		}
		column = at
	}
	out := sheetCell{column: column}
	kind, raw, stored := attribute(start, "t"), "", false
	for {
		token, err := d.Token()
		if err != nil {
			return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "v":
				var text struct {
					Text string `xml:",chardata"`
				}
				if err := d.DecodeElement(&text, &t); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
				raw, stored = text.Text, true
			case "is":
				if raw, err = plainRichText(d, "is"); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
			case "f":
				out.unvalued = true
				if err := d.Skip(); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
			}
		case xml.EndElement:
			if t.Name.Local == "c" {
				out.unvalued = out.unvalued && !stored
				return b.value(out, kind, raw, attribute(start, "s"))
			}
		}
	}
}

func plainRichText(d *xml.Decoder, end string) (string, error) {
	var b strings.Builder
	inText, aloud := false, 0
	for {
		token, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := token.(type) {
		case xml.StartElement:
			inText = t.Name.Local == "t"
			if t.Name.Local == "rPh" {
				aloud++
			}
		case xml.CharData:
			if inText && aloud == 0 {
				b.Write(t)
			}
			if b.Len() > delimited.RecordLimit {
				return "", delimited.ErrTooLong
			}
		case xml.EndElement:
			inText = false
			if t.Name.Local == "rPh" {
				aloud--
			}
			if t.Name.Local == end {
				return unescaped(b.String()), nil
			}
		}
	}
}

// walked is what a walk over a sheet tells.
type walked struct {
	rows   []int
	cells  [][]sheetCell
	merged [][3]int
	err    error
}

func walk(in string, rows func(io.Reader, func(int, []sheetCell) error, func(int, int, int)) error, slowly bool) (w walked) {
	var from io.Reader = strings.NewReader(in)
	if slowly {
		from = iotest.OneByteReader(from)
	}
	w.err = rows(from, func(row int, cells []sheetCell) error {
		w.rows, w.cells = append(w.rows, row), append(w.cells, slices.Clone(cells))
		return nil
	}, func(first, last, row int) { w.merged = append(w.merged, [3]int{first, last, row}) })
	return w
}

// inOnePiece scans a sheet from its start to its end.
func inOnePiece(b *bookParts) func(io.Reader, func(int, []sheetCell) error, func(int, int, int)) error {
	return func(in io.Reader, f func(int, []sheetCell) error, merged func(int, int, int)) error {
		return b.rows(newScanner(in), 0, f, merged)
	}
}

func twinBook() *bookParts {
	return &bookParts{shared: []string{"x", "12.5", "Zürich & Bern"}, numbers: []bool{false, true, false}, shows: []shown{showsNumber, showsDate, showsDuration}, from: dateOf("1899-12-30")}
}

// held compares the scanner with a decoder of any XML: the same rows, cells and merged cells, and a mistake where that sees one.
// The scanner may see one less, in what it does not look at, or one more in what no sheet has.
func heldAgainstTwin(t *testing.T, sheet string) {
	t.Helper()
	b := twinBook()
	want := walk(sheet, b.plainRows, false)
	for _, slowly := range []bool{false, true} {
		got := walk(sheet, inOnePiece(b), slowly)
		if (want.err == nil) != (got.err == nil) {
			t.Fatalf("%q: %v, and the decoder of any XML says %v", sheet, got.err, want.err)
		}
		if want.err == nil && (!slices.Equal(got.rows, want.rows) || !slices.EqualFunc(got.cells, want.cells, slices.Equal[[]sheetCell]) || !slices.Equal(got.merged, want.merged)) {
			t.Fatalf("%q: %+v, want %+v", sheet, got, want)
		}
	}
}

func TestTheScannerReadsWhatADecoderOfAnyXMLReads(t *testing.T) {
	const head = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>` + "\n" + `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`
	for _, sheet := range []string{
		head + `<sheetData><row r="1"><c r="A1" t="s"><v>0</v></c><c r="C1"><v>1.50</v></c></row></sheetData></worksheet>`,
		head + `<sheetData><row/><row r="7" spans="1:3"><c/><c t="inlineStr"><is><r><t>a</t></r><r><t xml:space="preserve"> b</t></r><rPh><t>no</t></rPh></is></c></row></sheetData></worksheet>`,
		`<x:worksheet xmlns:x="m"><x:sheetData><x:row x:r="9" r="2"><x:c r='B2' t='str'><x:f>A1&gt;2</x:f><x:v>a&amp;b &#228; &#x1F600; &lt;</x:v></x:c></x:row></x:sheetData></x:worksheet>`,
		"<w><!-- <row> --><row r=\"1\"><c t=\"str\"><v>one\r\ntwo\rthree</v></c><c t=\"str\"><v><![CDATA[<a> & ]] >]]></v></c></row></w>",
		`<w><row><c><f>1+1</f></c><c><v></v></c><c t="e"><v>#N/A</v></c><c t="b"><v>1</v></c><c t="d"><v>2024-01-02T00:00:00</v></c><c s="1"><v>45351</v></c></row></w>`,
		`<w><row a="x>y" r = "3" ><c r="B3" t="str"><v>a<u>b</u>c</v></c></row ><mergeCells><mergeCell ref="A1:C1"/><mergeCell/></mergeCells></w>`,
		`<!DOCTYPE w [<!ELEMENT w (row)>]><w><row r="1"/></w>`, `<w/>`, "\ufeff<w><row/></w>", "<w><row/></w>\n<!-- end -->\n",
		// mistakes
		``, `<w>`, `<w><row></w>`, `<w><row r="2"/><row r="2"/></w>`, `<w><row r="x"/></w>`, `<w><row><c r="A1"/><c r="A1"/></row></w>`, `<w><row><c t="s"><v>9</v></c></row></w>`,
		`<w><row><c t="str"><v>&nbsp;</v></c></row></w>`, `<w><row><c t="str"><v>&#0;</v></c></row></w>`, "<w><row><c t=\"str\"><v>a\x01</v></c></row></w>", "<w><row><c t=\"str\"><v>a\xff</v></c></row></w>",
		`<w><row><c t="str"><v>a]]>b</v></c></row></w>`, `<w><row r=1/></w>`, `<w><row r="1/></w>`, `</w>`, `<w></w></w>`, `<w><row><c t="str"><v>a`, `<?xml version="1.0" encoding="UTF-16"?><w/>`, `<w><row><c t="str"><v>a & b</v></c></row></w>`,
		`<w><!-- `, `<w><![CDATA[ `, `<`, `<w><row><c r="ZZZZ1"/></row></w>`,
	} {
		if strings.HasPrefix(sheet, "</w>") || sheet == "" || sheet == "<w></w></w>" {
			if got := walk(sheet, inOnePiece(twinBook()), false); sheet != "" && got.err == nil {
				t.Errorf("%q is taken", sheet)
			}
			continue
		}
		heldAgainstTwin(t, sheet)
	}
}

// Sheets at random, whose texts are longer than the buffer now and then.
func TestTheScannerReadsSheetsAtRandom(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 300 {
		heldAgainstTwin(t, sheetAtRandom(r, 12))
	}
}

// sheetAtRandom is a sheet of fewer than so many rows.
func sheetAtRandom(r *rand.Rand, rows int) string {
	texts := []string{"a", "", " b ", "ä&amp;ö", "&#10;x", "two\r\nlines", "7.25", "_x000D_", "<![CDATA[a<b]]>", strings.Repeat("long ", 70_000)}
	var b strings.Builder
	b.WriteString("<w><sheetData>")
	row := 0
	for range r.IntN(rows) {
		if row += 1 + r.IntN(2); r.IntN(4) == 0 {
			b.WriteString("<row")
			row = 0
		} else {
			fmt.Fprintf(&b, "<row r=\"%d\"", row)
		}
		b.WriteString([]string{">", " ht='15' >", "\n>"}[r.IntN(3)])
		for c := range r.IntN(6) {
			text := texts[r.IntN(len(texts)-1+r.IntN(50)/49)]
			switch r.IntN(5) {
			case 0:
				fmt.Fprintf(&b, "<c r=\"%c%d\" s=\"%d\"><v>%d.5</v></c>", 'A'+c, max(row, 1), r.IntN(4), r.IntN(50_000))
			case 1:
				fmt.Fprintf(&b, "<c t=\"s\"><v>%d</v></c>", r.IntN(4))
			case 2:
				fmt.Fprintf(&b, "<c t=\"inlineStr\"><is><t>%s</t></is></c>", text)
			case 3:
				fmt.Fprintf(&b, "<c t=\"str\"><f>SUM(A1)</f><v>%s</v></c>", text)
			case 4:
				b.WriteString("<c s=\"2\"/>")
			}
		}
		b.WriteString("</row>")
	}
	b.WriteString("</sheetData></w>")
	return b.String()
}

func FuzzTheScannerAgainstItsTwin(f *testing.F) {
	f.Add(`<w><row r="1"><c r="A1" t="str"><v>a&amp;b</v></c></row></w>`)
	f.Add("<?xml version='1.0'?><w><row><c t='inlineStr'><is><t>x</t></is></c></row><mergeCell ref='A1:B1'/></w>")
	f.Fuzz(func(t *testing.T, sheet string) {
		b := twinBook()
		want, got := walk(sheet, b.plainRows, false), walk(sheet, inOnePiece(b), false)
		// What a decoder of any XML refuses the scanner may not have looked at; what it takes the scanner reads alike, or refuses.
		if want.err == nil && got.err == nil && (!slices.Equal(got.rows, want.rows) || !slices.EqualFunc(got.cells, want.cells, slices.Equal[[]sheetCell])) {
			t.Fatalf("%q: %+v, want %+v", sheet, got, want)
		}
	})
}

// BenchmarkRows has the scanner and its twin read the same sheet of 20,000 rows of 12 cells.
func BenchmarkRows(b *testing.B) {
	var sheet strings.Builder
	sheet.WriteString("<w><sheetData>")
	for r := range 20_000 {
		fmt.Fprintf(&sheet, `<row r="%d" spans="1:12">`, r+1)
		for c := range 12 {
			switch c % 4 {
			case 0:
				fmt.Fprintf(&sheet, `<c r="%c%d" t="s"><v>%d</v></c>`, 'A'+c, r+1, r%3)
			case 1:
				fmt.Fprintf(&sheet, `<c r="%c%d" s="1"><v>%d</v></c>`, 'A'+c, r+1, 45_000+r%300)
			case 2:
				fmt.Fprintf(&sheet, `<c r="%c%d"><v>%d.25</v></c>`, 'A'+c, r+1, r)
			case 3:
				fmt.Fprintf(&sheet, `<c r="%c%d" t="inlineStr"><is><t>note %d</t></is></c>`, 'A'+c, r+1, r)
			}
		}
		sheet.WriteString("</row>")
	}
	sheet.WriteString("</sheetData></w>")
	book := twinBook()
	for name, rows := range map[string]func(io.Reader, func(int, []sheetCell) error, func(int, int, int)) error{"scanner": inOnePiece(book), "any XML": book.plainRows} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(sheet.Len()))
			b.ReportAllocs()
			for b.Loop() {
				if err := rows(strings.NewReader(sheet.String()), func(int, []sheetCell) error { return nil }, func(int, int, int) {}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

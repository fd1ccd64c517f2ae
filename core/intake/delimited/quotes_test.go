package delimited

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/table"
)

// taken is a record as it comes out of a text.
type taken struct {
	line    int64
	cells   []string
	defects []table.DefectKind
}

// String writes it for a comparison.
func (r taken) String() string { return fmt.Sprintf("line %d: %q %v", r.line, r.cells, r.defects) }

// takenByMarks reads a text as everybody does: in parts, whose records are found and cut along marks where their quotes are sound.
func takenByMarks(t *testing.T, layout Layout, width int, data []byte) (out []taken) {
	t.Helper()
	text := Text{Layout: layout, Names: make([]string, width), Body: Checkpoint{Row: 1, Line: 1}, Seeks: true,
		Bytes: func(context.Context, int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
	parts, err := text.Open(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer parts.Close()
	for {
		part, err := parts.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		b, err := part.Batch(nil)
		if err != nil {
			t.Fatal(err)
		}
		first := len(out)
		for i := range b.Rows {
			one := taken{line: b.Lines[i]}
			for c := range b.Columns {
				one.cells = append(one.cells, b.Columns[c].At(i))
			}
			one.cells = append(one.cells, b.Surplus[i]...)
			out = append(out, one)
		}
		for _, d := range b.Defects {
			at := first + int(d.Row-b.Rows[0])
			out[at].defects = append(out[at].defects, d.Kind)
		}
	}
}

// takenByScanner takes the text apart byte by byte.
func takenByScanner(layout Layout, width int, data []byte) (out []taken) {
	s := scanner{Layout: layout}
	for line := int64(1); len(data) > 0; {
		r, _ := s.first(stretch{data, true})
		if r.form != blankRecord {
			one := taken{line: line}
			for _, c := range s.appendCells(nil, data[:r.end], r.form) {
				if c.defect != "" {
					one.defects = append(one.defects, c.defect)
				}
				one.cells = append(one.cells, string(c.content(data[:r.end])))
			}
			for n := len(one.cells); n < width; n++ {
				if one.cells = append(one.cells, ""); n+1 == width {
					one.defects = append(one.defects, table.TooFewCells)
				}
			}
			if len(one.cells) > width {
				one.defects = append(one.defects, table.TooManyCells)
			}
			out = append(out, one)
		}
		line += r.lines
		data = data[r.end:]
	}
	return out
}

func checkTaken(t *testing.T, layout Layout, width int, data []byte) {
	t.Helper()
	got, want := takenByMarks(t, layout, width, data), takenByScanner(layout, width, data)
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i].String() != want[i].String() {
			t.Fatalf("of %q\nrecord %d by marks is %v\nbyte by byte         %v", data, i, got[min(i, len(got)):min(i+1, len(got))],
				want[min(i, len(want)):min(i+1, len(want))])
		}
	}
}

// quotedPieces are what records with quotes are made of, sound and otherwise.
var quotedPieces = []string{"a", `"`, `""`, ",", "\n", "\r\n", "\r", " ", `"x"`, `,"`, `",`, "\"\n", `"a,b"`, `"say ""so"""`, "\"two\nlines\"", "x",
	strings.Repeat("long ", 15), `"` + strings.Repeat("quoted, ", 9) + `"`, "\t", "1.5"}

func TestRecordsCutAlongMarksAreThoseOfAScannerOfSingleBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for round := range 20_000 {
		var data []byte
		pieces := quotedPieces
		if round%2 == 0 { // mostly sound records, so that a run of them is long
			pieces = []string{`"a,b"`, `"say ""so"""`, "\"two\nlines\"", "x", "", `"` + strings.Repeat("quoted, ", 9) + `"`}
			for range r.IntN(60) {
				data = append(data, pieces[r.IntN(len(pieces))]+","+pieces[r.IntN(len(pieces))]+","+pieces[r.IntN(len(pieces))]...)
				if r.IntN(30) == 0 {
					data = append(data, quotedPieces[r.IntN(len(quotedPieces))]...)
				}
				data = append(data, []string{"\n", "\r\n"}[round/2%2]...)
			}
		} else {
			for range r.IntN(80) {
				data = append(data, pieces[r.IntN(len(pieces))]...)
			}
		}
		layout := Standard
		if round%16 > 13 {
			layout.LineEnd = '\r'
		}
		checkTaken(t, layout, 3, data)
	}
}

// What begins in one part may end in another, or never.
func TestRecordsOfSeveralPartsAreCutAlongMarksAlike(t *testing.T) {
	r := rand.New(rand.NewPCG(23, 24))
	for round := range 12 {
		var data []byte
		for len(data) < 5*partSize {
			data = append(data, fmt.Sprintf("%d,\"a text, of \"\"%d\"\"\nand a second line\",%d\n", r.IntN(100), r.IntN(1e6), len(data))...)
			switch r.IntN(3000) {
			case 0:
				data = append(data, "1,\"never closed,2\n"...)
			case 1:
				data = append(data, "1,12\" pipe,2\n"...)
			case 2:
				data = append(data, "1,\""+strings.Repeat("a line\n", 100*r.IntN(300))+"\",2\n"...)
			}
		}
		if round%2 == 0 {
			data = data[:len(data)-r.IntN(60)]
		}
		checkTaken(t, Standard, 3, data)
	}
}

// Whatever encoding/csv reads without complaint is read alike.
func FuzzRecords(f *testing.F) {
	for _, s := range []string{"a,b,c\n\"1\n2\",3,4\n", "\"x\"\"y\",\"\",\"\"\"\"\n1,2,3", "a,\"b\r\nc\",d\r\n\"e\",f,g\r\n", "\"a\"b,c\n", "\"\n\"\",\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		data = bytes.ReplaceAll(bytes.ToValidUTF8(data, []byte("?")), []byte{0}, []byte("?"))
		checkTaken(t, Standard, 3, data)
		in := csv.NewReader(bytes.NewReader(data))
		in.FieldsPerRecord = -1
		want, err := in.ReadAll()
		if err != nil || bytes.ContainsAny(data, "\r\t\v\f ") {
			return // encoding/csv changes carriage returns within cells, and we set lines of spaces aside
		}
		got := takenByMarks(t, Standard, 3, data)
		for i := range max(len(got), len(want)) {
			if i >= len(got) || i >= len(want) || !slices.Equal(got[i].cells, padTo(want[i], 3)) {
				t.Fatalf("of %q\nrecord %d is read otherwise than by encoding/csv: %v, want %q", data, i, got, want)
			}
		}
	})
}

func padTo(cells []string, width int) []string {
	for len(cells) < width {
		cells = append(cells, "")
	}
	return cells
}

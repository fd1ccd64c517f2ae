package workbook

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/content/contenttest"
)

// inPieces converts a sheet as it is, in pieces of some size.
type inPieces struct {
	reader
	sheet string
	times int
}

func (p *inPieces) Convert(ctx context.Context, to *content.Records) error {
	p.times++
	return p.pieces(ctx, strings.NewReader(p.sheet), to)
}

// converted is what becomes of a sheet: its text, what is wrong with its lines, and its width.
func converted(t *testing.T, p *inPieces) (text string, flaws string, err error) {
	t.Helper()
	p.parts, p.merged = twinBook(), map[int][][2]int{}
	return contenttest.Converted(t, p)
}

func heldInPieces(t *testing.T, sheet string, sizes ...int) (times int) {
	t.Helper()
	whole := &inPieces{sheet: sheet, reader: reader{inOne: true}}
	text, flaws, wrong := converted(t, whole)
	for _, size := range sizes {
		pieces := &inPieces{sheet: sheet, reader: reader{pieceSize: size}}
		gotText, gotFlaws, err := converted(t, pieces)
		if (wrong == nil) != (err == nil) || wrong != nil && wrong.Error() != err.Error() {
			t.Fatalf("in pieces of %d bytes: %v, and in one: %v, in %q", size, err, wrong, sheet)
		}
		if gotText != text || gotFlaws != flaws || pieces.width != whole.width || len(pieces.merged) != len(whole.merged) {
			t.Fatalf("in pieces of %d bytes:\n%q %s\nand in one:\n%q %s\nof %q", size, gotText, gotFlaws, text, flaws, sheet)
		}
		times += pieces.times
	}
	return times
}

func TestASheetInPiecesIsWhatItIsInOne(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 150 {
		heldInPieces(t, sheetAtRandom(r, 60), 100, 300, 1000, 5000)
	}
}

func TestASheetIsReadOnceWhereItsRowsSayWhichTheyAre(t *testing.T) {
	rows := func(row string, n int) string {
		var b strings.Builder
		b.WriteString("<w><sheetData>")
		for i := range n {
			b.WriteString(strings.ReplaceAll(row, "#", string("123456789"[i])))
		}
		return b.String() + `</sheetData><mergeCells><mergeCell ref="A1:C1"/></mergeCells></w>`
	}
	plain := rows(`<row r="#"><c r="B#"><v>#.5</v></c><c t="s"><v>2</v></c></row>`, 9)
	for name, c := range map[string]struct {
		sheet string
		times int
	}{
		"plain":                   {plain, 1},
		"rows left out":           {strings.Replace(plain, `<row r="5"><c r="B5"><v>5.5</v></c><c t="s"><v>2</v></c></row>`, "", 1), 1},
		"rows without numbers":    {rows(`<row><c r="B#"><v>#.5</v></c></row>`, 9), 2},
		"a comment":               {strings.Replace(plain, `<row r="6">`, `<!-- <row></row> --><row r="6">`, 1), 2},
		"a comment over pieces":   {strings.Replace(plain, `<row r="6">`, `<!-- `+strings.Repeat("<row></row>", 40)+` --><row r="6">`, 1), 2},
		"a text as it stands":     {strings.Replace(plain, `<v>6.5</v>`, `<v><![CDATA[</row>]]></v>`, 1), 2},
		"rows in the wrong order": {strings.Replace(plain, `r="7"`, `r="3"`, 1), 2},
		"an element of its own":   {strings.Replace(plain, `<row r="6">`, `</sheetData><sheetData><row r="6">`, 1), 1},
		"one that is not closed":  {strings.Replace(plain, `<row r="6">`, `<other><row r="6">`, 1), 2},
		"cut off":                 {plain[:len(plain)/2], 2},
		"with another prefix":     {strings.NewReplacer("<row", "<x:row", "</row", "</x:row").Replace(plain), 1},
		"a document type":         {`<!DOCTYPE w>` + plain, 2},
	} {
		if times := heldInPieces(t, c.sheet, 120); times != c.times && name != "cut off" {
			t.Errorf("%s: read %d times, want %d", name, times, c.times)
		}
	}
}

func TestASheetInPiecesEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	w := &reader{parts: twinBook(), merged: map[int][][2]int{}, pieceSize: 50}
	sheet := sheetAtRandom(rand.New(rand.NewPCG(1, 1)), 400)
	err := w.pieces(ctx, &endsWith{ctx, strings.NewReader(sheet)}, &content.NewBlock().Records)
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if w.inOne {
		t.Error("it would be read again")
	}
}

// endsWith is a text whose reading ends with a context.
type endsWith struct {
	ctx context.Context
	in  io.Reader
}

func (e *endsWith) Read(p []byte) (int, error) {
	if err := e.ctx.Err(); err != nil {
		return 0, err
	}
	return e.in.Read(p)
}

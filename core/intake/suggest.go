package intake

import (
	"bytes"
	"context"
	"errors"
	"io"
	"unicode/utf8"

	"proudsieve/core/table"
)

// likelyDates are the date patterns that Suggest tries.
var likelyDates = []string{"yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "yyyy/MM/dd"}

// Suggest looks at the start of a file and says how it is probably read. What it
// cannot tell it leaves at the default; a date pattern is only named where the
// values exclude the other order of day and month.
func Suggest(ctx context.Context, open Opener) (Reading, error) {
	in, err := open(0)
	if err != nil {
		return Reading{}, err
	}
	defer in.Close()
	head := make([]byte, headSize)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return Reading{}, err
	}
	head = head[:n]
	var r Reading
	switch {
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}):
		r.Encoding = "utf-16le"
	case bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		r.Encoding = "utf-16be"
	case validStart(head, n == headSize):
		r.Encoding = "utf-8"
	default:
		r.Encoding = "windows-1252"
	}
	r.Delimiter = likelyDelimiter(head)
	r = r.WithDefaults()
	sample, err := sampleTexts(ctx, open, r)
	if err != nil {
		return r, err
	}
	r.DecimalMark = likelyDecimalMark(sample)
	if dates := decidedDates(sample); len(dates) > 0 {
		r.Dates = dates
	}
	return r, nil
}

func validStart(head []byte, cut bool) bool {
	if cut { // the last character may have been cut in two
		for i := 0; i < utf8.UTFMax && len(head) > 0 && !utf8.Valid(head); i++ {
			head = head[:len(head)-1]
		}
	}
	return utf8.Valid(head)
}

// likelyDelimiter is the one that parts most of the first lines into the same
// number of cells, more than one.
func likelyDelimiter(head []byte) string {
	head = bytes.ReplaceAll(head, []byte{0}, nil) // so that UTF-16 can be looked at too
	best, bestScore := ",", 0
	for _, d := range []string{",", ";", "\t", "|"} {
		s := scanner{delimiter: d[0], quote: '"', quoting: true, lineEnd: '\n'}
		if bytes.IndexByte(head, '\n') < 0 {
			s.lineEnd = '\r'
		}
		widths, rest := map[int]int{}, head
		for line := 0; line < 100 && len(rest) > 0; line++ {
			r := s.record(rest, true, true)
			widths[len(s.appendCells(nil, rest[:r.end], r.form))]++
			rest = rest[r.end:]
		}
		for width, lines := range widths {
			if score := (width - 1) * lines * lines; width > 1 && score > bestScore {
				best, bestScore = d, score
			}
		}
	}
	return best
}

// sampleTexts returns the distinct texts of each column in the first part of the file.
func sampleTexts(ctx context.Context, open Opener, r Reading) ([][]string, error) {
	b, err := Sample(ctx, open, r)
	if b == nil {
		return nil, err
	}
	texts := make([][]string, len(b.Columns))
	for i := range b.Columns {
		texts[i] = b.Columns[i].Texts
	}
	return texts, nil
}

func likelyDecimalMark(columns [][]string) string {
	points, commas := 0, 0
	point, comma := &table.Format{DecimalMark: '.'}, &table.Format{DecimalMark: ','}
	for _, texts := range columns {
		for _, text := range texts {
			_, asPoint := point.Parse(table.TypeDecimal, text)
			_, asComma := comma.Parse(table.TypeDecimal, text)
			if asPoint && !asComma {
				points++
			}
			if asComma && !asPoint {
				commas++
			}
		}
	}
	if commas > points {
		return ","
	}
	return "."
}

func decidedDates(columns [][]string) []string {
	var decided []string
	for _, source := range likelyDates {
		pattern := table.MustDatePatterns(source)[0]
		for _, texts := range columns {
			fits, better := 0, false
			for _, text := range texts {
				if _, ok := pattern.Parse(text); ok {
					fits++
				}
			}
			for _, other := range likelyDates {
				if other == source {
					continue
				}
				rival := 0
				for _, text := range texts {
					if _, ok := table.MustDatePatterns(other)[0].Parse(text); ok {
						rival++
					}
				}
				better = better || rival >= fits
			}
			if fits > 0 && fits*10 >= len(texts)*8 && !better {
				decided = append(decided, source)
				break
			}
		}
	}
	return decided
}

// Sample returns the first part of a file as one batch; nil where it has no rows.
func Sample(ctx context.Context, open Opener, r Reading) (*table.Batch, error) {
	f, err := Open(open, r)
	if err != nil {
		return nil, err
	}
	p, err := f.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	part, err := p.Next()
	if errors.Is(err, io.EOF) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return part.Batch(nil)
}

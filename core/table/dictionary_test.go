package table

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"
)

// cellsOf lays texts out as a reader of files does: long ones in the data.
func cellsOf(texts []string) Cells {
	var c Cells
	for _, text := range texts {
		start := uint32(len(c.Data))
		c.Data = append(c.Data, text...)
		if len(text) <= InlineLength {
			c.Tokens = append(c.Tokens, TokenOf(text))
		} else {
			c.Tokens = append(c.Tokens, Placed(start, uint32(len(c.Data))))
		}
	}
	return c
}

func soundUTF8(raw string) (string, DefectKind) {
	if utf8.ValidString(raw) {
		return raw, ""
	}
	return strings.ToValidUTF8(raw, "\uFFFD"), BadBytes
}

func TestADictionaryGivesEveryTextOneCode(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	d, known := NewDictionary(), map[string]uint32{}
	for batch := range 20 {
		column := make([]string, 1000)
		for i := range column {
			column[i] = fmt.Sprint(r.IntN(3000))
			if r.IntN(4) == 0 {
				column[i] = "a text that is longer than a token " + column[i]
			}
		}
		for i, code := range d.Encode(cellsOf(column), soundUTF8) {
			if d.Texts[code] != column[i] {
				t.Fatalf("row %d of batch %d is %q, want %q", i, batch, d.Texts[code], column[i])
			}
			if was, ok := known[column[i]]; ok && was != code {
				t.Fatalf("%q has the codes %d and %d", column[i], was, code)
			}
			known[column[i]] = code
		}
	}
	if len(d.Texts) != len(known) {
		t.Errorf("%d texts of %d", len(d.Texts), len(known))
	}
	for text, code := range known {
		if got, ok := d.Find(TokenOf(text), text); !ok || got != code {
			t.Errorf("%q is found as %d, %v, want %d", text, got, ok, code)
		}
	}
	if _, ok := d.Find(TokenOf("never met"), "never met"); ok {
		t.Error("a text that was never met is found")
	}
	d.Reset()
	if _, ok := d.Find(TokenOf("1"), "1"); ok || len(d.Texts) > 0 {
		t.Error("a text is found after the dictionary was emptied")
	}
}

func TestADictionaryOfNothingButNewTextsRemembersNoMoreThanABatch(t *testing.T) {
	for _, sparing := range []bool{false, true} {
		d := NewDictionary()
		d.Sparing = sparing
		next := 0
		for batch := range 12 {
			column := make([]string, 3000)
			for i := range column {
				next++
				column[i] = fmt.Sprintf("id-%d", next)
				switch i % 100 {
				case 7:
					column[i] = "unknown"
				case 8:
					column[i] = "a broken \xff text that is longer than a token"
				case 9:
					column[i] = "\xff"
				case 10:
					column[i] = ""
				}
			}
			codes := d.Encode(cellsOf(column), soundUTF8)
			for i, code := range codes {
				want, kind := soundUTF8(column[i])
				if got := d.Text(code); got != want || d.Flawed[code] != kind {
					t.Fatalf("sparing %v, row %d of batch %d: %q with %q, want %q with %q", sparing, i, batch, got,
						d.Flawed[code], want, kind)
				}
			}
			if MostlyNew(len(d.Texts), next, 1) {
				d.Reset()
				d.Apart = true
			}
		}
		if !d.Apart || len(d.Texts) > 3000 {
			t.Errorf("sparing %v: apart %v with %d texts", sparing, d.Apart, len(d.Texts))
		}
	}
}

func TestAdoptedColumnsKeepTheirCells(t *testing.T) {
	d := NewDictionary()
	d.Encode(cellsOf([]string{"x", "y"}), soundUTF8)
	column := d.Adopt(Column{Texts: []string{"z", "y", "z"}, Codes: []uint32{0, 1, 2, 1}})
	for i, want := range []string{"z", "y", "z", "y"} {
		if got := column.At(i); got != want {
			t.Errorf("row %d is %q, want %q", i, got, want)
		}
	}
	if column.Codes[0] != column.Codes[2] || column.Codes[1] != 1 {
		t.Errorf("codes %v", column.Codes)
	}
}

func TestStretchesSeeEveryRowInOrderWithOneDictionary(t *testing.T) {
	type state struct {
		d    []*Dictionary
		rows []uint32
	}
	for _, workers := range []int{1, 8} {
		var rows []uint32
		stretches := 0
		source := numbers{parts: stretchParts(0) + stretchParts(1) + stretchParts(2) + 1, rowsEach: 5, failAt: -1}
		begin := func() (*state, []*Dictionary) {
			s := &state{d: []*Dictionary{NewDictionary()}}
			return s, s.d
		}
		work := func(s *state, b *Batch) error {
			for i, row := range b.Rows {
				if got := b.Columns[0].At(i); got != fmt.Sprint(row) {
					t.Errorf("row %d is %q", row, got)
				}
				s.rows = append(s.rows, row)
			}
			if &b.Columns[0].Texts[0] != &s.d[0].Texts[0] {
				t.Error("the batch does not share the dictionary of its stretch")
			}
			return nil
		}
		if err := ScanStretches(context.Background(), source, workers, begin, work, func(*state) error { return nil },
			func(s *state) error {
				stretches++
				rows = append(rows, s.rows...)
				return nil
			}); err != nil {
			t.Fatal(err)
		}
		if stretches != 4 || len(rows) != source.parts*source.rowsEach {
			t.Errorf("%d stretches with %d rows", stretches, len(rows))
		}
		for i, row := range rows {
			if row != uint32(i)+1 {
				t.Fatalf("row %d comes at place %d", row, i+1)
			}
		}
	}
}

func TestAStretchThatFailsEndsTheScan(t *testing.T) {
	taken := 0
	err := ScanStretches(context.Background(), numbers{parts: stretchParts(0) * 2, rowsEach: 2,
		failAt: stretchParts(0) + 3}, 3,
		func() (int, []*Dictionary) { return 0, []*Dictionary{NewDictionary()} },
		func(int, *Batch) error { return nil }, func(int) error { return nil }, func(int) error { taken++; return nil })
	if err != errBrokenDisk {
		t.Errorf("the error is %v", err)
	}
	if taken > 2 {
		t.Errorf("%d stretches were taken", taken)
	}
}

func TestStretchesGrowUpToALength(t *testing.T) {
	for n, want := range map[int]int{0: 16, 1: 16, 2: 32, 3: 32, 7: 128, 8: 256, 9: 256, 10: 256, 1000: 256,
		math.MaxInt: 256} {
		if got := stretchParts(n); got != want {
			t.Errorf("stretch %d has %d parts, want %d", n, got, want)
		}
	}
}

// A text that was asked for stays as it is, also where the cells of a batch stand apart and its bytes are written over.
func TestATextOutlivesTheBytesItWasReadFrom(t *testing.T) {
	d := NewDictionary()
	d.Sparing, d.Apart = true, true
	long := "a text that no token holds"
	data := []byte(long + strings.Repeat(" ", TokenSlack))
	cells := Cells{Tokens: []Token{Placed(0, uint32(len(long))), TokenOf("short")}, Data: data, Clean: true}
	codes := d.Encode(cells, nil)
	kept, short, glanced := d.Text(codes[0]), d.Text(codes[1]), strings.Clone(d.Glance(codes[0]))
	for i := range data {
		data[i] = 'x'
	}
	d.Encode(Cells{Tokens: []Token{TokenOf("other"), TokenOf("texts")}, Data: data, Clean: true}, nil)
	if kept != long || glanced != long || short != "short" {
		t.Errorf("the texts are now %q, %q and %q", kept, glanced, short)
	}
}

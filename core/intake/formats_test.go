package intake

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake/content"
	"proudsieve/core/table"
)

func inMemory(text string) content.Opener {
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(text[offset:])), nil
	}
}

func TestFormatsAreKnownByTheirContent(t *testing.T) {
	for text, want := range map[string]string{
		"a,b\n1,2\n": "delimited", "": "delimited", "{\"a\":1}\n": "json_lines", "\ufeff  {\"a\" :1}": "json_lines",
		"{}": "json_lines", "{x},y\n": "delimited", "{\"a\",1\n": "delimited",
		"[{\"a\":1}]": "json_array", "[]": "json_array", "[1,2]": "delimited", "[section]\na=1\n": "delimited",
		"PAR1xxx": "parquet", "{\"a\\\"b\": 1}": "json_lines",
	} {
		if got, err := content.Look(t.Context(), inMemory(text), "", ""); err != nil || got.Format.Name != want {
			t.Errorf("%q is %+v, want %s; %v", text, got, want, err)
		}
	}
}

func TestTheDeclaredFormatCounts(t *testing.T) {
	c, err := content.Look(t.Context(), inMemory("{\"a\":1}\n"), "delimited", "")
	if err != nil || c.Format.Name != "delimited" {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := content.Look(t.Context(), inMemory("a,b\n"), "parquet", ""); !errors.Is(err, content.ErrFormat) {
		t.Errorf("%v", err)
	}
}

func TestBrokenZipsAreSaidToBe(t *testing.T) {
	if _, err := content.Look(t.Context(), inMemory("PK\x03\x04 and nothing more"), "", ""); err == nil ||
		!strings.Contains(err.Error(), "damaged") {
		t.Errorf("%v", err)
	}
}

func TestLinesOfJSONAreThoseOfTheFile(t *testing.T) {
	f, err := Open(context.Background(), inMemory("{\"a\":1}\n\n\n{\"a\":\"two\\nlines\"}\nbroken\n{\"a\":4}\n"),
		Reading{HeaderLine: NoHeader}.WithDefaults())
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
	if len(b.Defects) != 1 || b.Defects[0].Kind != table.BrokenRecord || b.Defects[0].Line != 5 ||
		b.Surplus[2][0] != "broken" {
		t.Errorf("%+v, beyond the columns %v", b.Defects, b.Surplus)
	}
}

func TestClosingLinesAreSetAsideWhereverTheyFall(t *testing.T) {
	for _, rows := range []int{0, 1, 5, 30_000} { // within one part, and in several
		for _, closing := range []int{1, 3} {
			text := "a,b\n" + strings.Repeat("row,1\n", rows) + strings.Repeat("closing,\n", closing) + "\n"
			f, err := Open(context.Background(), inMemory(text), Reading{ClosingLines: closing}.WithDefaults())
			if err != nil {
				t.Fatal(err)
			}
			got, setAside := 0, int64(0)
			err = table.Scan(context.Background(), f, 2, func(b *table.Batch) (*table.Batch, error) { return b, nil },
				func(b *table.Batch) error {
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

// Records at the end that begin with a declared text are no rows; a delivery without any loses none.
func TestClosingLinesAreKnownByHowTheyBegin(t *testing.T) {
	for _, c := range []struct {
		body    string
		rows    int
		closing []string
	}{
		{"row,1\nrow,2\n", 2, nil},
		{"row,1\nrow,2\nTOTAL,3\n", 2, []string{"TOTAL 3"}},
		{"row,1\n  total of May,3\n,Note:  x\n\n", 1, []string{"total of May 3", "Note: x"}},
		{"total,1\nrow,2\n", 2, nil}, // in the middle it is data
		{"note,1\ntotal,3\n", 0, []string{"note 1", "total 3"}},
		{strings.Repeat("row,1\n", 30_000) + "total,30000\n", 30_000, []string{"total 30000"}},
		{strings.Repeat("row,"+strings.Repeat("long ", 800)+"\n", 200) + "total,30000\n", 200, []string{"total 30000"}},
	} {
		f, err := Open(context.Background(), inMemory("a,b\n"+c.body), Reading{Closing: []string{"Total", "note"}}.WithDefaults())
		if err != nil {
			t.Fatal(err)
		}
		rows, closing := 0, []string(nil)
		err = table.Scan(context.Background(), f, 2, func(b *table.Batch) (*table.Batch, error) { return b, nil },
			func(b *table.Batch) error {
				rows += b.Len()
				closing = append(closing, b.Closing...)
				return nil
			})
		if err != nil || rows != c.rows || !slices.Equal(closing, c.closing) {
			t.Errorf("%.40q: %d rows, closing lines %q, %v; want %d and %q", c.body, rows, closing, err, c.rows, c.closing)
		}
	}
}

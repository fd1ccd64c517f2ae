package table

import (
	"bytes"
	"encoding/csv"
	"testing"
)

// Tables are written byte for byte as Go's own package writes CSV.
func FuzzRowsAreWrittenAsCSV(f *testing.F) {
	for _, text := range []string{"a", "", " a", "a,b", "a\"b", "a\nb", "\r", `\.`, "\u00a0a", "\xff", "ä", `"`} {
		f.Add(text, "x", 2)
	}
	f.Fuzz(func(t *testing.T, one, two string, columns int) {
		columns = 1 + (columns&3)%3
		names := []string{"first", one, "third"}[:columns]
		b := &Batch{Rows: []uint32{1, 2, 3}, Lines: []int64{2, 3, 4}}
		for range columns {
			b.Columns = append(b.Columns, Column{Texts: []string{one, two}, Codes: []uint32{0, 1, 0}})
		}
		var got, want bytes.Buffer
		w := NewWriter(&got, names)
		if err := w.Write(b); err != nil {
			t.Fatal(err)
		}
		standard := csv.NewWriter(&want)
		record := func(cells []string) {
			if standard.Flush(); len(cells) == 1 && cells[0] == "" { // encoding/csv writes a blank line
				want.WriteString("\"\"\n")
				return
			}
			if err := standard.Write(cells); err != nil {
				t.Fatal(err)
			}
		}
		record(names)
		for at := range b.Rows {
			cells := make([]string, columns)
			for c := range cells {
				cells[c] = b.Columns[c].At(at)
			}
			record(cells)
		}
		if standard.Flush(); !bytes.Equal(got.Bytes(), want.Bytes()) {
			t.Errorf("%q, want %q", got.Bytes(), want.Bytes())
		}
	})
}

package intake

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/table"
)

// gauged is a row of a format that is read by columns.
type gauged struct {
	ID    int64    `parquet:"id"`
	Gauge *string  `parquet:"gauge,optional,dict"`
	Level *float64 `parquet:"level,optional"`
	Says  string   `parquet:"says"`
	Tags  []string `parquet:"tags,list"`
}

func wants(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func gaugedFile(t *testing.T, rows int) string {
	t.Helper()
	r := rand.New(rand.NewPCG(4, uint64(rows)))
	var out bytes.Buffer
	w := parquet.NewGenericWriter[gauged](&out, parquet.PageBufferSize(5000), parquet.MaxRowsPerRowGroup(3000))
	for i := range rows {
		g := gauged{ID: int64(i), Says: strings.Repeat("said, \"so\"\n", r.IntN(4))}
		if r.IntN(4) > 0 {
			name := "the gauge below bridge " + strconv.Itoa(r.IntN(300))
			g.Gauge = &name
		}
		if r.IntN(3) > 0 {
			level := float64(r.IntN(1000)) / 8
			g.Level = &level
		}
		switch i % 1500 {
		case 7:
			g.Says = "a\x00b"
		case 8:
			g.Says = "a text with a NUL\x00 far behind"
		case 9:
			nul := "\x00"
			g.Gauge = &nul
		case 10:
			g.Tags = []string{"bank", "weir"}
		}
		if i == 2000 {
			g.Says = strings.Repeat("much ", 250_000)
		}
		if _, err := w.Write([]gauged{g}); err != nil {
			t.Fatal(err)
		}
	}
	wants(t, w.Close())
	return out.String()
}

// read returns the rows of a table with their lines, and the defects of its bytes.
func read(t *testing.T, f *File, workers int) (rows []string, defects []table.Defect) {
	t.Helper()
	wants(t, table.Scan(t.Context(), f, workers, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
		for i := range b.Rows {
			row := fmt.Sprint(b.Rows[i], " on ", b.Lines[i])
			for c := range b.Columns {
				row += " | " + b.Columns[c].At(i)
			}
			rows = append(rows, row)
		}
		defects = append(defects, b.Defects...)
		return nil
	}))
	return rows, defects
}

func TestWhatIsReadByColumnsIsWhatItsTextSays(t *testing.T) {
	for _, rows := range []int{0, 1, 63, 65, 5000} {
		file := gaugedFile(t, rows)
		byColumns, err := Open(t.Context(), inMemory(file), Reading{}.WithDefaults())
		wants(t, err)
		if byColumns.Blocks == nil {
			t.Fatal("it is not read by columns")
		}
		byText, err := Open(t.Context(), inMemory(file), Reading{}.WithDefaults())
		wants(t, err)
		byText.Blocks = nil
		want, wantedDefects := read(t, byText, 1)
		for _, workers := range []int{1, 8} {
			got, defects := read(t, byColumns, workers)
			if len(got) != rows || !reflect.DeepEqual(got, want) {
				t.Errorf("%d rows with %d workers: %d and %d rows; they differ", rows, workers, len(got), len(want))
			}
			if !reflect.DeepEqual(defects, wantedDefects) {
				t.Errorf("%d rows with %d workers: defects %v, want %v", rows, workers, defects, wantedDefects)
			}
		}
		if rows == 5000 && len(wantedDefects) != 3*4+1 {
			t.Errorf("%d defects: %v", len(wantedDefects), wantedDefects)
		}
		wants(t, byColumns.Close())
		wants(t, byText.Close())
	}
}

// Some of the columns, in another order, and with a part of the rows given up on the way.
func TestSomeColumnsOfWhatIsReadByColumns(t *testing.T) {
	f, err := Open(t.Context(), inMemory(gaugedFile(t, 4000)), Reading{}.WithDefaults())
	wants(t, err)
	sum, met := 0, 0
	wants(t, table.ScanBatches(t.Context(), table.Only(f, []int{2, 0}), 2, func(b *table.Batch) (*table.Batch, error) { return b, nil },
		func(b *table.Batch) error {
			for i := range b.Rows {
				id, err := strconv.Atoi(b.Columns[1].At(i))
				wants(t, err)
				sum += id
				met++
			}
			return nil
		}))
	if met != 4000 || sum != 4000*3999/2 {
		t.Errorf("%d rows whose numbers sum to %d", met, sum)
	}
	parts, err := f.Open(t.Context())
	wants(t, err)
	_, err = parts.Next()
	wants(t, err)
	wants(t, parts.Close())
	wants(t, f.Close())
}

// A column of nothing but different texts is not looked up; what is wrong with the bytes of a long one is told all the same.
func TestLongTextsWithBadBytesInAColumnOfDifferentOnes(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,says\n")
	for i := range 30_000 {
		fmt.Fprintf(&text, "%d,what was said of visit %d", i, i)
		switch i % 10_000 {
		case 9_997:
			text.WriteString("\xff")
		case 9_998:
			text.WriteString("\x00")
		}
		text.WriteString("\n")
	}
	f, err := Open(t.Context(), inMemory(text.String()), Reading{}.WithDefaults())
	wants(t, err)
	var told []string
	wants(t, table.ScanBatches(t.Context(), f, 2, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
		for _, d := range b.Defects {
			told = append(told, fmt.Sprintf("%d %s %s %s", d.Row, d.Column, d.Kind, d.Detail))
		}
		return nil
	}))
	var want []string
	for _, i := range []int{9_997, 19_997, 29_997} {
		want = append(want, fmt.Sprintf(`%d says undecodable_bytes "what was said of visit %d\xff"`, i+1, i), fmt.Sprintf(`%d says nul_byte "what was said of visit %d\x00"`, i+2, i+1))
	}
	if !reflect.DeepEqual(told, want) {
		t.Errorf("told %q, want %q", told, want)
	}
	wants(t, f.Close())
}

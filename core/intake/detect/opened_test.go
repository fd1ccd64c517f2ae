package detect_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/xuri/excelize/v2"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/table"
)

// counted counts how often a file is opened, and how many of its bytes are read.
type counted struct {
	opened int
	read   int64
}

func (c *counted) at(path string) content.Opener {
	return func(offset int64) (io.ReadCloser, error) {
		c.opened++
		in, err := content.AtPath(path)(offset)
		if err != nil {
			return nil, err
		}
		return &countedFile{in.(*os.File), c}, nil
	}
}

type countedFile struct {
	*os.File
	c *counted
}

func (f *countedFile) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	f.c.read += int64(n)
	return n, err
}

func (f *countedFile) ReadAt(p []byte, offset int64) (int, error) {
	n, err := f.File.ReadAt(p, offset)
	f.c.read += int64(n)
	return n, err
}

// Working out how a file is read, opening it and reading all of it opens a text once or twice,
// and reads what was no text once.
func TestHowOftenAFileIsOpened(t *testing.T) {
	lines := strings.Repeat("A-1,12.5,2024-05-31,a remark that takes some room\n", 60_000)
	objects := strings.Repeat(`{"station":"A-1","flow":12.5,"remark":"that takes some room"}`+"\n", 40_000)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, _ = z.Write([]byte("station,flow,day,remark\n" + lines))
	_ = z.Close()
	book := excelize.NewFile()
	for i := range 3000 {
		row := []any{fmt.Sprint("station ", i), i * 7, fmt.Sprintf("a remark of its own, number %d", i*i)}
		if err := book.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	sheet, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, content string
		opened        int
		times         float64 // its bytes are read, at most
	}{
		{"small.csv", "station,flow\nA-1,1\n", 1, 1},
		{"large.csv", "station,flow,day,remark\n" + lines, 2, 1.05},
		{"large.csv.gz", packed.String(), 2, 2},
		{"small.jsonl", `{"a":1}`, 1, 1},
		{"large.jsonl", objects, 2, 1.05},
		{"large.json", "[" + strings.TrimSuffix(strings.ReplaceAll(objects, "\n", ","), ",") + "]", 2, 1.05},
		{"book.xlsx", sheet.String(), 1, 1},
	} {
		path := filepath.Join(t.TempDir(), c.name)
		if err := os.WriteFile(path, []byte(c.content), 0o600); err != nil {
			t.Fatal(err)
		}
		var n counted
		d, err := detect.Detect(context.Background(), n.at(path), intake.Reading{})
		if err != nil {
			t.Fatal(c.name, err)
		}
		rows := 0
		if err := table.Scan(context.Background(), d.File, 2, func(b *table.Batch) (int, error) { return b.Len(), nil },
			func(n int) error {
				rows += n
				return nil
			}); err != nil || rows == 0 {
			t.Errorf("%s: %d rows, %v", c.name, rows, err)
		}
		if times := float64(n.read) / float64(len(c.content)); n.opened > c.opened || times > c.times {
			t.Errorf("%s is opened %d times and read %.2f times; %d and %v are enough", c.name, n.opened, times,
				c.opened, c.times)
		}
		if err := d.File.Close(); err != nil {
			t.Error(err)
		}
	}
}

// Closing lines are found however long the file is: at the end of what was seen at once, and at
// that of a longer file.
func TestClosingLinesOfLongFiles(t *testing.T) {
	for _, rows := range []int{10, 1_500, 40_000, 90_000} {
		path := filepath.Join(t.TempDir(), "results.csv")
		text := "station,flow,day\n" + strings.Repeat("A-1,12.5,2024-05-31\n", rows) + "TOTAL,99,\n"
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		d, err := detect.Detect(context.Background(), content.AtPath(path), intake.Reading{})
		if err != nil || !slices.Equal(d.Reading.Closing, []string{"TOTAL"}) {
			t.Errorf("%d rows: the closing lines begin with %q, %v", rows, d.Reading.Closing, err)
		}
	}
}

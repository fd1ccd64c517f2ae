package detect_test

import (
	"context"
	"fmt"
	"io"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/table"
)

// A file's way in: it is opened, its reading is worked out, and its rows come in batches.
func ExampleDetect() {
	file := "station;flow\nAV-001;1,5\nAV-002;2,25\n"
	open := content.Opener(func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(file[offset:])), nil
	})
	d, err := detect.Detect(context.Background(), open, intake.Reading{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer d.File.Close()
	fmt.Printf("delimiter %q, decimal mark %q, columns %v\n", d.Reading.Delimiter, d.Reading.DecimalMark,
		d.File.Columns())
	work := func(b *table.Batch) (string, error) { return b.Columns[0].At(0) + ", " + b.Columns[1].At(1), nil }
	err = table.Scan(context.Background(), d.File, 1, work, func(line string) error {
		fmt.Println(line)
		return nil
	})
	fmt.Println(err)
	// Output:
	// delimiter ";", decimal mark ",", columns [station flow]
	// AV-001, 2,25
	// <nil>
}

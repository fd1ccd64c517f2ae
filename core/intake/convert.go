package intake

import (
	"bufio"
	"context"
	"errors"
	"io"
	"sync"

	"proudsieve/core/guard"
	"proudsieve/core/table"
)

// Formats other than delimited text are turned, as they are read, into delimited text
// in the standard reading, so that there is one way from text to rows. What is wrong
// with a record goes beside it. A record keeps the line, or the number, that it has in
// the file.

// converter writes the records of a file that is no delimited text.
type converter interface {
	// columns returns the names of the columns, which may take a look at the whole file.
	columns(ctx context.Context) ([]string, error)
	// convert writes all records.
	convert(ctx context.Context, to *records) error
}

// records takes what a converter writes.
type records struct {
	out     *bufio.Writer
	mutex   sync.Mutex
	written uint32 // records
	places  []place
	defects []table.Defect
}

// place says that from a record on, lines are counted from line.
type place struct {
	row  uint32
	line int64
}

// write writes one record that stands on a line of the file.
func (r *records) write(line int64, cells []string, defects ...table.Defect) error {
	r.mutex.Lock()
	r.written++
	row := r.written
	if n := len(r.places); n == 0 || r.places[n-1].line+int64(row-r.places[n-1].row) != line {
		r.places = append(r.places, place{row, line})
	}
	for _, d := range defects {
		d.Row, d.Line, d.Detail = row, line, clip(d.Detail)
		r.defects = append(r.defects, d)
	}
	r.mutex.Unlock()
	for i, text := range cells {
		if i > 0 {
			if err := r.out.WriteByte(','); err != nil {
				return err
			}
		}
		if err := r.cell(text, len(cells) == 1); err != nil {
			return err
		}
	}
	return r.out.WriteByte('\n')
}

func (r *records) cell(text string, alone bool) error {
	quoted := text == "" && alone
	for i := 0; i < len(text) && !quoted; i++ {
		switch text[i] {
		case ',', '"', '\n', '\r':
			quoted = true
		case ' ', '\t':
			quoted = alone
		}
	}
	if !quoted {
		_, err := r.out.WriteString(text)
		return err
	}
	_ = r.out.WriteByte('"')
	for i := 0; i < len(text); i++ {
		if text[i] == '"' {
			_ = r.out.WriteByte('"')
		}
		_ = r.out.WriteByte(text[i])
	}
	return r.out.WriteByte('"')
}

// taken returns the defects of the records up to row, and forgets them.
func (r *records) taken(row uint32) []table.Defect {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	n := 0
	for n < len(r.defects) && r.defects[n].Row <= row {
		n++
	}
	out := r.defects[:n:n]
	r.defects = r.defects[n:]
	return out
}

// line returns the line of a record; earlier ones are forgotten.
func (r *records) line(row uint32) int64 {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for len(r.places) > 1 && r.places[1].row <= row {
		r.places = r.places[1:]
	}
	if len(r.places) == 0 {
		return int64(row)
	}
	return r.places[0].line + int64(row-r.places[0].row)
}

// startConverting converts on a goroutine of its own; closing the reader ends it.
func startConverting(ctx context.Context, c converter) (io.ReadCloser, *records) {
	ctx, cancel := context.WithCancel(ctx)
	in, out := io.Pipe()
	to := &records{out: bufio.NewWriterSize(out, 256<<10)}
	guard.Go(func() error {
		if err := c.convert(ctx, to); err != nil {
			return err
		}
		return to.out.Flush()
	}, func(err error) { _ = out.CloseWithError(err) })
	return &converting{in, cancel}, to
}

type converting struct {
	*io.PipeReader
	cancel context.CancelFunc
}

// Close implements io.Closer.
func (c *converting) Close() error {
	c.cancel()
	return c.CloseWithError(errors.New("intake: reading was ended"))
}

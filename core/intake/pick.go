package intake

import (
	"context"
	"errors"
	"io"
	"sort"

	"proudsieve/core/table"
)

// Picked is one row taken out of a file.
type Picked struct {
	Row     uint32
	Line    int64
	Cells   []string
	Surplus []string // cells beyond the header's
}

// Pick reads single rows, given in ascending order. marks, which may be empty, are
// those of an earlier reading of the same bytes and save reading from the start.
// Rows that the file does not have are left out.
func (f *File) Pick(ctx context.Context, marks []Mark, rows []uint32) ([]Picked, error) {
	out := make([]Picked, 0, len(rows))
	var p table.Parts
	defer func() {
		if p != nil {
			_ = p.Close()
		}
	}()
	first := uint32(1) // of the part that p hands out next
	for len(rows) > 0 {
		mark, ok := markFor(marks, rows[0])
		if p == nil || ok && mark.Row > first {
			if p != nil {
				_ = p.Close()
			}
			if !ok {
				mark = f.body
			}
			var err error
			if p, err = f.OpenAt(ctx, mark); err != nil {
				return nil, err
			}
		}
		part, err := p.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		start, n := part.Span()
		first = start + uint32(n)
		if n == 0 || rows[0] >= first {
			continue
		}
		b, err := part.Batch(nil)
		if err != nil {
			return nil, err
		}
		for len(rows) > 0 && rows[0] < first {
			i := int(rows[0] - start)
			one := Picked{Row: rows[0], Line: b.Lines[i], Surplus: b.Surplus[i]}
			for c := range b.Columns {
				one.Cells = append(one.Cells, b.Columns[c].At(i))
			}
			out = append(out, one)
			rows = rows[1:]
		}
	}
	return out, nil
}

// markFor returns the last mark at or before a row, if reading can resume there.
func markFor(marks []Mark, row uint32) (Mark, bool) {
	at := sort.Search(len(marks), func(i int) bool { return marks[i].Row > row }) - 1
	if at < 0 || marks[at].Offset < 0 {
		return Mark{}, false
	}
	return marks[at], true
}

package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"proudsieve/core/intake/content"
)

// Limits bound what is taken from a database at once; 0 for none.
type Limits struct {
	Rows, Bytes int64
}

// Taken is what was taken of a relation, which stands with the delivery that it became.
type Taken struct {
	Server   string    `json:"server"`
	Relation string    `json:"relation"`
	Query    string    `json:"query,omitempty"`
	Snapshot string    `json:"snapshot,omitempty"`
	At       time.Time `json:"at"`
	Rows     int64     `json:"rows"`
	Columns  []Column  `json:"columns"`
	// EmptyTexts is how many texts of a column were empty and not null, which a delivery does not tell apart; only columns that have some.
	EmptyTexts map[string]int64 `json:"empty_texts,omitempty"`
}

// ErrLimit says that a relation is larger than what may be taken.
var ErrLimit = errors.New("more than may be taken from this database at once")

// writeAt is from how many bytes on the text is written out.
const writeAt = 256 << 10

// Take writes a relation as delimited text in the standard layout: a header, and a line for each row in the order in which the
// server gives them. A null is an empty cell. What was written before an error is of no use.
func Take(ctx context.Context, s Session, r Relation, limits Limits, to io.Writer) (taken *Taken, err error) {
	at := time.Now().UTC().Truncate(time.Second)
	ctx, cancel := context.WithCancel(ctx) // so that a row too many does not have all that follow it read
	defer cancel()
	rows, err := s.Read(ctx, r)
	if err != nil {
		return nil, err
	}
	defer func() {
		cancel()
		if closed := rows.Close(); err == nil && !errors.Is(closed, context.Canceled) {
			err = closed
		}
	}()
	taken = &Taken{Server: s.Server(), Relation: r.String(), Query: r.Query, Snapshot: rows.Snapshot(), At: at, Columns: rows.Columns()}
	alone := len(taken.Columns) == 1
	var lines []byte
	empty := make([]int64, len(taken.Columns))
	for c, column := range taken.Columns {
		lines = end(content.AppendCell(lines, column.Name, alone), c, len(taken.Columns))
	}
	written := int64(0)
	for {
		cells, err := rows.Next()
		if err != nil && !errors.Is(err, io.EOF) {
			if taken.Rows > 0 {
				err = fmt.Errorf("after %d rows: %w", taken.Rows, err)
			}
			return nil, err
		}
		ended := err != nil
		if !ended {
			if taken.Rows++; limits.Rows > 0 && taken.Rows > limits.Rows {
				return nil, fmt.Errorf("%w: it has more than %d rows; ask for fewer with a query, or have its administrator raise the limit", ErrLimit, limits.Rows)
			}
			for c, cell := range cells {
				if cell != nil && len(cell) == 0 {
					empty[c]++
				}
				lines = end(content.AppendCell(lines, cell, alone), c, len(cells))
			}
		}
		if ended || len(lines) >= writeAt {
			if written += int64(len(lines)); limits.Bytes > 0 && written > limits.Bytes {
				return nil, fmt.Errorf("%w: it takes more than %d bytes; ask for less with a query, or have its administrator raise the limit", ErrLimit, limits.Bytes)
			}
			if _, err := to.Write(lines); err != nil {
				return nil, err
			}
			lines = lines[:0]
		}
		if ended {
			break
		}
	}
	for c, n := range empty {
		if n > 0 {
			if taken.EmptyTexts == nil {
				taken.EmptyTexts = map[string]int64{}
			}
			taken.EmptyTexts[taken.Columns[c].Name] += n
		}
	}
	return taken, nil
}

// end writes what stands after a cell.
func end(lines []byte, c, columns int) []byte {
	if c == columns-1 {
		return append(lines, '\n')
	}
	return append(lines, ',')
}

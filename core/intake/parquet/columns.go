package parquet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/guard"
	"proudsieve/core/intake/content"
)

// rowsAtOnce is how many rows of every column are turned into text before they are put together into records.
const rowsAtOnce = 2048

// cellKind is how the cells of a column are written.
type cellKind struct {
	write    func(to []byte, v parquet.Value) []byte
	repeated bool
	alone    bool // there is no other column
}

// writeGroup writes the rows of a group, of which some stand before it. Columns are read each for itself, as they are
// stored, half of them beside the other, a number of rows at a time.
func writeGroup(ctx context.Context, group parquet.RowGroup, kinds []cellKind, before int64, to *content.Records) (err error) {
	chunks := group.ColumnChunks()
	if len(chunks) != len(kinds) {
		return fmt.Errorf("%w (a group of rows has %d columns of %d)", ErrParquet, len(chunks), len(kinds))
	}
	columns := make([]column, len(chunks))
	for c := range columns {
		columns[c] = column{cellKind: kinds[c], pages: chunks[c].Pages(), values: make([]parquet.Value, rowsAtOnce)}
	}
	defer func() {
		for c := range columns {
			err = errors.Join(err, columns[c].close())
		}
	}()
	var lines []byte
	rows := group.NumRows()
	for row := int64(0); row < rows; row += rowsAtOnce {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := int(min(rowsAtOnce, rows-row))
		var halves guard.Group
		for _, half := range [][]column{columns[:len(columns)/2], columns[len(columns)/2:]} {
			halves.Go(func() error {
				for c := range half {
					if err := guard.Do(func() error { return half[c].read(n) }); err != nil {
						return fmt.Errorf("record %d: %w (%w)", before+row+int64(len(half[c].ends))+1, ErrParquet, err)
					}
				}
				return nil
			})
		}
		if err := halves.Wait(); err != nil {
			return err
		}
		lines = join(lines[:0], columns, n)
		if err := to.WriteLines(lines, n); err != nil {
			return err
		}
	}
	for c := range columns {
		if err := columns[c].over(); err != nil {
			return fmt.Errorf("record %d: %w (%w)", before+rows, ErrParquet, err)
		}
	}
	return nil
}

// join puts the cells of columns together into records.
func join(lines []byte, columns []column, rows int) []byte {
	for row := range rows {
		for c := range columns {
			lines = append(lines, columns[c].cell(row)...)
			lines = append(lines, ',')
		}
		lines[len(lines)-1] = '\n'
	}
	return lines
}

// column reads the column of a group of rows.
type column struct {
	cellKind
	pages  parquet.Pages
	page   parquet.Page
	of     parquet.ValueReader // the page
	values []parquet.Value     // those read last, of which the first ones are written
	next   int
	held   int
	texts  []byte // the cells, as delimited text has them, one after the other
	ends   []int  // where each of them ends
	one    []byte
}

var (
	errShort = errors.New("a column ends before its group of rows")
	errLong  = errors.New("a column is longer than its group of rows")
)

// cell is the text of a row among those that were read last.
func (c *column) cell(row int) []byte {
	from := 0
	if row > 0 {
		from = c.ends[row-1]
	}
	return c.texts[from:c.ends[row]]
}

// read reads the cells of the next rows.
func (c *column) read(rows int) error {
	c.texts, c.ends = c.texts[:0], c.ends[:0]
	for len(c.ends) < rows {
		if c.next == c.held {
			if err := c.more(); errors.Is(err, io.EOF) {
				return errShort
			} else if err != nil {
				return err
			}
		}
		if c.repeated {
			if err := c.list(); err != nil {
				return err
			}
			continue
		}
		for c.next < c.held && len(c.ends) < rows {
			v := &c.values[c.next]
			c.next++
			c.one = c.one[:0]
			if !v.IsNull() {
				c.one = c.write(c.one, *v)
			}
			c.put(c.one)
		}
	}
	return nil
}

func (c *column) put(text []byte) {
	c.texts = content.AppendCell(c.texts, text, c.alone)
	c.ends = append(c.ends, len(c.texts))
}

// list reads the values of one row of a repeated column as a JSON array; a list of none is an empty cell.
func (c *column) list() error {
	c.one = append(c.one[:0], '[')
	for first := true; ; first = false {
		if c.next == c.held {
			if err := c.more(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return err
			}
		}
		v := &c.values[c.next]
		if !first && v.RepetitionLevel() == 0 {
			break
		}
		c.next++
		if v.IsNull() {
			continue
		}
		if len(c.one) > 1 {
			c.one = append(c.one, ',')
		}
		if v.Kind() == parquet.ByteArray || v.Kind() == parquet.FixedLenByteArray {
			c.one = append(c.one, jsonText(string(c.write(nil, *v)))...)
		} else {
			c.one = c.write(c.one, *v)
		}
	}
	if len(c.one) == 1 {
		c.put(nil)
		return nil
	}
	c.put(append(c.one, ']'))
	return nil
}

// more reads more values; io.EOF after the last one.
func (c *column) more() error {
	c.next, c.held = 0, 0
	for {
		if c.of == nil {
			page, err := c.pages.ReadPage()
			if err != nil {
				return err
			}
			c.page, c.of = page, page.Values()
		}
		n, err := c.of.ReadValues(c.values)
		c.held = n
		if errors.Is(err, io.EOF) {
			// What was read stands in the page's own memory until it is written, so the page is given back with the next look.
			if n > 0 {
				return nil
			}
			parquet.Release(c.page)
			c.page, c.of = nil, nil
			continue
		}
		if err != nil {
			return err
		}
		if n > 0 {
			return nil
		}
	}
}

// over says that more stands in the column than was read.
func (c *column) over() error {
	if c.next < c.held {
		return errLong
	}
	if err := c.more(); !errors.Is(err, io.EOF) {
		return errors.Join(err, errLong)
	}
	return nil
}

func (c *column) close() error {
	if c.page != nil {
		parquet.Release(c.page)
	}
	return c.pages.Close()
}

// jsonText quotes a text as JSON does.
func jsonText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ':
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

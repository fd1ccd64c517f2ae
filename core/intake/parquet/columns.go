package parquet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/guard"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// bytesAtOnce is about how many bytes the cells of a block have, rowsFirst how many rows the first one has, which tells how many bytes
// that is, and rowsAtOnce how many it has at the most.
const (
	bytesAtOnce = 64 << 10
	shortBytes  = 8 // of a cell that is not a long one
	rowsFirst   = 64
	rowsAtOnce  = 2048
	// valuesAtOnce is how many values of a page are taken out of it together.
	valuesAtOnce = 512
)

// cellKind is how the cells of a column are written.
type cellKind struct {
	write    func(to []byte, v parquet.Value) []byte
	text     bool // its values are bytes, which may be anything
	plain    bool // they are texts, written as they stand where they are UTF-8
	scale    int  // of whole numbers that are written with so many decimals; -1 of others
	days     bool // they are days since 1970
	repeated bool
	present  byte // the definition level of a value that is there
}

// blocks reads the rows of a file, group by group.
type blocks struct {
	kinds []cellKind
	rows  int   // of the next block
	past  int64 // rows that were read
	take  func(*delimited.Block) error
}

// group reads the rows of a group. Columns are read each for itself, as they are stored, half of them beside the other, a number of
// rows at a time.
func (r *blocks) group(ctx context.Context, group parquet.RowGroup) (err error) {
	chunks := group.ColumnChunks()
	if len(chunks) != len(r.kinds) {
		return fmt.Errorf("%w (a group of rows has %d columns of %d)", ErrParquet, len(chunks), len(r.kinds))
	}
	columns := make([]column, len(chunks))
	for c := range columns {
		columns[c] = column{cellKind: r.kinds[c], pages: chunks[c].Pages()}
	}
	defer func() {
		for c := range columns {
			err = errors.Join(err, columns[c].close())
		}
	}()
	for left := group.NumRows(); left > 0; {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := int(min(int64(r.rows), left))
		block := delimited.NewBlock(len(columns), n)
		var halves guard.Group
		for _, half := range [][2]int{{0, len(columns) / 2}, {len(columns) / 2, len(columns)}} {
			halves.Go(func() error {
				for c := half[0]; c < half[1]; c++ {
					at := 0
					if err := guard.Do(func() error { return columns[c].read(&block.Columns[c], &at) }); err != nil {
						return fmt.Errorf("record %d: %w (%w)", r.past+int64(at)+1, ErrParquet, err)
					}
				}
				return nil
			})
		}
		if err := halves.Wait(); err != nil {
			return err
		}
		if err := r.measure(block); err != nil {
			return err
		}
		r.past += int64(n)
		left -= int64(n)
		if err := r.take(block); err != nil {
			return err
		}
	}
	for c := range columns {
		if err := columns[c].over(); err != nil {
			return fmt.Errorf("record %d: %w (%w)", r.past, ErrParquet, err)
		}
	}
	return nil
}

// measure settles by a block how many rows the next one has, and refuses records that are longer than any may be.
func (r *blocks) measure(b *delimited.Block) error {
	long, most := 0, 0
	for c := range b.Columns {
		long += len(b.Columns[c].Data)
		most += len(b.Columns[c].Data) + len(b.Columns[c].Extra)
	}
	for row := 0; row < b.Rows && most > delimited.RecordLimit; row++ {
		record := 0
		for c := range b.Columns {
			record += b.Columns[c].Length(row)
		}
		if record > delimited.RecordLimit {
			return fmt.Errorf("record %d: %w", r.past+int64(row)+1, delimited.ErrTooLong)
		}
	}
	row := shortBytes*len(r.kinds) + long/b.Rows
	r.rows = min(max(bytesAtOnce*table.PartFactor(len(r.kinds))/row, 1), rowsAtOnce)
	return nil
}

// column reads the column of a group of rows.
type column struct {
	cellKind
	pages parquet.Pages
	page  parquet.Page
	block int32 // how many blocks were read, with the one at hand

	// Of a page that has its values in one piece:
	cells  pageCells // nil for another page
	levels []byte    // whether each cell has a value, those that are left; nil where all have
	known  dictionary
	met    []metNumber
	there  []table.Token

	// Of others:
	of     parquet.ValueReader
	values []parquet.Value // those read last, of which the first ones are written
	next   int
	held   int
	one    []byte // a list
}

var (
	errShort  = errors.New("a column ends before its group of rows")
	errLong   = errors.New("a column is longer than its group of rows")
	errLevels = errors.New("a page has other values than it says")
	errSize   = errors.New("the cells of a column have more than 2 GiB in a few rows")
)

// read reads the cells of the next rows, and counts them.
func (c *column) read(into *table.Cells, at *int) error {
	c.block++
	for *at < len(into.Tokens) {
		if c.next == c.held && c.cells == nil {
			if err := c.more(); errors.Is(err, io.EOF) {
				return errShort
			} else if err != nil {
				return err
			}
		}
		tokens := into.Tokens[*at:]
		switch {
		case c.cells != nil:
			n, err := c.look(tokens, into)
			if *at += n; err != nil {
				return err
			}
		case c.repeated:
			text, err := c.list()
			if err != nil {
				return err
			}
			into.Data = append(into.Data, text...)
			if tokens[0], err = c.added(into, len(into.Data)-len(text)); err != nil {
				return err
			}
			*at++
		default:
			n := min(c.held-c.next, len(tokens))
			for i := range n {
				v := &c.values[c.next]
				c.next++
				if tokens[i] = (table.Token{}); v.IsNull() {
					continue
				}
				var err error
				if tokens[i], err = c.put(into, *v); err != nil {
					*at += i
					return err
				}
			}
			*at += n
		}
	}
	return nil
}

// put makes the cell of a value.
func (c *column) put(into *table.Cells, v parquet.Value) (table.Token, error) {
	start := len(into.Data)
	into.Data = c.write(into.Data, v)
	return c.added(into, start)
}

// added makes a cell of the bytes that were added from start on.
func (c *column) added(into *table.Cells, start int) (cell table.Token, err error) {
	if len(into.Data) >= table.ExtraBit {
		return cell, errSize
	}
	if c.text && into.Clean && bytes.IndexByte(into.Data[start:], 0) >= 0 {
		into.Clean = false
	}
	into.Data, cell = tokenOf(into.Data, start, 0)
	return cell, nil
}

// tokenOf returns the token of the bytes from start on; a short one holds them itself, and they are taken away again.
func tokenOf(data []byte, start int, bit uint32) ([]byte, table.Token) {
	if n := len(data) - start; n <= table.InlineLength {
		data = slices.Grow(data, table.TokenSlack)
		return data[:start], table.InlineToken((*[16]byte)(data[start:start+table.TokenSlack]), uint32(n))
	}
	return data, table.Placed(uint32(start)|bit, uint32(len(data)))
}

// look makes the cells of the next rows of the page at hand, and returns how many these are.
func (c *column) look(tokens []table.Token, into *table.Cells) (rows int, err error) {
	if c.levels == nil {
		rows = min(len(tokens), c.cells.left())
		err = c.cells.next(tokens[:rows], into)
	} else {
		rows = min(len(tokens), len(c.levels))
		levels, n := c.levels[:rows], 0
		for _, level := range levels {
			if level == c.present {
				n++
			}
		}
		if n > c.cells.left() {
			return 0, errLevels
		}
		c.there = slices.Grow(c.there[:0], n)[:n]
		err = c.cells.next(c.there, into)
		n = 0
		for i, level := range levels {
			if tokens[i] = (table.Token{}); level == c.present {
				tokens[i] = c.there[n]
				n++
			}
		}
		c.levels = c.levels[rows:]
	}
	if err != nil || len(c.levels) > 0 || c.levels == nil && c.cells.left() > 0 {
		return rows, err
	}
	if c.cells.left() > 0 {
		return rows, errLevels
	}
	c.leave()
	return rows, nil
}

// list reads the values of one row of a repeated column as a JSON array; a list of none is an empty cell.
func (c *column) list() ([]byte, error) {
	c.one = append(c.one[:0], '[')
	for first := true; ; first = false {
		if c.next == c.held {
			if err := c.more(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return nil, err
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
		return nil, nil
	}
	c.one = append(c.one, ']')
	return c.one, nil
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
			if c.page = page; !c.repeated {
				if c.cells, err = c.cellsOf(page); err != nil {
					return err
				}
				if c.levels = page.DefinitionLevels(); c.cells != nil {
					return nil
				}
			}
			if c.of = page.Values(); c.values == nil {
				c.values = make([]parquet.Value, valuesAtOnce)
			}
		}
		n, err := c.of.ReadValues(c.values)
		c.held = n
		if errors.Is(err, io.EOF) {
			// What was read stands in the page's own memory until it is written, so the page is given back with the next look.
			if n > 0 {
				return nil
			}
			c.leave()
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

// leave gives the page at hand back.
func (c *column) leave() {
	parquet.Release(c.page)
	c.page, c.of, c.cells, c.levels = nil, nil, nil, nil
}

// over says that more stands in the column than was read.
func (c *column) over() error {
	if c.next < c.held || c.cells != nil {
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

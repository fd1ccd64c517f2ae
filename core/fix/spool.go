package fix

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"sync/atomic"

	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// spool is a table between two steps, taken apart already, in a file of the temporary directory that has no name. It is a
// table.Source.
type spool struct {
	names []string
	file  *os.File
	parts []spooled
	size  atomic.Int64
	rows  int64
	held  atomic.Int32 // by how many runs and stages
}

type spooled struct {
	offset, bytes int64
	first, last   uint32
}

func newSpool(names []string) (*spool, error) {
	f, err := scratch.File("steps")
	if err != nil {
		return nil, fmt.Errorf("keeping the table between two steps: %w", err)
	}
	s := &spool{names: names, file: f}
	s.held.Add(1)
	return s, nil
}

// write puts a batch into the file; where it stands there is of no account. It may be called by several goroutines at once.
func (s *spool) write(b *table.Batch) (spooled, error) {
	if b.Len() == 0 {
		return spooled{}, nil
	}
	raw := encode(table.BytesRoom(), b)
	defer table.RecycleBytes(raw)
	at := s.size.Add(int64(len(raw))) - int64(len(raw))
	if _, err := s.file.WriteAt(raw, at); err != nil {
		return spooled{}, fmt.Errorf("keeping the table between two steps: %w", err)
	}
	return spooled{at, int64(len(raw)), b.Rows[0], b.Rows[b.Len()-1]}, nil
}

// add puts a batch that was written after those before it.
func (s *spool) add(rows int, part spooled) error {
	if rows == 0 {
		return nil
	}
	if s.rows += int64(rows); s.rows > table.MaxRows {
		return fmt.Errorf("the table would have more than %d rows", int64(table.MaxRows))
	}
	s.parts = append(s.parts, part)
	return nil
}

func (s *spool) close() {
	if s.held.Add(-1) == 0 {
		_ = s.file.Close()
	}
}

// Columns implements table.Source.
func (s *spool) Columns() []string { return s.names }

// Open implements table.Source.
func (s *spool) Open(context.Context) (table.Parts, error) { return &spoolParts{spool: s}, nil }

type spoolParts struct {
	spool  *spool
	next   int
	wanted []bool
}

// wanting is a spool of which only some columns are read.
type wanting struct {
	*spool
	wanted []bool // nil for all
}

// Open implements table.Source.
func (w wanting) Open(context.Context) (table.Parts, error) {
	return &spoolParts{spool: w.spool, wanted: w.wanted}, nil
}

// Next implements table.Parts.
func (p *spoolParts) Next() (table.Part, error) {
	if p.next == len(p.spool.parts) {
		return nil, io.EOF
	}
	p.next++
	return spoolPart{p.spool, p.spool.parts[p.next-1], p.wanted}, nil
}

// Close implements table.Parts.
func (p *spoolParts) Close() error { return nil }

type spoolPart struct {
	spool *spool
	spooled
	wanted []bool
}

// Span implements table.Part; some of the rows between may have left.
func (p spoolPart) Span() (uint32, int) { return p.first, int(p.last-p.first) + 1 }

// Batch implements table.Part.
func (p spoolPart) Batch([]*table.Dictionary) (*table.Batch, error) {
	raw := slices.Grow(table.BytesRoom(), int(p.bytes))[:p.bytes]
	defer table.RecycleBytes(raw)
	if _, err := p.spool.file.ReadAt(raw, p.offset); err != nil {
		return nil, fmt.Errorf("reading the table between two steps: %w", err)
	}
	return decode(raw, len(p.spool.names), p.wanted), nil
}

// encode writes a batch: rows, lines, and of each column its texts and the code of each row; texts that no row has are
// left out.
func encode(out []byte, b *table.Batch) []byte {
	out = slices.Grow(out, 64+b.Len()*len(b.Columns)*4)
	out = binary.AppendUvarint(out, uint64(b.Len()))
	row, line := uint32(0), int64(0)
	for at := range b.Rows {
		out = binary.AppendUvarint(out, uint64(b.Rows[at]-row))
		out = binary.AppendVarint(out, b.Lines[at]-line)
		row, line = b.Rows[at], b.Lines[at]
	}
	for c := range b.Columns {
		at := len(out)
		out = encodeColumn(append(out, 0, 0, 0, 0), &b.Columns[c])
		binary.LittleEndian.PutUint32(out[at:], uint32(len(out)-at-4))
	}
	out = binary.AppendUvarint(out, uint64(len(b.Surplus)))
	for at := range b.Rows {
		if cells, ok := b.Surplus[at]; ok {
			out = binary.AppendUvarint(out, uint64(at))
			out = appendCells(out, cells)
		}
	}
	return out
}

func appendCells(out []byte, cells []string) []byte {
	out = binary.AppendUvarint(out, uint64(len(cells)))
	for _, cell := range cells {
		out = append(binary.AppendUvarint(out, uint64(len(cell))), cell...)
	}
	return out
}

func encodeColumn(out []byte, c *table.Column) []byte {
	place := make([]uint32, len(c.Texts)) // of each text that some row has, from 1
	used := make([]uint32, 0, min(len(c.Texts), len(c.Codes)))
	length := 0
	for _, code := range c.Codes {
		if place[code] == 0 {
			used = append(used, code)
			place[code] = uint32(len(used))
			length += len(c.Texts[code])
		}
	}
	out = binary.AppendUvarint(out, uint64(len(used)))
	out = binary.AppendUvarint(out, uint64(length))
	for _, code := range used {
		if n := len(c.Texts[code]); n < 0x80 {
			out = append(out, byte(n))
		} else {
			out = binary.AppendUvarint(out, uint64(n))
		}
	}
	for _, code := range used {
		out = append(out, c.Texts[code]...)
	}
	rows, at := len(c.Codes), len(out)
	switch {
	case len(used) <= 1:
	case len(used) == rows: // one after the other
	case len(used) <= math.MaxUint8:
		out = slices.Grow(out, rows)[:at+rows]
		for i, code := range c.Codes {
			out[at+i] = byte(place[code] - 1)
		}
	case len(used) <= math.MaxUint16:
		out = slices.Grow(out, 2*rows)[:at+2*rows]
		for i, code := range c.Codes {
			binary.LittleEndian.PutUint16(out[at+2*i:], uint16(place[code]-1))
		}
	default:
		out = slices.Grow(out, 4*rows)[:at+4*rows]
		for i, code := range c.Codes {
			binary.LittleEndian.PutUint32(out[at+4*i:], place[code]-1)
		}
	}
	return out
}

// decoder reads what encode wrote, which is whole.
type decoder struct{ raw []byte }

func (d *decoder) whole() int {
	if n := d.raw[0]; n < 0x80 {
		d.raw = d.raw[1:]
		return int(n)
	}
	n, size := binary.Uvarint(d.raw)
	d.raw = d.raw[size:]
	return int(n)
}

func (d *decoder) signed() int64 {
	n, size := binary.Varint(d.raw)
	d.raw = d.raw[size:]
	return n
}

func (d *decoder) take(n int) []byte {
	out := d.raw[:n]
	d.raw = d.raw[n:]
	return out
}

func (d *decoder) cells() []string {
	out := make([]string, d.whole())
	for i := range out {
		out[i] = string(d.take(d.whole()))
	}
	return out
}

// decode reads a batch; wanted are the columns of which anything is asked, nil for all. The others are empty.
func decode(raw []byte, columns int, wanted []bool) *table.Batch {
	d := decoder{raw}
	n := d.whole()
	b := &table.Batch{Columns: make([]table.Column, columns), Rows: make([]uint32, n), Lines: make([]int64, n), Offset: -1}
	row, line := uint32(0), int64(0)
	for at := range n {
		row += uint32(d.whole())
		line += d.signed()
		b.Rows[at], b.Lines[at] = row, line
	}
	var empty []uint32
	for c := range columns {
		size := int(binary.LittleEndian.Uint32(d.take(4)))
		if wanted == nil || wanted[c] {
			b.Columns[c] = d.column(n)
			continue
		}
		d.take(size)
		if empty == nil {
			empty = make([]uint32, n)
		}
		b.Columns[c] = table.Column{Texts: []string{""}, Codes: empty}
	}
	for range d.whole() {
		if b.Surplus == nil {
			b.Surplus = map[int][]string{}
		}
		at := d.whole()
		b.Surplus[at] = d.cells()
	}
	return b
}

func (d *decoder) column(n int) table.Column {
	c := table.NewColumn(d.whole(), n)
	length := d.whole()
	lengths := make([]int, len(c.Texts))
	for i := range lengths {
		lengths[i] = d.whole()
	}
	all := string(d.take(length))
	for i, size := range lengths {
		c.Texts[i], all = all[:size], all[size:]
	}
	switch {
	case len(c.Texts) <= 1:
		clear(c.Codes)
	case len(c.Texts) == n:
		for i := range c.Codes {
			c.Codes[i] = uint32(i)
		}
	case len(c.Texts) <= math.MaxUint8:
		for i, code := range d.take(n) {
			c.Codes[i] = uint32(code)
		}
	case len(c.Texts) <= math.MaxUint16:
		for i, raw := 0, d.take(2*n); i < n; i++ {
			c.Codes[i] = uint32(binary.LittleEndian.Uint16(raw[2*i:]))
		}
	default:
		for i, raw := 0, d.take(4*n); i < n; i++ {
			c.Codes[i] = binary.LittleEndian.Uint32(raw[4*i:])
		}
	}
	return c
}

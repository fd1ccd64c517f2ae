package fix

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"os"

	"proudsieve/core/table"
)

// spool is a table between two steps, taken apart already, in a file of the temporary directory that has no name. It is a
// table.Source.
type spool struct {
	names []string
	file  *os.File
	parts []spooled
	size  int64
	rows  int64
}

type spooled struct {
	offset, bytes int64
	first, last   uint32
}

func newSpool(names []string) (*spool, error) {
	f, err := os.CreateTemp("", "proudsieve-steps-*")
	if err != nil {
		return nil, fmt.Errorf("keeping the table between two steps: %w", err)
	}
	_ = os.Remove(f.Name()) // it is gone when it is closed, or the process ends
	return &spool{names: names, file: f}, nil
}

// add appends what encode made of a batch.
func (s *spool) add(b *table.Batch, raw []byte) error {
	if b.Len() == 0 {
		return nil
	}
	if s.rows += int64(b.Len()); s.rows > table.MaxRows {
		return fmt.Errorf("the table would have more than %d rows", int64(table.MaxRows))
	}
	if _, err := s.file.Write(raw); err != nil {
		return fmt.Errorf("keeping the table between two steps: %w", err)
	}
	s.parts = append(s.parts, spooled{s.size, int64(len(raw)), b.Rows[0], b.Rows[b.Len()-1]})
	s.size += int64(len(raw))
	return nil
}

func (s *spool) close() { _ = s.file.Close() }

// Columns implements table.Source.
func (s *spool) Columns() []string { return s.names }

// Open implements table.Source.
func (s *spool) Open(context.Context) (table.Parts, error) { return &spoolParts{spool: s}, nil }

type spoolParts struct {
	spool *spool
	next  int
}

// Next implements table.Parts.
func (p *spoolParts) Next() (table.Part, error) {
	if p.next == len(p.spool.parts) {
		return nil, io.EOF
	}
	p.next++
	return spoolPart{p.spool, p.spool.parts[p.next-1]}, nil
}

// Close implements table.Parts.
func (p *spoolParts) Close() error { return nil }

type spoolPart struct {
	spool *spool
	spooled
}

// Span implements table.Part; some of the rows between may have left.
func (p spoolPart) Span() (uint32, int) { return p.first, int(p.last-p.first) + 1 }

// Batch implements table.Part.
func (p spoolPart) Batch([]*table.Dictionary) (*table.Batch, error) {
	raw := make([]byte, p.bytes)
	if _, err := p.spool.file.ReadAt(raw, p.offset); err != nil {
		return nil, fmt.Errorf("reading the table between two steps: %w", err)
	}
	return decode(raw, len(p.spool.names)), nil
}

// encode writes a batch: rows, lines, and of each column its texts and the code of each row; texts that no row has are
// left out.
func encode(b *table.Batch) []byte {
	out := make([]byte, 0, 64+b.Len()*len(b.Columns)*4)
	out = binary.AppendUvarint(out, uint64(b.Len()))
	row, line := uint32(0), int64(0)
	for at := range b.Rows {
		out = binary.AppendUvarint(out, uint64(b.Rows[at]-row))
		out = binary.AppendVarint(out, b.Lines[at]-line)
		row, line = b.Rows[at], b.Lines[at]
	}
	for c := range b.Columns {
		out = encodeColumn(out, &b.Columns[c])
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
		out = binary.AppendUvarint(out, uint64(len(c.Texts[code])))
	}
	for _, code := range used {
		out = append(out, c.Texts[code]...)
	}
	switch {
	case len(used) <= 1:
	case len(used) <= math.MaxUint8:
		for _, code := range c.Codes {
			out = append(out, byte(place[code]-1))
		}
	case len(used) <= math.MaxUint16:
		for _, code := range c.Codes {
			out = binary.LittleEndian.AppendUint16(out, uint16(place[code]-1))
		}
	default:
		for _, code := range c.Codes {
			out = binary.LittleEndian.AppendUint32(out, place[code]-1)
		}
	}
	return out
}

// decoder reads what encode wrote, which is whole.
type decoder struct{ raw []byte }

func (d *decoder) whole() int {
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

func decode(raw []byte, columns int) *table.Batch {
	d := decoder{raw}
	n := d.whole()
	b := &table.Batch{Columns: make([]table.Column, columns), Rows: make([]uint32, n), Lines: make([]int64, n), Offset: -1}
	row, line := uint32(0), int64(0)
	for at := range n {
		row += uint32(d.whole())
		line += d.signed()
		b.Rows[at], b.Lines[at] = row, line
	}
	for c := range columns {
		b.Columns[c] = d.column(n)
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
	c := table.Column{Texts: make([]string, d.whole()), Codes: make([]uint32, n)}
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

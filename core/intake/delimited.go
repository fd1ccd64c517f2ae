package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/table"
)

const (
	partSize     = 1 << 20   // bytes of a part; parts depend on the bytes alone, never on the workers
	quotedLimit  = 256 << 10 // a quote not closed within so many bytes is taken as never closed
	recordLimit  = 64 << 20
	cellLimit    = 1 << 20
	columnLimit  = 10_000
	detailLength = 200 // bytes of a defect's detail
)

// Opener opens the bytes of a file from an offset on.
type Opener func(offset int64) (io.ReadCloser, error)

// File is delimited text with its reading; it is a table.Source.
type File struct {
	// OnProgress, if set, is told the bytes handed out so far and the rows in them.
	OnProgress func(bytes, rows int64)

	open    Opener
	reading Reading
	columns []string
	defects []table.Defect // of the header
	body    Mark           // where the data starts
	skipped int64          // lines before the header
	// lineEnd is LF, or CR in a file that has no LF near its start.
	lineEnd byte
}

// Mark is a place where a part of the file starts, from which reading can resume.
type Mark struct {
	Offset int64  `json:"offset"` // in bytes; -1 where the encoding does not allow resuming
	Row    uint32 `json:"row"`    // the number of the first row there
	Line   int64  `json:"line"`
}

// Open reads the header of delimited text. The reading must have passed Check.
// It returns ErrEmpty, ErrBinary, ErrNoHeader or ErrTooMany, or the opener's error.
func Open(open Opener, reading Reading) (*File, error) {
	f := &File{open: open, reading: reading, lineEnd: '\n'}
	in, err := f.openAt(0)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	head := make([]byte, partSize)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	head = head[:n]
	start := 0
	if bytes.HasPrefix(head, []byte("\xef\xbb\xbf")) {
		start = 3
	}
	if len(bytes.TrimSpace(head[start:])) == 0 {
		return nil, ErrEmpty
	}
	if bytes.IndexByte(head[:min(n, 8192)], 0) >= 0 {
		return nil, ErrBinary
	}
	if bytes.IndexByte(head, '\n') < 0 && bytes.IndexByte(head, '\r') >= 0 {
		f.lineEnd = '\r'
	}
	return f, f.readHeader(head, start)
}

func (f *File) readHeader(head []byte, start int) error {
	line := int64(1)
	for ; line < int64(f.reading.HeaderLine); line++ {
		end := bytes.IndexByte(head[start:], f.lineEnd)
		if end < 0 {
			return ErrNoHeader
		}
		start += end + 1
		f.skipped++
	}
	s := f.scanner()
	record := s.record(head[start:], true)
	if record.end == 0 {
		return ErrNoHeader
	}
	cells := s.cells(head[start:start+record.end], record.literal)
	if len(cells) > columnLimit {
		return ErrTooMany
	}
	f.body = Mark{Offset: int64(start), Row: 1, Line: line}
	if f.reading.HeaderLine == NoHeader {
		for i := range cells {
			f.columns = append(f.columns, "column_"+strconv.Itoa(i+1))
		}
		return nil
	}
	f.body.Offset += int64(record.end)
	f.body.Line += record.lines
	taken := map[string]bool{}
	for i, c := range cells {
		text, _ := decode(f.charmap(), c.bytes)
		name := strings.TrimSpace(text)
		given := name
		if name == "" {
			name = "column_" + strconv.Itoa(i+1)
			f.defects = append(f.defects, table.Defect{Kind: table.BlankName, Line: line, Column: name})
		}
		for n := 2; taken[name]; n++ {
			name = given + "_" + strconv.Itoa(n)
		}
		if given != "" && name != given {
			f.defects = append(f.defects, table.Defect{Kind: table.RepeatedName, Line: line, Column: name, Detail: given})
		}
		taken[name] = true
		f.columns = append(f.columns, name)
	}
	return nil
}

// Columns implements table.Source. Blank names become column_N, repeated ones get a number; both are defects.
func (f *File) Columns() []string { return f.columns }

// Reading returns the reading in force.
func (f *File) Reading() Reading { return f.reading }

// Open implements table.Source.
func (f *File) Open(ctx context.Context) (table.Parts, error) { return f.OpenAt(ctx, f.body) }

// OpenAt starts reading at a mark taken from an earlier reading of the same bytes.
func (f *File) OpenAt(ctx context.Context, mark Mark) (table.Parts, error) {
	if !f.seekable() {
		mark = f.body
	}
	p := &parts{ctx: ctx, file: f, at: mark, scan: f.scanner()}
	var err error
	if f.seekable() {
		p.in, err = f.openAt(mark.Offset)
	} else if p.in, err = f.openAt(0); err == nil {
		_, err = io.CopyN(io.Discard, p.in, mark.Offset)
	}
	if err != nil {
		return nil, err
	}
	if mark == f.body {
		p.header, p.setAside = f.defects, f.skipped
	}
	return p, nil
}

func (f *File) seekable() bool { return !strings.HasPrefix(f.reading.Encoding, "utf-16") }

func (f *File) openAt(offset int64) (io.ReadCloser, error) {
	in, err := f.open(offset)
	if err != nil || f.seekable() {
		return in, err
	}
	order := unicode.LittleEndian
	if f.reading.Encoding == "utf-16be" {
		order = unicode.BigEndian
	}
	decoder := unicode.UTF16(order, unicode.UseBOM).NewDecoder()
	return struct {
		io.Reader
		io.Closer
	}{decoder.Reader(in), in}, nil
}

func (f *File) charmap() *charmap.Charmap { return charmaps[f.reading.Encoding] }

func (f *File) scanner() scanner {
	s := scanner{delimiter: f.reading.Delimiter[0], lineEnd: f.lineEnd}
	if f.reading.Quote != "none" {
		s.quote, s.quoting = f.reading.Quote[0], true
	}
	return s
}

type parts struct {
	ctx      context.Context
	file     *File
	in       io.ReadCloser
	scan     scanner
	at       Mark
	rest     []byte // read but not yet handed out
	ended    bool
	header   []table.Defect
	setAside int64
	sent     bool
}

// Close implements table.Parts.
func (p *parts) Close() error { return p.in.Close() }

// Next implements table.Parts. A part ends with the last record that ends within
// partSize bytes, or with the first one where none does.
func (p *parts) Next() (table.Part, error) {
	if err := p.ctx.Err(); err != nil {
		return nil, err
	}
	size := partSize
	for {
		if err := p.fill(size); err != nil {
			return nil, err
		}
		if len(p.rest) == 0 {
			break
		}
		part := &part{file: p.file, first: p.at, header: p.header, setAside: p.setAside}
		end := 0
		for end < len(p.rest) && end < partSize {
			record := p.scan.record(p.rest[end:], p.ended)
			if record.end == 0 {
				break
			}
			if record.blank {
				part.setAside++
			} else {
				part.records = append(part.records, span{end, record.end, p.at.Line, record.literal})
			}
			p.at.Line += record.lines
			end += record.end
		}
		if end == 0 { // not even one record is whole
			if size *= 4; size > recordLimit {
				return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooLong)
			}
			continue
		}
		if uint64(p.at.Row)+uint64(len(part.records)) > table.MaxRows {
			return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooMany)
		}
		part.data = p.rest[:end:end]
		p.rest = p.rest[end:]
		p.at.Offset += int64(end)
		p.at.Row += uint32(len(part.records))
		p.header, p.setAside, p.sent = nil, 0, true
		if p.file.OnProgress != nil {
			p.file.OnProgress(p.at.Offset, int64(p.at.Row)-1)
		}
		return part, nil
	}
	if !p.sent && (p.setAside > 0 || len(p.header) > 0) { // a header and nothing else still has its defects
		p.sent = true
		return &part{file: p.file, first: p.at, header: p.header, setAside: p.setAside}, nil
	}
	return nil, io.EOF
}

// fill reads until size bytes are at hand or the input ends. Parts handed out keep their bytes.
func (p *parts) fill(size int) error {
	if p.ended || len(p.rest) >= size {
		return nil
	}
	buffer := make([]byte, size)
	n := copy(buffer, p.rest)
	m, err := io.ReadFull(p.in, buffer[n:])
	p.rest = buffer[:n+m]
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		p.ended, err = true, nil
	}
	return err
}

type span struct {
	start, length int
	line          int64
	literal       bool
}

type part struct {
	file     *File
	first    Mark
	data     []byte
	records  []span
	header   []table.Defect
	setAside int64
}

// Span implements table.Part.
func (p *part) Span() (uint32, int) { return p.first.Row, len(p.records) }

// Batch implements table.Part.
func (p *part) Batch() (*table.Batch, error) {
	rows, width := len(p.records), len(p.file.columns)
	b := &table.Batch{Rows: make([]uint32, rows), Lines: make([]int64, rows), Defects: p.header, SetAside: p.setAside}
	if p.file.seekable() {
		b.Offset = p.first.Offset
	} else {
		b.Offset = -1
	}
	scan, marks := p.file.scanner(), p.file.charmap()
	columns, codes := make([]*dictionary, width), make([][]uint32, width)
	for c := range columns {
		columns[c], codes[c] = newDictionary(marks), make([]uint32, rows)
	}
	var cells []cell
	for i, r := range p.records {
		row := p.first.Row + uint32(i)
		b.Rows[i], b.Lines[i] = row, r.line
		defect := func(kind table.DefectKind, column int, detail string) {
			d := table.Defect{Kind: kind, Line: r.line, Row: row, Detail: clip(detail)}
			if column >= 0 && column < width {
				d.Column = p.file.columns[column]
			}
			b.Defects = append(b.Defects, d)
		}
		raw := p.data[r.start : r.start+r.length]
		cells = scan.appendCells(cells[:0], raw, r.literal)
		for c, one := range cells {
			if one.defect != "" {
				defect(one.defect, c, string(one.bytes))
			}
			if len(one.bytes) > cellLimit {
				defect(table.CellTooLong, c, strconv.Itoa(len(one.bytes))+" bytes")
			}
			if c >= width {
				continue
			}
			code, wrong := columns[c].code(one.bytes)
			codes[c][i] = code
			if wrong != "" {
				defect(wrong, c, strconv.QuoteToASCII(string(one.bytes)))
			}
		}
		if len(cells) < width {
			for c := len(cells); c < width; c++ {
				codes[c][i], _ = columns[c].code(nil)
			}
			defect(table.TooFewCells, -1, fmt.Sprintf("%d of %d cells", len(cells), width))
		}
		if len(cells) > width {
			surplus := make([]string, 0, len(cells)-width)
			for _, one := range cells[width:] {
				text, _ := decode(marks, one.bytes)
				surplus = append(surplus, text)
			}
			if b.Surplus == nil {
				b.Surplus = map[int][]string{}
			}
			b.Surplus[i] = surplus
			defect(table.TooManyCells, -1, fmt.Sprintf("%d cells for %d columns; beyond them: %s", len(cells), width, strings.Join(surplus, " | ")))
		}
	}
	b.Columns = make([]table.Column, width)
	for c := range columns {
		b.Columns[c] = table.Column{Texts: columns[c].texts(), Codes: codes[c]}
	}
	return b, nil
}

// decode turns raw bytes into text; each byte that stands for no character becomes U+FFFD.
func decode(marks *charmap.Charmap, raw []byte) (text string, clean bool) {
	if marks == nil {
		if utf8.Valid(raw) {
			return string(raw), true
		}
		return string(bytes.ToValidUTF8(raw, []byte("\uFFFD"))), false
	}
	var b strings.Builder
	clean = true
	for _, c := range raw {
		r := marks.DecodeByte(c)
		if r == utf8.RuneError || (r >= 0x80 && r < 0xA0 && marks == charmap.Windows1252) {
			r, clean = utf8.RuneError, false
		}
		b.WriteRune(r)
	}
	return b.String(), clean
}

func clip(s string) string {
	if len(s) <= detailLength {
		return strings.ToValidUTF8(s, "\uFFFD")
	}
	return strings.ToValidUTF8(s[:detailLength], "\uFFFD") + "…"
}

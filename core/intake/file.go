package intake

import (
	"bytes"
	"context"
	"io"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/table"
)

const (
	partSize     = 64 << 10  // bytes of a part; parts depend on the bytes alone, never on the workers
	headSize     = 1 << 20   // bytes looked at for the header, and to work a reading out
	quotedLimit  = 256 << 10 // a quote not closed within so many bytes is taken as never closed
	recordLimit  = 64 << 20
	cellLimit    = 1 << 20
	columnLimit  = 10_000
	detailLength = 200 // bytes of a defect's detail
)

// File is a table in a file with its reading; it is a table.Source.
type File struct {
	// OnProgress, if set, is told the bytes handed out so far and the rows in them. Of a
	// packed file, or one that is no text, the bytes are only told when all are read.
	OnProgress func(bytes, rows int64)

	content   content
	converter converter // nil for delimited text
	reading   Reading
	columns   []string
	defects   []table.Defect // of the header
	body      Mark           // where the data starts
	skipped   int64          // lines before the header
	// lineEnd is LF, or CR in a file that has no LF near its start.
	lineEnd byte
}

// Mark is a place where a part of the file starts, from which reading can resume.
type Mark struct {
	Offset int64  `json:"offset"` // in bytes; -1 where the encoding does not allow resuming
	Row    uint32 `json:"row"`    // the number of the first row there
	Line   int64  `json:"line"`
}

// Open reads the header of a table. The reading must have passed Check. It returns
// ErrEmpty, ErrBinary, ErrNoHeader, ErrTooMany, ErrEntry, ErrFormat or one of the
// errors of the formats, or the opener's error.
func Open(ctx context.Context, open Opener, reading Reading) (*File, error) {
	found, err := look(ctx, ending(open), reading)
	if err != nil {
		return nil, err
	}
	f := &File{content: found, reading: reading, lineEnd: '\n'}
	if f.converter = converterOf(found, reading); f.converter != nil {
		return f, f.readColumns(ctx)
	}
	head, err := headOf(ctx, f.decoded, headSize)
	if err != nil {
		return nil, err
	}
	start := 0
	if bytes.HasPrefix(head, []byte("\xef\xbb\xbf")) {
		start = 3
	}
	if len(bytes.TrimSpace(head[start:])) == 0 {
		return nil, ErrEmpty
	}
	if bytes.IndexByte(head[:min(len(head), 8192)], 0) >= 0 {
		return nil, ErrBinary
	}
	if bytes.IndexByte(head, '\n') < 0 && bytes.IndexByte(head, '\r') >= 0 {
		f.lineEnd = '\r'
	}
	return f, f.readHeader(head, start)
}

// converterOf returns what turns a format into delimited text, or nil.
func converterOf(c content, r Reading) converter {
	switch c.format {
	case JSONLines, JSONArray:
		return &jsonTable{open: c.open, array: c.format == JSONArray}
	case Workbook:
		return &workbook{open: c.open, sheet: r.Sheet, header: r.HeaderLine}
	case Parquet:
		return &parquetTable{open: c.open}
	}
	return nil
}

// readColumns asks a converter for the columns.
func (f *File) readColumns(ctx context.Context) error {
	names, err := f.converter.columns(ctx)
	if err != nil {
		return err
	}
	if len(names) == 0 {
		return ErrEmpty
	}
	f.body = Mark{Row: 1, Line: 1}
	line := int64(0)
	if f.content.format == Workbook {
		line = max(int64(f.reading.HeaderLine), 0)
	}
	f.name(names, line)
	return nil
}

// Format returns the format that the file was found to have, and how it is packed.
func (f *File) Format() (Format, Packing) { return f.content.format, f.content.packing }

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
	record := s.record(head[start:], true, true)
	if record.end == 0 {
		return ErrNoHeader
	}
	header := head[start : start+record.end]
	cells := s.appendCells(nil, header, record.form)
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
	names := make([]string, len(cells))
	for i, c := range cells {
		names[i], _ = decode(f.charmap(), c.content(header))
	}
	f.name(names, line)
	return nil
}

// name gives the columns their names; those that are blank or not the first of their kind are defects.
func (f *File) name(names []string, line int64) {
	taken := map[string]bool{}
	for i, given := range names {
		given = strings.TrimSpace(given)
		name := given
		if name == "" {
			name = "column_" + strconv.Itoa(i+1)
			f.defects = append(f.defects, table.Defect{Kind: table.BlankName, Line: line, Column: name})
		}
		base := name
		for n := 2; taken[name]; n++ {
			name = base + "_" + strconv.Itoa(n)
		}
		if given != "" && name != given {
			f.defects = append(f.defects, table.Defect{Kind: table.RepeatedName, Line: line, Column: name, Detail: given})
		}
		taken[name] = true
		f.columns = append(f.columns, name)
	}
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
	if mark == f.body {
		p.header, p.setAside = f.defects, f.skipped
	}
	if f.converter != nil {
		p.in, p.beside = startConverting(ctx, f.converter)
		return p, nil
	}
	var err error
	if f.seekable() {
		p.in, err = f.content.open(ctx, mark.Offset)
	} else if p.in, err = f.decoded(ctx, 0); err == nil {
		_, err = io.CopyN(io.Discard, p.in, mark.Offset)
	}
	return p, err
}

// seekable reports whether reading can begin in the middle.
func (f *File) seekable() bool {
	return f.converter == nil && f.content.seeks && !strings.HasPrefix(f.reading.Encoding, "utf-16")
}

// decoded opens the text in an encoding whose delimiters are those of ASCII.
func (f *File) decoded(ctx context.Context, _ int64) (io.ReadCloser, error) {
	in, err := f.content.open(ctx, 0)
	if err != nil || !strings.HasPrefix(f.reading.Encoding, "utf-16") {
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

// charmap returns the encoding where it is one of single bytes, else nil.
func (f *File) charmap() *charmap.Charmap {
	if f.converter != nil {
		return nil
	}
	return charmaps[f.reading.Encoding]
}

func (f *File) scanner() scanner {
	if f.converter != nil {
		return scanner{delimiter: ',', lineEnd: '\n', quote: '"', quoting: true}
	}
	s := scanner{delimiter: f.reading.Delimiter[0], lineEnd: f.lineEnd}
	if f.reading.Quote != "none" {
		s.quote, s.quoting = f.reading.Quote[0], true
	}
	return s
}

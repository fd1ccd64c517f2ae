package intake

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/table"
)

const (
	partSize     = 256 << 10 // bytes of a part; parts depend on the bytes alone, never on the workers
	headSize     = 1 << 20   // bytes looked at for the header, and to work a reading out
	quotedLimit  = 256 << 10 // a quote not closed within so many bytes is taken as never closed
	recordLimit  = 64 << 20
	cellLimit    = 1 << 20
	columnLimit  = 10_000
	detailLength = 200 // bytes of a defect's detail
)

// Opener opens the bytes of a file from an offset on.
type Opener func(offset int64) (io.ReadCloser, error)

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
func Open(open Opener, reading Reading) (*File, error) {
	found, err := look(open, reading)
	if err != nil {
		return nil, err
	}
	f := &File{content: found, reading: reading, lineEnd: '\n'}
	if f.converter = converterOf(found, reading); f.converter != nil {
		return f, f.readColumns()
	}
	head, err := headOf(f.decoded, headSize)
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
func (f *File) readColumns() error {
	names, err := f.converter.columns(context.Background())
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
		p.in, err = f.content.open(mark.Offset)
	} else if p.in, err = f.decoded(0); err == nil {
		_, err = io.CopyN(io.Discard, p.in, mark.Offset)
	}
	return p, err
}

// seekable reports whether reading can begin in the middle.
func (f *File) seekable() bool {
	return f.converter == nil && f.content.seeks && !strings.HasPrefix(f.reading.Encoding, "utf-16")
}

// decoded opens the text in an encoding whose delimiters are those of ASCII.
func (f *File) decoded(int64) (io.ReadCloser, error) {
	in, err := f.content.open(0)
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

type parts struct {
	ctx      context.Context
	file     *File
	in       io.ReadCloser
	scan     scanner
	at       Mark
	rest     []byte // read but not yet handed out
	tail     []byte // its memory between two parts
	ended    bool
	header   []table.Defect
	setAside int64
	sent     bool
	typical  int      // records of a part
	beside   *records // where a converter is at work
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
		part := &part{file: p.file, first: p.at, header: p.header, setAside: p.setAside, records: spansOf(p.typical)}
		end := p.collect(part)
		if end == 0 { // not even one record is whole
			if size *= 4; size > recordLimit {
				return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooLong)
			}
			continue
		}
		if uint64(p.at.Row)+uint64(len(part.records)) > table.MaxRows {
			return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooMany)
		}
		part.data = p.rest[:end]
		p.tail = append(p.tail[:0], p.rest[end:]...)
		p.rest = p.tail
		p.at.Offset += int64(end)
		p.at.Row += uint32(len(part.records))
		p.typical = len(part.records) * 5 / 4
		p.header, p.setAside, p.sent = nil, 0, true
		if p.beside != nil {
			part.header = append(part.header[:len(part.header):len(part.header)], p.beside.taken(p.at.Row-1)...)
		}
		if p.file.OnProgress != nil {
			bytes := p.at.Offset
			if !p.file.seekable() {
				bytes = 0
			}
			p.file.OnProgress(bytes, int64(p.at.Row)-1)
		}
		return part, nil
	}
	if !p.sent && (p.setAside > 0 || len(p.header) > 0) { // a header and nothing else still has its defects
		p.sent = true
		return &part{file: p.file, first: p.at, header: p.header, setAside: p.setAside}, nil
	}
	return nil, io.EOF
}

// collect finds the records of a part and returns where they end. Those that may be
// closing lines are left for the next part, or set aside where there is none.
func (p *parts) collect(part *part) (end int) {
	// states are where the last records begin, as many as there are closing lines
	type state struct {
		end      int
		line     int64
		setAside int64
	}
	var states []state
	closing := p.file.reading.ClosingLines
	quote, row := p.nextQuote(0), p.at.Row
	for end < len(p.rest) && end < partSize {
		if quote < end {
			quote = p.nextQuote(end)
		}
		record := p.scan.record(p.rest[end:], p.ended, quote < len(p.rest))
		if record.end == 0 {
			break
		}
		if record.form == blankRecord {
			part.setAside++
		} else {
			if p.beside != nil {
				p.at.Line = p.beside.line(row)
			}
			if closing > 0 {
				if states = append(states, state{end, p.at.Line, part.setAside}); len(states) > closing {
					states = states[1:]
				}
			}
			part.records = append(part.records, span{uint32(end), uint32(record.end), p.at.Line, record.form})
			row++
		}
		p.at.Line += record.lines
		end += record.end
	}
	if len(states) == 0 {
		return end
	}
	held := states[0]
	part.records = part.records[:len(part.records)-len(states)]
	if p.ended && end == len(p.rest) {
		part.setAside += int64(len(states))
		return end
	}
	part.setAside, p.at.Line = held.setAside, held.line
	return held.end
}

// nextQuote returns where the first quote from a place on stands in what was read.
func (p *parts) nextQuote(from int) int {
	if p.scan.quoting {
		if at := bytes.IndexByte(p.rest[from:], p.scan.quote); at >= 0 {
			return from + at
		}
	}
	return len(p.rest)
}

// fill puts what is left into a buffer of its own, since the part handed out before may
// still be taken apart, and reads until size bytes are at hand or the input ends.
func (p *parts) fill(size int) error {
	buffer := bufferOf(max(size, len(p.rest)))
	n := copy(buffer, p.rest)
	if p.rest = buffer[:n]; p.ended || n >= size {
		return nil
	}
	m, err := io.ReadFull(p.in, buffer[n:])
	p.rest = buffer[:n+m]
	if err == io.EOF || err == io.ErrUnexpectedEOF { // of ReadFull itself; wrapped, it is that of a packed file cut off
		p.ended, err = true, nil
	}
	return err
}

type span struct {
	start, length uint32
	line          int64
	form          recordForm
}

type part struct {
	file     *File
	first    Mark
	data     []byte // with table.TokenSlack bytes more in its capacity
	records  []span
	header   []table.Defect
	setAside int64
	utf8     bool // whether data was turned into UTF-8
}

// Span implements table.Part.
func (p *part) Span() (uint32, int) { return p.first.Row, len(p.records) }

// Batch implements table.Part.
func (p *part) Batch(shared []*table.Dictionary) (*table.Batch, error) {
	rows, width := len(p.records), len(p.file.columns)
	b := &table.Batch{Rows: make([]uint32, rows), Lines: make([]int64, rows), Defects: p.header, SetAside: p.setAside, Columns: make([]table.Column, width), Offset: -1}
	if p.file.seekable() {
		b.Offset = p.first.Offset
	}
	for i := range b.Rows {
		b.Rows[i], b.Lines[i] = p.first.Row+uint32(i), p.records[i].line
	}
	if rows == 0 {
		return b, nil
	}
	if marks := p.file.charmap(); marks != nil {
		p.decode(marks)
	}
	t := taking{scratchOf(rows * width), p, b}
	t.places()
	for c := range b.Columns {
		d := table.NewDictionary()
		if shared != nil {
			d = shared[c]
		}
		cells := t.column(c)
		mine := d.Encode(cells, p.file.encode)
		if len(d.Flawed) > 0 {
			t.flawed(d, mine, &cells, c)
		}
		b.Columns[c] = table.Column{Texts: d.Texts, Codes: mine}
	}
	scratches.Put(t.scratch)
	p.release()
	slices.SortStableFunc(b.Defects, func(a, b table.Defect) int { return cmp.Compare(a.Row, b.Row) })
	return b, nil
}

// release gives the part's memory back; the part is of no use any more.
func (p *part) release() {
	data, records := p.data, p.records
	p.data, p.records = nil, nil
	buffers.Put(&data)
	spans.Put(&records)
}

// decode turns the part into UTF-8. The characters that matter to records are the same in
// all of these encodings, so that the records are the same ones.
func (p *part) decode(marks *charmap.Charmap) {
	if p.utf8 || ascii(p.data) {
		return
	}
	p.utf8 = true
	text, _ := decode(marks, p.data)
	data := append(bufferOf(len(text))[:0], text...)
	scan, end, kept := p.file.scanner(), 0, 0
	for end < len(data) && kept < len(p.records) {
		record := scan.record(data[end:], true, true)
		if record.form != blankRecord {
			one := &p.records[kept]
			one.start, one.length, one.form = uint32(end), uint32(record.end), record.form
			kept++
		}
		end += record.end
	}
	p.data = data
}

func ascii(data []byte) bool {
	for _, c := range data {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// buffers and scratches are used again from part to part; a part's bytes are copied
// where they are kept.
var buffers, scratches, spans sync.Pool

func bufferOf(size int) []byte {
	if b, ok := buffers.Get().(*[]byte); ok && cap(*b) >= size+table.TokenSlack {
		return (*b)[:size]
	}
	return make([]byte, size+table.TokenSlack)[:size]
}

func spansOf(records int) []span {
	if s, ok := spans.Get().(*[]span); ok && cap(*s) >= records {
		return (*s)[:0]
	}
	return make([]span, 0, records)
}

// scratch is the room for taking a part apart.
type scratch struct {
	tokens []table.Token // of the cells, column by column
	extra  []byte        // contents that do not stand in the data
	found  []cell
}

func scratchOf(cells int) *scratch {
	s, ok := scratches.Get().(*scratch)
	if !ok {
		s = &scratch{}
	}
	if cap(s.tokens) < cells {
		s.tokens = make([]table.Token, cells*5/4)
	}
	s.tokens, s.extra = s.tokens[:cells], s.extra[:0]
	return s
}

// taking takes a part apart.
type taking struct {
	*scratch
	part  *part
	batch *table.Batch
}

// column returns the cells of a column.
func (t *taking) column(c int) table.Cells {
	rows := len(t.part.records)
	return table.Cells{Tokens: t.tokens[c*rows : (c+1)*rows], Data: t.part.data, Extra: t.extra}
}

// places finds where the cells stand.
func (t *taking) places() {
	p, rows := t.part, len(t.part.records)
	data, scan := p.data[:len(p.data)+table.TokenSlack], p.file.scanner()
	for i, r := range p.records {
		if r.form == plainRecord && r.length < cellLimit {
			end := r.start + uint32(len(scan.withoutLineEnd(p.data[r.start:r.start+r.length])))
			if scan.split(data, r.start, end, t.tokens, i, rows) {
				continue
			}
		}
		t.awkward(scan, i)
	}
}

// awkward takes a record apart that has quotes, or cells beyond or short of the header's.
func (t *taking) awkward(scan scanner, i int) {
	p, rows, width, r := t.part, len(t.part.records), len(t.part.file.columns), t.part.records[i]
	raw := p.data[r.start : r.start+r.length]
	t.found = scan.appendCells(t.found[:0], raw, r.form)
	for c, one := range t.found {
		content := one.content(raw)
		if one.defect != "" {
			t.defect(i, one.defect, c, string(content))
		}
		if len(content) > cellLimit {
			t.defect(i, table.CellTooLong, c, strconv.Itoa(len(content))+" bytes")
		}
		switch {
		case c >= width:
		case one.unescaped == nil:
			t.tokens[c*rows+i] = shortOrPlaced(p.data[:len(p.data)+table.TokenSlack], r.start+uint32(one.start), r.start+uint32(one.end))
		default:
			start := uint32(len(t.extra))
			t.extra = append(t.extra, content...)
			t.tokens[c*rows+i] = table.Placed(start|table.ExtraBit, uint32(len(t.extra)))
			if len(content) <= table.InlineLength {
				t.tokens[c*rows+i] = table.TokenOf(string(content))
			}
		}
	}
	for c := len(t.found); c < width; c++ {
		t.tokens[c*rows+i] = table.Token{}
	}
	if n := len(t.found); n < width {
		t.defect(i, table.TooFewCells, -1, fmt.Sprintf("%d of %d cells", n, width))
	}
	if len(t.found) > width {
		surplus := make([]string, 0, len(t.found)-width)
		for _, one := range t.found[width:] {
			text, _ := decode(nil, one.content(raw))
			surplus = append(surplus, text)
		}
		if t.batch.Surplus == nil {
			t.batch.Surplus = map[int][]string{}
		}
		t.batch.Surplus[i] = surplus
		if p.file.converter != nil { // it has told the defect
			return
		}
		t.defect(i, table.TooManyCells, -1, fmt.Sprintf("%d cells for %d columns; beyond them: %s", len(t.found), width, strings.Join(surplus, " | ")))
	}
}

// flawed notes the cells of a column whose bytes something is wrong with.
func (t *taking) flawed(d *table.Dictionary, codes []uint32, cells *table.Cells, c int) {
	for i, code := range codes {
		if kind, ok := d.Flawed[code]; ok {
			t.defect(i, kind, c, strconv.QuoteToASCII(cells.Text(i)))
		}
	}
}

func (t *taking) defect(i int, kind table.DefectKind, column int, detail string) {
	d := table.Defect{Kind: kind, Line: t.batch.Lines[i], Row: t.batch.Rows[i], Detail: clip(detail)}
	if names := t.part.file.columns; column >= 0 && column < len(names) {
		d.Column = names[column]
	}
	t.batch.Defects = append(t.batch.Defects, d)
}

// encode turns the raw bytes of a cell into its text, and says what is wrong with them.
func (f *File) encode(raw string) (text string, kind table.DefectKind) {
	text, clean := decode(nil, raw)
	switch {
	case !clean || f.charmap() != nil && strings.ContainsRune(text, utf8.RuneError):
		return text, table.BadBytes
	case strings.IndexByte(raw, 0) >= 0:
		return text, table.NulByte
	}
	return text, ""
}

// decode turns raw bytes into text; each byte that stands for no character becomes U+FFFD.
func decode[T string | []byte](marks *charmap.Charmap, raw T) (text string, clean bool) {
	text = string(raw)
	if marks == nil {
		if utf8.ValidString(text) {
			return text, true
		}
		return strings.ToValidUTF8(text, "\uFFFD"), false
	}
	var b strings.Builder
	clean = true
	for i := range len(text) {
		r := marks.DecodeByte(text[i])
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

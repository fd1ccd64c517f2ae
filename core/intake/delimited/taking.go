package delimited

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/core/table"
)

type span struct {
	start, length uint32
	line          int64
	form          recordForm
}

type part struct {
	text     *Text
	first    Checkpoint
	data     padded
	records  []span
	header   []table.Defect
	setAside int64
	closing  []string // records at the end that are no rows
	utf8     bool     // whether data was turned into UTF-8
}

// Span implements table.Part.
func (p *part) Span() (uint32, int) { return p.first.Row, len(p.records) }

// Batch implements table.Part.
func (p *part) Batch(shared []*table.Dictionary) (*table.Batch, error) {
	rows, width := len(p.records), len(p.text.Names)
	b := &table.Batch{Defects: p.header, SetAside: p.setAside, Closing: p.closing, Columns: make([]table.Column, width), Offset: -1}
	if p.text.Seeks {
		b.Offset = p.first.Offset
	}
	if rows == 0 {
		return b, nil
	}
	p.decode()
	t := taking{scratch: scratchOf(rows, width), part: p, batch: b}
	if b.Rows, b.Lines = t.rows, t.lines; shared == nil {
		b.Rows, b.Lines = make([]uint32, rows), make([]int64, rows)
	}
	for i := range b.Rows {
		b.Rows[i], b.Lines[i] = p.first.Row+uint32(i), p.records[i].line
	}
	t.places()
	p.text.columns(b, shared, t.column)
	if shared == nil {
		scratches.Put(t.scratch)
		p.release()
	} else {
		b.Done = func() { // the batch and the dictionaries use both until then
			scratches.Put(t.scratch)
			p.release()
		}
	}
	return b, nil
}

// columns looks the cells of each column up in its dictionary, which is one of its own where none are shared, and puts the defects in the
// order of the rows. A column for which there is no dictionary is left out.
func (t *Text) columns(b *table.Batch, shared []*table.Dictionary, cells func(c int) table.Cells) {
	for c := range b.Columns {
		var d *table.Dictionary
		if shared == nil {
			d = table.NewDictionary()
		} else if d = shared[c]; d == nil {
			continue
		}
		mine := cells(c)
		codes := d.Encode(mine, t.encode)
		if len(d.Flawed) > 0 {
			t.flawed(b, d, codes, &mine, c)
		}
		b.Columns[c] = table.Column{Texts: d.Texts, Codes: codes}
	}
	slices.SortStableFunc(b.Defects, func(a, b table.Defect) int { return cmp.Compare(a.Row, b.Row) })
}

// release gives the part's memory back; the part is of no use any more.
func (p *part) release() {
	records := p.records
	p.data.release()
	p.records = nil
	spans.Put(&records)
}

// sound reports whether nothing can be wrong with the bytes of any cell: delimiters are ASCII, so that none of them cuts
// through a character.
func (p *part) sound() bool {
	text := p.data.bytes()
	if bytes.IndexByte(text, 0) >= 0 {
		return false
	}
	if p.text.Characters != nil {
		return !bytes.ContainsRune(text, utf8.RuneError)
	}
	return utf8.Valid(text)
}

// decode turns the part into UTF-8. Each byte is a character in all of these encodings, and those that matter to records are the same
// ones, so that the records are what they were, at other places.
func (p *part) decode() {
	if p.utf8 || p.text.Characters == nil || ASCII(p.data.bytes()) {
		return
	}
	p.utf8 = true
	var (
		texts [256][utf8.UTFMax]byte
		sizes [256]uint8
	)
	for b := range texts {
		r, _ := characterOf(p.text.Characters, byte(b))
		sizes[b] = uint8(utf8.EncodeRune(texts[b][:], r))
	}
	before := p.data
	raw, size := before.bytes(), 0
	for _, b := range raw {
		size += int(sizes[b])
	}
	p.data = paddedOf(size)
	to, from, at := p.data.ahead(), 0, 0
	upTo := func(end int) {
		for ; from < end; from++ {
			b := raw[from]
			copy(to[at:at+utf8.UTFMax], texts[b][:])
			at += int(sizes[b])
		}
	}
	for i := range p.records {
		r := &p.records[i]
		end := int(r.start + r.length)
		upTo(int(r.start))
		r.start = uint32(at)
		upTo(end)
		r.length = uint32(at) - r.start
	}
	upTo(len(raw))
	before.release()
}

// ASCII reports whether no byte is beyond ASCII, eight of them at a time.
func ASCII(text []byte) bool {
	const beyond = 0x8080808080808080
	for ; len(text) >= 8; text = text[8:] {
		if binary.LittleEndian.Uint64(text)&beyond != 0 {
			return false
		}
	}
	return !slices.ContainsFunc(text, func(b byte) bool { return b >= utf8.RuneSelf })
}

// scratches and spans are used again from part to part; a part's bytes are copied where they
// are kept.
var scratches, spans sync.Pool

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
	rows   []uint32
	lines  []int64
	delimiters
	quotes delimiters // where a record has some
}

func scratchOf(rows, width int) *scratch {
	s, ok := scratches.Get().(*scratch)
	if !ok {
		s = &scratch{}
	}
	if cells := rows * width; cap(s.tokens) < cells {
		s.tokens = make([]table.Token, cells*5/4)
	}
	if cap(s.rows) < rows {
		s.rows, s.lines = make([]uint32, rows*5/4), make([]int64, rows*5/4)
	}
	s.tokens, s.extra, s.rows, s.lines = s.tokens[:rows*width], s.extra[:0], s.rows[:rows], s.lines[:rows]
	return s
}

// taking takes a part apart.
type taking struct {
	*scratch
	part  *part
	batch *table.Batch
	clean bool // nothing in it can be wrong with the bytes
}

// column returns the cells of a column.
func (t *taking) column(c int) table.Cells {
	rows := len(t.part.records)
	return table.Cells{Tokens: t.tokens[c*rows : (c+1)*rows], Data: t.part.data.bytes(), Extra: t.extra, Clean: t.clean}
}

// places finds where the cells stand.
func (t *taking) places() {
	p, rows := t.part, len(t.part.records)
	scan := p.text.scanner()
	t.delimiters, t.clean = findDelimiters(t.delimiters, p.data, scan.Delimiter)
	t.clean = t.clean || p.sound()
	t.quotes = t.quotes[:0]
	for i := 0; i < rows; i++ {
		switch r := &p.records[i]; r.form {
		case plainRecord:
			if i += t.delimiters.splitAll(p.data, p.records, scan.LineEnd, t.tokens, i, rows); i == rows {
				return
			}
			if p.records[i].form != plainRecord {
				i-- // which is looked at as what it is
				continue
			}
		case soundRecord, doubledRecord:
			if len(t.quotes) == 0 {
				t.quotes, _ = findDelimiters(t.quotes, p.data, scan.Quote)
			}
			if t.splitSound(r, i, rows) {
				continue
			}
		}
		t.awkward(scan, i)
	}
}

// awkward takes a record apart that has quotes, or cells beyond or short of the header's.
func (t *taking) awkward(scan scanner, i int) {
	p, rows, width, r := t.part, len(t.part.records), len(t.part.text.Names), t.part.records[i]
	raw := p.data.bytes()[r.start : r.start+r.length]
	t.found = scan.appendCells(t.found[:0], raw, r.form)
	for c, one := range t.found {
		content := one.content(raw)
		if one.defect != "" {
			p.text.defect(t.batch, i, one.defect, c, string(content))
		}
		if len(content) > cellLimit {
			p.text.defect(t.batch, i, table.CellTooLong, c, strconv.Itoa(len(content))+" bytes")
		}
		switch {
		case c >= width:
		case one.unescaped == nil:
			t.tokens[c*rows+i] = shortOrPlaced(p.data.ahead(), r.start+uint32(one.start), r.start+uint32(one.end))
		default:
			start := len(t.extra)
			t.extra = append(t.extra, content...)
			t.tokens[c*rows+i] = t.ofExtra(start)
		}
	}
	for c := len(t.found); c < width; c++ {
		t.tokens[c*rows+i] = table.Token{}
	}
	if n := len(t.found); n < width && !p.text.Converted {
		p.text.defect(t.batch, i, table.TooFewCells, -1, fmt.Sprintf("%d of %d cells", n, width))
	}
	if len(t.found) > width {
		surplus := make([]string, 0, len(t.found)-width)
		for _, one := range t.found[width:] {
			text, _ := Decode(nil, one.content(raw))
			surplus = append(surplus, text)
		}
		if t.batch.Surplus == nil {
			t.batch.Surplus = map[int][]string{}
		}
		t.batch.Surplus[i] = surplus
		if p.text.Converted { // the defect was told
			return
		}
		p.text.defect(t.batch, i, table.TooManyCells, -1, fmt.Sprintf("%d cells for %d columns; beyond them: %s", len(t.found), width,
			strings.Join(surplus, " | ")))
	}
}

// flawed notes the cells of a column whose bytes something is wrong with.
func (t *Text) flawed(b *table.Batch, d *table.Dictionary, codes []uint32, cells *table.Cells, c int) {
	for i, code := range codes {
		if kind, ok := d.Flawed[code]; ok {
			t.defect(b, i, kind, c, strconv.QuoteToASCII(cells.Text(i)))
		}
	}
}

func (t *Text) defect(b *table.Batch, i int, kind table.DefectKind, column int, detail string) {
	d := table.Defect{Kind: kind, Line: b.Lines[i], Row: b.Rows[i], Detail: Clip(detail)}
	if column >= 0 && column < len(t.Names) {
		d.Column = t.Names[column]
	}
	b.Defects = append(b.Defects, d)
}

// Decode turns raw bytes into text; each byte that stands for no character becomes U+FFFD.
func Decode[T string | []byte](characters *charmap.Charmap, raw T) (text string, clean bool) {
	text = string(raw)
	if characters == nil {
		if utf8.ValidString(text) {
			return text, true
		}
		return strings.ToValidUTF8(text, "\uFFFD"), false
	}
	var b strings.Builder
	clean = true
	for i := range len(text) {
		r, known := characterOf(characters, text[i])
		clean = clean && known
		b.WriteRune(r)
	}
	return b.String(), clean
}

// characterOf returns the character that a byte stands for, U+FFFD where it stands for none.
func characterOf(characters *charmap.Charmap, b byte) (r rune, known bool) {
	r = characters.DecodeByte(b)
	if r == utf8.RuneError || r >= 0x80 && r < 0xA0 && characters == charmap.Windows1252 {
		return utf8.RuneError, false
	}
	return r, true
}

// Clip shortens the detail of a defect.
func Clip(s string) string {
	if len(s) <= detailLength {
		return strings.ToValidUTF8(s, "\uFFFD")
	}
	return strings.ToValidUTF8(s[:detailLength], "\uFFFD") + "…"
}

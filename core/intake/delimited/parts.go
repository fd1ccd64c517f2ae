package delimited

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"strings"

	"proudsieve/core/table"
)

type parts struct {
	ctx      context.Context
	text     *Text
	in       io.ReadCloser
	scan     scanner
	at       Checkpoint
	rest     padded // read but not yet handed out
	tail     []byte // its memory between two parts
	ended    bool
	header   []table.Defect
	setAside int64
	sent     bool
	typical  int // records of a part
	marks    marks
	beside   Noted // where another format was turned into text; nil for none
}

// Close implements table.Parts.
func (p *parts) Close() error {
	var err error
	if p.beside != nil {
		err = p.beside.Close()
	}
	return errors.Join(err, p.in.Close())
}

// Next implements table.Parts. A part ends with the last record that ends within
// partSize bytes, more of a wide table, or with the first one where none does.
func (p *parts) Next() (table.Part, error) {
	if err := p.ctx.Err(); err != nil {
		return nil, err
	}
	size := p.size()
	for {
		if err := p.fill(size); err != nil {
			return nil, err
		}
		if p.rest.len() == 0 {
			break
		}
		part := &part{text: p.text, first: p.at, header: p.header, setAside: p.setAside, records: spansOf(p.typical)}
		end := p.collect(part)
		if end == 0 { // not even one record is whole
			if size *= 4; size > RecordLimit {
				return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooLong)
			}
			continue
		}
		if uint64(p.at.Row)+uint64(len(part.records)) > table.MaxRows {
			return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooMany)
		}
		part.data = p.rest.first(end)
		p.tail = append(p.tail[:0], p.rest.bytes()[end:]...)
		p.rest = padded{}
		p.at.Offset += int64(end)
		p.at.Row += uint32(len(part.records))
		p.typical = len(part.records) * 5 / 4
		p.header, p.setAside, p.sent = nil, 0, true
		if err := p.note(part); err != nil {
			return nil, err
		}
		if p.text.OnProgress != nil {
			bytes := p.at.Offset
			if !p.text.Seeks {
				bytes = 0
			}
			p.text.OnProgress(bytes, int64(p.at.Row)-1)
		}
		return part, nil
	}
	if !p.sent && (p.setAside > 0 || len(p.header) > 0) { // a header and nothing else still has its defects
		p.sent = true
		return &part{text: p.text, first: p.at, header: p.header, setAside: p.setAside}, nil
	}
	return nil, io.EOF
}

// size returns how many bytes a part has.
func (p *parts) size() int { return partSize * table.PartFactor(len(p.text.Names)) }

// note adds what was told beside the records of a part.
func (p *parts) note(part *part) error {
	if p.beside == nil || len(part.records) == 0 {
		return nil
	}
	told, err := p.beside.UpTo(part.records[len(part.records)-1].line)
	if err != nil {
		return err
	}
	part.header = part.header[:len(part.header):len(part.header)]
	for _, d := range told {
		if d.Line < p.text.Body.Line {
			continue // of what stands above the data
		}
		at, found := slices.BinarySearchFunc(part.records, d.Line,
			func(s span, line int64) int { return cmp.Compare(s.line, line) })
		if found {
			d.Row = part.first.Row + uint32(at)
		}
		part.header = append(part.header, d)
	}
	return nil
}

// closingSought is how many records at the end are looked at for texts of closing lines.
const closingSought = 50

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
	closing, rest := p.text.ClosingRecords, p.rest.bytes()
	if closing == 0 && len(p.text.Closing) > 0 {
		closing = closingSought
	}
	size, quotes := p.size(), p.scan.Quote != 0 && bytes.IndexByte(rest, p.scan.Quote) >= 0
	if quotes {
		p.marks.find(p.rest, p.scan.Layout)
	} else {
		p.marks.lineEnds, _ = findDelimiters(p.marks.lineEnds, p.rest, p.scan.LineEnd)
	}
	for end < len(rest) && (end < size || len(part.records) <= closing && closing > 0) {
		if closing == 0 {
			if end = p.many(part, end, size, quotes); end >= size || end == len(rest) {
				break
			}
		}
		record, ok := p.record(end, quotes)
		if !ok {
			break
		}
		if record.form == blankRecord {
			part.setAside++
		} else {
			if closing > 0 {
				if states = append(states, state{end, p.at.Line, part.setAside}); len(states) > closing {
					states = states[1:]
				}
			}
			part.records = append(part.records, span{uint32(end), uint32(record.end), p.at.Line, record.form})
		}
		p.at.Line += record.lines
		end += record.end
	}
	if len(states) == 0 {
		return end
	}
	held := states[0]
	rows := len(part.records) - len(states)
	if p.ended && end == len(rest) {
		if p.text.ClosingRecords == 0 {
			rows = len(part.records)
			for rows > 0 && len(part.records)-rows < len(states) && p.text.closes(rest, part.records[rows-1]) {
				rows--
			}
		}
		for _, r := range part.records[rows:] {
			part.closing = append(part.closing, p.text.line(rest, r))
		}
		part.setAside += int64(len(part.records) - rows)
		part.records = part.records[:rows]
		return end
	}
	part.records = part.records[:rows]
	part.setAside, p.at.Line = held.setAside, held.line
	return held.end
}

// many adds the records from a place on that are found by marks alone, up to the first one that ends beyond size bytes, or the last
// one that has an end. It returns where that is.
func (p *parts) many(part *part, end, size int, quotes bool) int {
	run := recordRun{part.records, p.at.Line, part.setAside}
	if rest := p.rest.bytes(); quotes {
		end = p.marks.sound(p.scan, rest, &run, end, size)
	} else {
		end = p.marks.lineEnds.lines(rest, &run, end, size)
	}
	part.records, p.at.Line, part.setAside = run.spans, run.line, run.setAside
	return end
}

// lines takes every line for a record, where no quote stands, as in most tables.
func (m delimiters) lines(data []byte, run *recordRun, end, size int) int {
	records, line := run.spans, run.line
	mask := ^uint64(0) << (end & 63)
	for block := end >> 6; block < len(m); block++ {
		for found := m[block] & mask; found != 0 && end < size; found &= found - 1 {
			stop := block<<6 + bits.TrailingZeros64(found) + 1
			if stop > len(data) {
				break
			}
			if data[end] <= ' ' && blank(data[end:stop]) {
				run.setAside++
			} else {
				records = append(records, span{uint32(end), uint32(stop - end), line, plainRecord})
			}
			end = stop
			line++
		}
		mask = ^uint64(0)
	}
	run.spans, run.line = records, line
	return end
}

// closes reports whether a record begins with one of the texts of closing lines.
func (t *Text) closes(data []byte, r span) bool {
	for _, cell := range t.cells(data, r) {
		first := table.Level(cell)
		if first == "" {
			continue
		}
		return slices.ContainsFunc(t.Closing, func(text string) bool {
			return strings.HasPrefix(first, table.Level(text)) && text != ""
		})
	}
	return false
}

// cells takes a record apart.
func (t *Text) cells(data []byte, r span) (cells []string) {
	s := t.scanner()
	raw := data[r.start : r.start+r.length]
	for _, c := range s.appendCells(nil, raw, r.form) {
		text, _ := Decode(t.Characters, c.content(raw))
		cells = append(cells, text)
	}
	return cells
}

// line returns the filled cells of a record in one line, cut where they are long.
func (t *Text) line(data []byte, r span) string {
	var filled []string
	for _, cell := range t.cells(data, r) {
		if cell = table.Trim(cell); cell != "" {
			filled = append(filled, cell)
		}
	}
	return Clip(strings.Join(filled, " "))
}

// record finds the record that starts at a place.
func (p *parts) record(start int, quotes bool) (record, bool) {
	in := stretch{p.rest.bytes()[start:], p.ended}
	if quotes {
		return p.scan.first(in)
	}
	end, ok := p.marks.lineEnds.first(start, p.rest.len())
	if end -= start; !ok {
		end = -1
	}
	line, ok := in.line(end)
	return oneLine(line), ok
}

// fill puts what is left into a buffer of its own, since the part handed out before may
// still be taken apart, and reads until size bytes are at hand or the input ends.
func (p *parts) fill(size int) error {
	left := p.tail
	if p.rest.len() > 0 {
		left = p.rest.bytes()
	}
	buffer := paddedOf(max(size, len(left)))
	n := copy(buffer.bytes(), left)
	p.tail = p.tail[:0]
	if p.rest = buffer.first(n); p.ended || n >= size {
		return nil
	}
	m, err := io.ReadFull(p.in, buffer.bytes()[n:])
	p.rest = buffer.first(n + m)
	if err == io.EOF || err == io.ErrUnexpectedEOF { // of ReadFull itself; wrapped, it is that of a packed file cut off
		p.ended, err = true, nil
	}
	return err
}

// Errors that can be told apart with errors.Is.
var (
	ErrTooLong = errors.New("a record is longer than 64 MiB; check the declared quote and line ends")
	ErrTooMany = errors.New("the file has more columns or rows than can be read here (10,000 columns, 4,294,967,294 rows); check the declared delimiter, or deliver it in parts")
)

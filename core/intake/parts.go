package intake

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"proudsieve/core/table"
)

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
	typical  int // records of a part
	lineEnds delimiters
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
	if quote == len(p.rest) {
		p.lineEnds, _ = findDelimiters(p.lineEnds, p.rest, p.scan.lineEnd)
	} else {
		p.lineEnds = p.lineEnds[:0]
	}
	for end < len(p.rest) && end < partSize {
		if quote < end {
			quote = p.nextQuote(end)
		}
		record := p.record(end, quote < len(p.rest))
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

// record finds the record that starts at a place; quotes says that there are quotes from there on.
func (p *parts) record(start int, quotes bool) record {
	if len(p.lineEnds) == 0 {
		return p.scan.record(p.rest[start:], p.ended, quotes)
	}
	end, ok := p.lineEnds.first(start, len(p.rest))
	if end -= start; !ok {
		end = -1
	}
	return oneLine(firstLine(p.rest[start:], end, p.ended))
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

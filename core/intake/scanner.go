package intake

import (
	"bytes"

	"proudsieve/core/table"
)

// scanner finds the ends of records and the cells within one. Both walk the same
// states, so a record found by one is taken apart the same way by the other.
type scanner struct {
	delimiter, quote, lineEnd byte
	quoting                   bool
}

// record is what record found: the bytes up to and including the line end (0
// where the record is not whole yet), and how many line ends are among them.
type record struct {
	end     int
	lines   int64
	blank   bool
	literal bool // a quote is never closed: the record is one line, its quotes plain characters
}

// record finds the end of the record that data starts with. ended says that no
// more bytes follow data.
func (s scanner) record(data []byte, ended bool) record {
	if len(data) == 0 {
		return record{}
	}
	start := true // of a cell
	for i := 0; i < len(data); i++ {
		c := data[i]
		switch {
		case c == s.lineEnd:
			return record{end: i + 1, lines: 1 + int64(bytes.Count(data[:i], []byte{s.lineEnd})), blank: blank(data[:i])}
		case c == s.delimiter:
			start = true
			continue
		case start && s.quoting && c == s.quote:
			end, closed := s.quoted(data[i:], ended)
			if !closed {
				if end == 0 {
					return record{} // more bytes may close it
				}
				return s.literal(data, ended)
			}
			i += end - 1
		}
		start = false
	}
	if !ended {
		return record{}
	}
	return record{end: len(data), lines: 1 + int64(bytes.Count(data, []byte{s.lineEnd})), blank: blank(data)}
}

// quoted walks a quoted run that starts at data[0]. closed says that its closing
// quote was found and is followed by a cell's end, or by other text on the same
// line. Otherwise the length is 0 where more bytes are needed and positive where
// the quote is never closed: not before the end, not within quotedLimit, or only
// lines later in the middle of other text.
func (s scanner) quoted(data []byte, ended bool) (length int, closed bool) {
	i := 1
	for {
		at := bytes.IndexByte(data[i:], s.quote)
		if at < 0 || i+at > quotedLimit {
			if ended || len(data) > quotedLimit {
				return len(data), false
			}
			return 0, false
		}
		i += at + 1
		if i == len(data) {
			if ended {
				return i, true
			}
			return 0, false
		}
		switch c := data[i]; {
		case c == s.quote:
			i++
			continue
		case c == s.delimiter || c == s.lineEnd || (c == '\r' && s.lineEnd == '\n'):
			return i, true
		default:
			return i, bytes.IndexByte(data[:i], s.lineEnd) < 0
		}
	}
}

func (s scanner) literal(data []byte, ended bool) record {
	end := bytes.IndexByte(data, s.lineEnd) + 1
	if end == 0 {
		if !ended {
			return record{}
		}
		end = len(data)
	}
	return record{end: end, lines: 1, literal: true}
}

func blank(line []byte) bool {
	return len(bytes.TrimSpace(line)) == 0 && bytes.IndexByte(line, '\t') < 0
}

// cell is one cell of a record: its content, unquoted where its quoting is sound, else raw.
type cell struct {
	bytes  []byte
	defect table.DefectKind
}

func (s scanner) cells(data []byte, literal bool) []cell { return s.appendCells(nil, data, literal) }

// appendCells takes the record apart.
func (s scanner) appendCells(cells []cell, data []byte, literal bool) []cell {
	if n := len(data); n > 0 && data[n-1] == s.lineEnd {
		data = data[:n-1]
	}
	if n := len(data); n > 0 && data[n-1] == '\r' {
		data = data[:n-1]
	}
	for {
		var one cell
		end := 0
		if !literal && s.quoting && len(data) > 0 && data[0] == s.quote {
			length, closed := s.quoted(data, true)
			if closed && (length == len(data) || data[length] == s.delimiter) {
				one.bytes = bytes.ReplaceAll(data[1:length-1], []byte{s.quote, s.quote}, []byte{s.quote})
				end = length
			} else {
				end = length + s.plain(data[length:])
				one = cell{data[:end], table.BrokenQuote}
			}
		} else {
			end = s.plain(data)
			one.bytes = data[:end]
			if s.quoting && bytes.IndexByte(one.bytes, s.quote) >= 0 {
				one.defect = table.BrokenQuote
				if literal && one.bytes[0] == s.quote {
					one.defect = table.OpenQuote
				}
			}
		}
		cells = append(cells, one)
		if end == len(data) {
			return cells
		}
		data = data[end+1:]
	}
}

// plain returns the length of the unquoted text that data starts with.
func (s scanner) plain(data []byte) int {
	if at := bytes.IndexByte(data, s.delimiter); at >= 0 {
		return at
	}
	return len(data)
}

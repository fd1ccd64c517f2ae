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
	end   int
	lines int64
	form  recordForm
}

type recordForm uint8

const (
	plainRecord  recordForm = iota // one line without a quote
	quotedRecord                   // with quotes
	openRecord                     // a quote is never closed: the record is one line, its quotes plain characters
	blankRecord
)

// record finds the end of the record that data starts with. ended says that no
// more bytes follow data; quotes, that there may be quotes in its first line.
func (s scanner) record(data []byte, ended, quotes bool) record {
	line := firstLine(data, bytes.IndexByte(data, s.lineEnd), ended)
	if quotes && s.quoting && bytes.IndexByte(line, s.quote) >= 0 {
		return s.recordWithQuotes(data, ended)
	}
	return oneLine(line)
}

// firstLine returns the line that data starts with, given where it ends, negative for nowhere;
// it is empty where more bytes may follow.
func firstLine(data []byte, end int, ended bool) []byte {
	switch {
	case end >= 0:
		return data[:end+1]
	case ended:
		return data
	}
	return nil
}

// oneLine is the record of a line without quotes.
func oneLine(line []byte) record {
	if len(line) == 0 {
		return record{}
	}
	if line[0] <= ' ' && blank(line) {
		return record{len(line), 1, blankRecord}
	}
	return record{len(line), 1, plainRecord}
}

func (s scanner) recordWithQuotes(data []byte, ended bool) record {
	start, lines := true, int64(1) // start of a cell
	for i := 0; i < len(data); i++ {
		c := data[i]
		switch {
		case c == s.lineEnd:
			return record{i + 1, lines, quotedRecord}
		case c == s.delimiter:
			start = true
			continue
		case start && c == s.quote:
			end, closed := s.quoted(data[i:], ended)
			if !closed {
				if end == 0 {
					return record{} // more bytes may close it
				}
				return s.openQuote(data, ended)
			}
			lines += int64(bytes.Count(data[i:i+end], []byte{s.lineEnd}))
			i += end - 1
		}
		start = false
	}
	if !ended {
		return record{}
	}
	return record{len(data), lines, quotedRecord}
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

func (s scanner) openQuote(data []byte, ended bool) record {
	end := bytes.IndexByte(data, s.lineEnd) + 1
	if end == 0 {
		if !ended {
			return record{}
		}
		end = len(data)
	}
	return record{end, 1, openRecord}
}

func blank(line []byte) bool {
	return len(bytes.TrimSpace(line)) == 0 && bytes.IndexByte(line, '\t') < 0
}

// cell is one cell of a record: where its content stands, unquoted where its quoting
// is sound, else raw. A content with doubled quotes stands nowhere and is in unescaped.
type cell struct {
	start, end int
	unescaped  []byte
	defect     table.DefectKind
}

// content returns the content of the cell of a record.
func (c cell) content(data []byte) []byte {
	if c.unescaped != nil {
		return c.unescaped
	}
	return data[c.start:c.end]
}

// withoutLineEnd takes the line end off a record.
func withoutLineEnd(data []byte, lineEnd byte) []byte {
	if n := len(data); n > 0 && data[n-1] == lineEnd {
		data = data[:n-1]
	}
	if n := len(data); n > 0 && data[n-1] == '\r' {
		data = data[:n-1]
	}
	return data
}

// appendCells takes a record apart.
func (s scanner) appendCells(cells []cell, data []byte, form recordForm) []cell {
	data = withoutLineEnd(data, s.lineEnd)
	for at := 0; ; {
		one := cell{start: at}
		next := 0
		if form == quotedRecord && at < len(data) && data[at] == s.quote {
			length, closed := s.quoted(data[at:], true)
			if next = at + length; closed && (next == len(data) || data[next] == s.delimiter) {
				one.start, one.end = at+1, next-1
				if content := data[at+1 : next-1]; bytes.IndexByte(content, s.quote) >= 0 {
					one.unescaped = bytes.ReplaceAll(content, []byte{s.quote, s.quote}, []byte{s.quote})
				}
			} else {
				next += s.plain(data[next:])
				one.end, one.defect = next, table.BrokenQuote
			}
		} else {
			next = at + s.plain(data[at:])
			one.end = next
			if form != plainRecord && s.quoting && bytes.IndexByte(data[at:next], s.quote) >= 0 {
				one.defect = table.BrokenQuote
				if form == openRecord && data[at] == s.quote {
					one.defect = table.OpenQuote
				}
			}
		}
		cells = append(cells, one)
		if next == len(data) {
			return cells
		}
		at = next + 1
	}
}

// plain returns the length of the unquoted text that data starts with.
func (s scanner) plain(data []byte) int {
	if at := bytes.IndexByte(data, s.delimiter); at >= 0 {
		return at
	}
	return len(data)
}

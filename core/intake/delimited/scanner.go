package delimited

import (
	"bytes"

	"proudsieve/core/table"
)

// scanner finds the ends of records and the cells within one. Both walk the same
// states, so a record found by one is taken apart the same way by the other.
type scanner struct {
	Layout
	lineEach bool // each record counts as one line, whatever line ends it has
}

// stretch is text at hand, which may be all there is.
type stretch struct {
	text []byte
	last bool // nothing follows
}

// record is the first record of a stretch: the bytes up to and including the line end, and how
// many line ends are among them.
type record struct {
	end   int
	lines int64
	form  recordForm
}

type recordForm uint8

const (
	plainRecord   recordForm = iota // one line without a quote
	soundRecord                     // each of its quotes begins or ends a cell
	doubledRecord                   // likewise, but for some that are doubled within cells
	quotedRecord                    // with quotes of which nothing else is known
	openRecord                      // a quote is never closed: the record is one line, its quotes plain characters
	blankRecord
)

// quoted reports whether cells may be quoted.
func (f recordForm) quoted() bool { return f >= soundRecord && f <= quotedRecord }

// first finds the first record of a stretch; false where more of the text is needed for it.
func (s scanner) first(in stretch) (record, bool) {
	line, ok := in.line(bytes.IndexByte(in.text, s.LineEnd))
	if !ok || s.Quote == 0 || bytes.IndexByte(line, s.Quote) < 0 {
		return oneLine(line), ok
	}
	r, ok := s.withQuotes(in)
	if s.lineEach {
		r.lines = 1
	}
	return r, ok
}

// line returns the line that a stretch starts with, given where its end stands, negative for
// nowhere; false where more bytes may follow.
func (in stretch) line(end int) ([]byte, bool) {
	switch {
	case end >= 0:
		return in.text[:end+1], true
	case in.last:
		return in.text, len(in.text) > 0
	}
	return nil, false
}

// oneLine is the record of a line without quotes.
func oneLine(line []byte) record {
	if len(line) > 0 && line[0] <= ' ' && blank(line) {
		return record{len(line), 1, blankRecord}
	}
	return record{len(line), 1, plainRecord}
}

func (s scanner) withQuotes(in stretch) (record, bool) {
	data, start, lines := in.text, true, int64(1) // start of a cell
	for i := 0; i < len(data); i++ {
		c := data[i]
		switch {
		case c == s.LineEnd:
			return record{i + 1, lines, quotedRecord}, true
		case c == s.Delimiter:
			start = true
			continue
		case start && c == s.Quote:
			run := s.quoted(stretch{data[i:], in.last})
			switch run.end {
			case quoteOpen:
				return record{}, false // more bytes may close it
			case quoteNever:
				return s.openQuote(in)
			}
			lines += int64(bytes.Count(data[i:i+run.length], []byte{s.LineEnd}))
			i += run.length - 1
		}
		start = false
	}
	return record{len(data), lines, quotedRecord}, in.last
}

// quotedRun is a run of quoted text: its length, and how it ends.
type quotedRun struct {
	length int
	end    quoteEnd
}

type quoteEnd uint8

const (
	quoteClosed quoteEnd = iota // by a quote with a cell's end after it, or other text on the same line
	quoteOpen                   // within the stretch; more of the text is needed
	// not before the end, not within quotedLimit, or only lines later in the middle of other text
	quoteNever
)

// quoted walks the quoted run that a stretch starts with.
func (s scanner) quoted(in stretch) quotedRun {
	data, i := in.text, 1
	for {
		at := bytes.IndexByte(data[i:], s.Quote)
		if at < 0 || i+at > quotedLimit {
			if in.last || len(data) > quotedLimit {
				return quotedRun{len(data), quoteNever}
			}
			return quotedRun{0, quoteOpen}
		}
		i += at + 1
		if i == len(data) {
			if in.last {
				return quotedRun{i, quoteClosed}
			}
			return quotedRun{0, quoteOpen}
		}
		switch c := data[i]; {
		case c == s.Quote:
			i++
			continue
		case c == s.Delimiter || c == s.LineEnd || (c == '\r' && s.LineEnd == '\n'):
			return quotedRun{i, quoteClosed}
		case bytes.IndexByte(data[:i], s.LineEnd) < 0:
			return quotedRun{i, quoteClosed}
		}
		return quotedRun{i, quoteNever}
	}
}

// openQuote is the record of a line with a quote that is never closed.
func (s scanner) openQuote(in stretch) (record, bool) {
	line, ok := in.line(bytes.IndexByte(in.text, s.LineEnd))
	return record{len(line), 1, openRecord}, ok
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
	data = withoutLineEnd(data, s.LineEnd)
	for at := 0; ; {
		one := cell{start: at}
		next := 0
		if form.quoted() && at < len(data) && data[at] == s.Quote {
			run := s.quoted(stretch{data[at:], true})
			if next = at + run.length; run.end == quoteClosed && (next == len(data) || data[next] == s.Delimiter) {
				one.start, one.end = at+1, next-1
				if content := data[at+1 : next-1]; bytes.IndexByte(content, s.Quote) >= 0 {
					one.unescaped = bytes.ReplaceAll(content, []byte{s.Quote, s.Quote}, []byte{s.Quote})
				}
			} else {
				next += s.plain(data[next:])
				one.end, one.defect = next, table.BrokenQuote
			}
		} else {
			next = at + s.plain(data[at:])
			one.end = next
			if form != plainRecord && s.Quote != 0 && bytes.IndexByte(data[at:next], s.Quote) >= 0 {
				one.defect = table.BrokenQuote
				if form == openRecord && data[at] == s.Quote {
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
	if at := bytes.IndexByte(data, s.Delimiter); at >= 0 {
		return at
	}
	return len(data)
}

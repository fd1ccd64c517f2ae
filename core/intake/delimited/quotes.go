package delimited

import (
	"bytes"
	"math/bits"

	"proudsieve/core/table"
)

// marks are where the bytes of a part stand that matter to records with quotes.
type marks struct{ quotes, lineEnds, cells delimiters }

// find marks them.
func (m *marks) find(data padded, l Layout) {
	m.quotes, _ = findDelimiters(m.quotes, data, l.Quote)
	m.lineEnds, _ = findDelimiters(m.lineEnds, data, l.LineEnd)
	m.cells, _ = findDelimiters(m.cells, data, l.Delimiter)
}

// parity returns for each bit whether an odd number of bits is set up to and including it.
func parity(w uint64) uint64 {
	w ^= w << 1
	w ^= w << 2
	w ^= w << 4
	w ^= w << 8
	w ^= w << 16
	return w ^ w<<32
}

// recordRun gathers consecutive records of a part.
type recordRun struct {
	spans    []span
	line     int64 // of the next one
	setAside int64
}

// sound adds the records from a place on whose quotes are all sound: each begins a cell or ends it, or is doubled within one. Such
// quotes tell by their parity alone what stands inside and what outside, 64 bytes at once. It returns where the first record
// begins that ends beyond the data, begins at or beyond size, is very long, or has a quote elsewhere, which says nothing of those
// after it.
func (m *marks) sound(s scanner, data []byte, run *recordRun, from, size int) (end int) {
	const all = ^uint64(0)
	var (
		mask        = all << (from & 63) // the bytes of the block that are looked at
		start       = uint64(1) << (from & 63)
		inside      uint64 // all bits where the block begins within quotes
		before      uint64 // the first bit where the byte before the block ends a cell or closes a quote
		afterClosed uint64 // the first bit where the byte before the block closes a quote
		quoted      bool   // of the record that is open
		doubled     bool
		inner       int64 // line ends within its quotes
	)
	end = from
	for block := from >> 6; block<<6 < len(data); block++ {
		if left := len(data) - block<<6; left < 64 {
			mask &= 1<<left - 1
		}
		quotes, lineEnds := m.quotes[block]&mask, m.lineEnds[block]&mask
		in := parity(quotes) ^ inside
		opening, closing := quotes&in, quotes&^in
		outside := lineEnds &^ in
		cellEnds := m.cells[block]&mask&^in | outside
		wrong := opening&^((cellEnds|closing)<<1|before|start) |
			m.wrongAfter((closing<<1|afterClosed)&mask&^(cellEnds|opening), block, s.LineEnd, data)
		if wrong != 0 {
			outside &= wrong&-wrong - 1
		}
		twice := opening & (closing<<1 | afterClosed)
		for since := all; ; outside &= outside - 1 {
			upTo := all
			if outside != 0 {
				upTo = outside ^ (outside - 1) // up to and including the line end
			}
			quoted = quoted || quotes&since&upTo != 0
			doubled = doubled || twice&since&upTo != 0
			inner += int64(bits.OnesCount64(lineEnds & in & since & upTo))
			if outside == 0 {
				break
			}
			stop := block<<6 + bits.TrailingZeros64(outside) + 1
			if !run.add(s, data[end:stop], end, quoted, doubled, inner) {
				return end
			}
			if end = stop; end >= size {
				return end
			}
			since, quoted, doubled, inner = ^upTo, false, false, 0
		}
		if wrong != 0 {
			return end
		}
		before, afterClosed, inside = (cellEnds|closing)>>63, closing>>63, uint64(int64(in)>>63)
		mask, start = all, 0
	}
	return end
}

// wrongAfter returns those of the bytes after closing quotes that do not end a cell, a carriage return before a line end being one
// that does.
func (m *marks) wrongAfter(after uint64, block int, lineEnd byte, data []byte) (wrong uint64) {
	for ; after != 0; after &= after - 1 {
		at := block<<6 + bits.TrailingZeros64(after)
		if lineEnd != '\n' || data[at] != '\r' || at+1 >= len(data) || data[at+1] != lineEnd {
			wrong |= after & -after
		}
	}
	return wrong
}

// add adds a record; it reports false for one that is too long to be told by its quotes' parity, since quotes that lie far apart
// are taken as never closed.
func (run *recordRun) add(s scanner, record []byte, start int, quoted, doubled bool, inner int64) bool {
	form := plainRecord
	switch {
	case quoted && len(record) > quotedLimit/2:
		return false
	case doubled:
		form = doubledRecord
	case quoted:
		form = soundRecord
	case record[0] <= ' ' && blank(record):
		run.setAside++
		run.line++
		return true
	}
	run.spans = append(run.spans, span{uint32(start), uint32(len(record)), run.line, form})
	if run.line++; !s.lineEach {
		run.line += inner
	}
	return true
}

// splitSound writes the tokens of the cells of a record whose quotes are sound, as split does those of a plain one.
func (t *taking) splitSound(r *span, i, rows int) bool {
	layout, data := t.part.text.Layout, t.part.data.ahead()
	start := r.start
	end := start + uint32(len(withoutLineEnd(data[start:start+r.length], layout.LineEnd)))
	block, inside := start>>6, uint64(0)
	from := ^uint64(0) << (start & 63)
	in := parity(t.quotes[block] & from)
	found := t.delimiters[block] & from &^ in
	for at := i; at < len(t.tokens); at += rows {
		for found == 0 && (block+1)<<6 < end {
			inside = uint64(int64(in) >> 63)
			block++
			in = parity(t.quotes[block]) ^ inside
			found = t.delimiters[block] &^ in
		}
		stop := end
		if found != 0 {
			stop = min(block<<6+uint32(bits.TrailingZeros64(found)), end)
		}
		switch {
		case start == stop || data[start] != layout.Quote:
			t.tokens[at] = shortOrPlaced(data, start, stop)
		case r.form == doubledRecord && bytes.IndexByte(data[start+1:stop-1], layout.Quote) >= 0:
			t.tokens[at] = t.undoubled(data[start+1:stop-1], layout.Quote)
		default:
			t.tokens[at] = shortOrPlaced(data, start+1, stop-1)
		}
		if stop == end {
			return at+rows >= len(t.tokens)
		}
		found &= found - 1
		start = stop + 1
	}
	return false
}

// undoubled keeps a text with each pair of quotes made one.
func (t *taking) undoubled(text []byte, quote byte) table.Token {
	start := len(t.extra)
	for {
		at := bytes.IndexByte(text, quote)
		if at < 0 {
			break
		}
		t.extra = append(t.extra, text[:at+1]...)
		text = text[at+2:]
	}
	t.extra = append(t.extra, text...)
	return t.ofExtra(start)
}

// ofExtra returns the token of the text that stands from a place in extra on to its end.
func (t *taking) ofExtra(start int) table.Token {
	text := t.extra[start:]
	if len(text) > table.InlineLength {
		return table.Placed(uint32(start)|table.ExtraBit, uint32(len(t.extra)))
	}
	var raw [16]byte
	return table.InlineToken(&raw, uint32(copy(raw[:], text)))
}

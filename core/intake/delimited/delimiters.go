package delimited

import (
	"encoding/binary"
	"math/bits"
	"slices"
	"unicode/utf8"

	"proudsieve/core/table"
)

// delimiters has a bit for every byte of a part, set where it ends a cell, or a line.
type delimiters []uint64

// findDelimiters marks the delimiters of data. clean says that it is all ASCII and has no NUL.
func findDelimiters(into delimiters, data padded, delimiter byte) (found delimiters, clean bool) {
	whole := data.len() / 64 // blocks; one more is marked, whatever follows the data in it
	into = slices.Grow(into[:0], whole+1)[:whole+1]
	clean = mark(into[:whole], data.bytes(), delimiter)
	mark(into[whole:], data.ahead()[whole*64:][:64], delimiter)
	for _, c := range data.bytes()[whole*64:] {
		clean = clean && c < utf8.RuneSelf && c > 0
	}
	return into, clean
}

// first returns where the first delimiter from a place on stands, and false where there is none
// before end.
func (m delimiters) first(from, end int) (at int, ok bool) {
	block := from >> 6
	found := m[block] &^ (1<<(from&63) - 1)
	for found == 0 {
		if block++; block<<6 >= end {
			return 0, false
		}
		found = m[block]
	}
	at = block<<6 + bits.TrailingZeros64(found)
	return at, at < end
}

// markWords marks the delimiters of blocks of 64 bytes. It looks at eight bytes at a time
// (Warren, Hacker's Delight, section 6-1: finding a zero byte).
func markWords(into []uint64, data []byte, delimiter byte) (clean bool) {
	const ones, low = 0x0101010101010101, 0x7F7F7F7F7F7F7F7F
	equal := func(w uint64, b byte) uint64 { // the top bit of each byte that equals b
		w ^= uint64(b) * ones
		return ^((w&low + low) | w | low)
	}
	odd := uint64(0)
	for at := range into {
		block := (*[64]byte)(data[at*64:])
		into[at] = 0
		for i := 0; i < 64; i += 8 {
			w := binary.LittleEndian.Uint64(block[i:])
			into[at] |= equal(w, delimiter) >> 7 * 0x0102040810204080 >> 56 << i // gathered in the top byte
			odd |= w&^low | equal(w, 0)
		}
	}
	return odd == 0
}

// splitEach writes the tokens of the cells of records, from the first one on: those of each
// column stand together, and there are rows of them. It returns how many records were plain
// and had the right number of cells, and ends with the first one that is otherwise.
func (m delimiters) splitEach(data padded, records []span, lineEnd byte, tokens []table.Token, first, rows int) int {
	for i := first; i < len(records); i++ {
		r := &records[i]
		if r.form != plainRecord || r.length >= cellLimit {
			return i - first
		}
		end := r.start + uint32(len(withoutLineEnd(data.bytes()[r.start:r.start+r.length], lineEnd)))
		if !m.split(data.ahead(), r.start, end, tokens, i, rows) {
			return i - first
		}
	}
	return len(records) - first
}

// split writes the tokens of the cells of a plain record, data[start:end], to every rows-th
// place from at on, long ones as Placed. It reports false where they are not as many as
// there is room for. Bytes after the record are read too.
func (m delimiters) split(data []byte, start, end uint32, tokens []table.Token, at, rows int) bool {
	block := start >> 6
	found := m[block] &^ (1<<(start&63) - 1)
	for ; at < len(tokens); at += rows {
		for found == 0 && (block+1)<<6 < end {
			block++
			found = m[block]
		}
		stop := min(block<<6+uint32(bits.TrailingZeros64(found)), end)
		tokens[at] = shortOrPlaced(data, start, stop)
		if stop == end {
			return at+rows >= len(tokens)
		}
		found &= found - 1
		start = stop + 1
	}
	return false
}

func shortOrPlaced(data []byte, start, end uint32) table.Token {
	if length := end - start; length <= table.InlineLength {
		return table.InlineToken((*[16]byte)(data[start:]), length)
	}
	return table.Placed(start, end)
}

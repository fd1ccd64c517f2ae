package intake

import (
	"encoding/binary"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

// delimiters has a bit for every byte of a part, set where it is a delimiter.
type delimiters []uint64

// findDelimiters marks the delimiters of data, but for those in its last partSlack bytes.
func findDelimiters(into delimiters, data []byte, delimiter byte) delimiters {
	blocks := len(data) / 64
	into = slices.Grow(into[:0], blocks)[:blocks]
	if blocks > 0 {
		mark(into, data, delimiter)
	}
	return into
}

// markWords is mark for any processor. It looks at eight bytes at a time (Warren,
// Hacker's Delight, section 6-1: finding a zero byte).
func markWords(into []uint64, data []byte, delimiter byte) {
	const ones, low = 0x0101010101010101, 0x7F7F7F7F7F7F7F7F
	pattern := uint64(delimiter) * ones
	for at := range into {
		block := (*[64]byte)(data[at*64:])
		into[at] = 0
		for i := 0; i < 64; i += 8 {
			w := binary.LittleEndian.Uint64(block[i:]) ^ pattern
			tops := ^((w&low + low) | w | low)                    // the top bit of each byte that is the delimiter
			into[at] |= tops >> 7 * 0x0102040810204080 >> 56 << i // gathered in the top byte
		}
	}
}

// split writes the tokens of the cells of a plain record, data[start:end], to every rows-th
// place from at on, long ones as Placed. It reports false where they are not as many as
// there is room for. Data has partSlack bytes more.
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

package table

import (
	"encoding/binary"
	"math/bits"

	"github.com/zeebo/xxh3"
)

// Token is 16 bytes that stand for a text: a text of up to InlineLength bytes itself,
// with its length in the last byte, or a hash of a longer one. Two short texts share a
// token exactly when they are equal; two long ones do with a probability of 2^-120.
type Token struct{ Lo, Hi uint64 }

const (
	// InlineLength is the length in bytes of the longest text that is its own token.
	InlineLength = 15
	// TokenSlack is how many bytes must be readable after the end of a text given to TokenAt.
	TokenSlack = 16
	longToken  = 0xFF << 56
	// placedToken in the last byte says that a Token tells a place.
	placedToken = 0xFE << 56
)

// TokenAt returns the token of data[start:end]; data holds at least TokenSlack bytes more.
func TokenAt(data []byte, start, end uint32) Token {
	if end-start <= InlineLength {
		return InlineToken((*[16]byte)(data[start:]), end-start)
	}
	return tokenOfHash(xxh3.Hash128(data[start:end]))
}

// InlineToken returns the token of a text of up to InlineLength bytes, whatever follows it.
func InlineToken(bytes *[16]byte, length uint32) Token {
	within := &inline[length%16]
	return Token{binary.LittleEndian.Uint64(bytes[:]) & within.Lo,
		binary.LittleEndian.Uint64(bytes[8:])&within.Hi | uint64(length)<<56}
}

// inline covers the bytes of texts of each length.
var inline = func() (within [16]Token) {
	for n := range within {
		within[n].Lo, within[n].Hi = 1<<(8*n)-1, 1<<max(8*n-64, 0)-1
	}
	return within
}()

// TokenOf returns the token of a text.
func TokenOf(text string) Token {
	if len(text) > InlineLength {
		return tokenOfHash(xxh3.HashString128(text))
	}
	var raw [InlineLength + TokenSlack]byte
	return TokenAt(raw[:], 0, uint32(copy(raw[:], text)))
}

func tokenOfHash(h Hash) Token { return Token{h.Lo, h.Hi | longToken} }

// Placed returns what stands for a long text until its token is asked for: where it is.
func Placed(start, end uint32) Token {
	return Token{uint64(end)<<32 | uint64(start), placedToken}
}

// Inline reports whether the token holds its text.
func (t Token) Inline() bool { return t.Hi>>56 <= InlineLength }

// Plain reports whether the token holds a text of nothing but printable ASCII
// characters other than spaces, as most cells are. It may report false for one.
func (t Token) Plain() bool {
	n := t.Hi >> 56
	if n > InlineLength || n == 0 {
		return false
	}
	if n <= 8 {
		return plainBytes(t.Lo | ^uint64(0)<<(8*n)&fill)
	}
	return plainBytes(t.Lo) && plainBytes(t.Hi&(1<<(8*n-64)-1)|^uint64(0)<<(8*n-64)&fill)
}

// Text returns the text of a token; long is that of one that does not hold it.
func (t Token) Text(long string) string {
	if !t.Inline() {
		return long
	}
	var raw [16]byte
	return string(t.Bytes(&raw))
}

// Len returns the length of a short text in bytes.
func (t Token) Len() int { return int(t.Hi >> 56) }

// Number reads a short text of digits with at most one minus before and one point among
// them. It reports false for everything else, numbers written in other ways included.
func (t Token) Number() (coefficient int64, scale int, ok bool) {
	n := t.Hi >> 56
	if n == 0 || n > InlineLength {
		return 0, 0, false
	}
	lo, hi := t.Lo, t.Hi&(1<<56-1)
	negative := byte(lo) == '-'
	if negative {
		lo, hi, n = lo>>8|hi<<56, hi>>8, n-1
	}
	if n <= 8 {
		// Up to eight bytes are looked at all at once (Warren, Hacker's Delight, section 6-1).
		if points := equalBytes(lo, '.'); points != 0 {
			at := uint64(bits.TrailingZeros64(points)) >> 3
			if at == 0 || at == n-1 {
				return 0, 0, false
			}
			before := uint64(1)<<(8*at) - 1
			lo = lo&before | lo>>8&^before
			n--
			scale = int(n - at)
		}
		// Zeros go before the digits, since the first byte is the highest digit.
		number, digits := eightDigits(lo<<(64-8*n) | zeros>>(8*n))
		if !digits || n == 0 {
			return 0, 0, false
		}
		coefficient = int64(number)
	} else {
		point := -1
		for at := range int(n) {
			if at == 8 {
				lo = hi
			}
			c := byte(lo) - '0'
			lo >>= 8
			if c > 9 {
				if c+'0' != '.' || point >= 0 || at == 0 || at == int(n)-1 {
					return 0, 0, false
				}
				point = at
				continue
			}
			coefficient = coefficient*10 + int64(c)
		}
		if point >= 0 {
			scale = int(n) - 1 - point
		}
	}
	if negative {
		coefficient = -coefficient
	}
	return coefficient, scale, true
}

// WithPoint returns the token of a short text in which every mark, an ASCII character, is a point; ok is false where it
// has points of its own.
func (t Token) WithPoint(mark byte) (_ Token, ok bool) {
	hi := t.Hi & (1<<56 - 1)
	if equalBytes(t.Lo, '.')|equalBytes(hi, '.') != 0 {
		return t, false
	}
	change := uint64(mark ^ '.')
	return Token{t.Lo ^ equalEach(t.Lo, mark)>>7*change, t.Hi ^ equalEach(hi, mark)>>7*change}, true
}

// equalEach returns the top bits of exactly the bytes of w that equal b.
func equalEach(w uint64, b byte) uint64 {
	const ones, low = 0x0101010101010101, 0x7F7F7F7F7F7F7F7F
	w ^= uint64(b) * ones
	return ^((w&low + low) | w | low)
}

// zeros are eight digits 0.
const zeros = 0x3030303030303030

// equalBytes returns the top bits of the bytes of w that equal b, of which the lowest is exact.
func equalBytes(w uint64, b byte) uint64 {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	w ^= uint64(b) * ones
	return (w - ones) &^ w & tops
}

// eightDigits reads eight digits, the first in the lowest byte: pairs of them are joined,
// then pairs of pairs, then both halves. digits is false where one byte is something else.
func eightDigits(w uint64) (number uint64, digits bool) {
	const hundreds = 0x000000FF000000FF
	digits = allDigits(w)
	w -= zeros
	w = w*10 + w>>8
	number = ((w&hundreds)*(100+1000000<<32) + (w>>16&hundreds)*(1+10000<<32)) >> 32
	return number, digits
}

// TokenOfNumber returns the token of a number in so many units of its last place, as DecimalOf(units, scale).Append writes it; it reports
// false where that is no short text.
func TokenOfNumber(units int64, scale int) (t Token, ok bool) {
	const most = 99_999_999_999_999 // 14 digits, beside a point
	if units > most || units < -most || scale < 0 || scale >= InlineLength-1 {
		return t, false
	}
	rest, length := units, uint64(0)
	if rest < 0 {
		rest = -rest
	}
	put := func(c byte) { // before what there is
		t.Hi = t.Hi<<8 | t.Lo>>56
		t.Lo = t.Lo<<8 | uint64(c)
		length++
	}
	for place := 0; rest > 0 || place <= scale; place++ {
		if place == scale && place > 0 {
			put('.')
		}
		next := rest / 10
		put(byte('0' + rest - next*10))
		rest = next
	}
	if units < 0 {
		put('-')
	}
	t.Hi |= length << 56
	return t, length <= InlineLength
}

// Shortest returns the token of the shortest text of a number that Number reads, with so many
// digits after the point, as Decimal.Shortest writes it: without leading zeros, or trailing
// ones after the point.
func (t Token) Shortest(scale int) Token {
	n := t.Len()
	first := 0
	if t.at(0) == '-' {
		first = 1
	}
	// leading zeros, or perhaps nothing but zeros
	if t.at(first) == '0' && (first == 1 || n > 1 && t.at(first+1) != '.') {
		coefficient, scale, _ := t.Number()
		return TokenOf(DecimalOf(coefficient, scale).Shortest())
	}
	if scale == 0 || t.at(n-1) != '0' {
		return t
	}
	for ; scale > 0 && t.at(n-1) == '0'; scale-- {
		n--
	}
	if scale == 0 {
		n-- // the point
	}
	within := &inline[n]
	return Token{t.Lo & within.Lo, t.Hi&within.Hi | uint64(n)<<56}
}

// ShortestNumber reports whether a short text is a number that Number reads, and its shortest text as Shortest has it, with a point or
// without. Eight bytes are looked at at once, and the number itself is not worked out.
func (t Token) ShortestNumber() (ok, point bool) {
	n := t.Hi >> 56
	if n == 0 || n > InlineLength {
		return false, false
	}
	lo, hi := t.Lo, t.Hi&(1<<56-1)
	negative := byte(lo) == '-'
	if negative {
		lo, hi, n = lo>>8|hi<<56, hi>>8, n-1
	}
	pointsLow, pointsHigh := equalEach(lo, '.'), equalEach(hi, '.')
	points := bits.OnesCount64(pointsLow) + bits.OnesCount64(pointsHigh)
	// Zeros stand for the point, and for what is beyond the end.
	const change = '.' ^ '0'
	low, high := lo^pointsLow>>7*change, hi^pointsHigh>>7*change
	if n < 8 {
		low |= zeros << (8 * n)
		high = zeros
	} else {
		high |= zeros << (8 * (n - 8))
	}
	if points > 1 || n == 0 || !allDigits(low) || !allDigits(high) {
		return false, false
	}
	first, second := byte(lo), byte(lo>>8)
	if points == 0 {
		return first != '0' || n == 1 && !negative, false
	}
	last := byte(lo >> (8 * (n - 1) & 63))
	if n > 8 {
		last = byte(hi >> (8 * (n - 9)))
	}
	return first != '.' && last != '.' && last != '0' && (first != '0' || second == '.'), true
}

// allDigits reports whether eight bytes are digits.
func allDigits(w uint64) bool {
	const sixes, tops = 0x0606060606060606, 0xF0F0F0F0F0F0F0F0
	return w&tops == zeros && (w+sixes)&tops == zeros
}

// ZeroPadded is ZeroPadded of a short text.
func (t Token) ZeroPadded() bool {
	lo := t.Lo
	if byte(lo) == '-' || byte(lo) == '+' {
		lo >>= 8
	}
	second := byte(lo >> 8)
	return byte(lo) == '0' && second >= '0' && second <= '9'
}

// BeginsTyped reports whether a short text can be a number or a date, by how it starts.
func (t Token) BeginsTyped() bool { return BeginsTyped(byte(t.Lo)) }

// at returns byte i of a short text.
func (t Token) at(i int) byte {
	if i < 8 {
		return byte(t.Lo >> (8 * i))
	}
	return byte(t.Hi >> (8 * (i - 8)))
}

// Before reports whether a short text comes before another one by its bytes.
func (t Token) Before(o Token) bool {
	if a, b := bits.ReverseBytes64(t.Lo), bits.ReverseBytes64(o.Lo); a != b {
		return a < b
	}
	// The length is the last byte, and decides where one text starts the other.
	return bits.ReverseBytes64(t.Hi) < bits.ReverseBytes64(o.Hi)
}

// fill stands for the bytes that a text does not have, which count as plain.
const fill = 0x4141414141414141

// plainBytes reports whether all eight bytes are from '!' to '~'. The least byte out
// of range is told exactly, which is enough (Warren, Hacker's Delight, section 6-1).
func plainBytes(w uint64) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	return (w|(w-0x21*ones)&^w|(w+0x01*ones))&tops == 0
}

// DigitsAlike returns the token of a short text with every digit made a 9.
func (t Token) DigitsAlike() Token {
	length := t.Hi &^ (1<<56 - 1)
	hi := t.Hi ^ length
	const nines = 0x3939393939393939
	lo, high := within(t.Lo, '0', '9'+1), within(hi, '0', '9'+1)
	return Token{t.Lo&^lo | lo&nines, hi&^high | high&nines | length}
}

// within returns all bits of the bytes of w from first up to but not including last, which are below 0x80.
func within(w uint64, first, last byte) uint64 {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	ascii := w &^ tops
	return (ascii + uint64(0x80-first)*ones) &^ (ascii + uint64(0x80-last)*ones) &^ w & tops >> 7 * 0xFF
}

// mixed returns bits of which the upper ones are mixed, for hash tables. The shift matters
// for texts that differ in a few digits only, which a product alone crowds together.
func (t Token) mixed() uint64 {
	x := t.Lo ^ t.Hi*0xD1B54A32D192ED03
	return (x ^ x>>29) * 0x9E3779B97F4A7C15
}

// Spread returns a number below 2^bits by which tokens are spread evenly.
func (t Token) Spread(bits uint8) int { return int(t.mixed() >> ((64 - bits) & 63)) }

// With returns the hash of a list of texts hashed to h, and one text more. The zero Hash
// is that of no texts. Each step can be undone, so no two short texts collide in it.
func With(h Hash, t Token) Hash {
	lo := (h.Lo ^ t.Lo ^ 0x9E3779B97F4A7C15) * 0xBF58476D1CE4E5B9
	lo ^= lo >> 32
	hi := (h.Hi ^ t.Hi ^ lo) * 0x94D049BB133111EB
	hi ^= hi >> 29
	return Hash{Lo: lo + bits.RotateLeft64(hi, 23), Hi: hi * 0xD6E8FEB86659FD93}
}

// HashTexts hashes a list of texts.
func HashTexts(texts ...string) Hash {
	var h Hash
	for _, text := range texts {
		h = With(h, TokenOf(text))
	}
	return h
}

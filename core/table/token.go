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
)

// TokenAt returns the token of data[start:end]; data holds at least TokenSlack bytes more.
func TokenAt(data []byte, start, end uint32) Token {
	n := uint64(end - start)
	switch {
	case n <= 8:
		return Token{binary.LittleEndian.Uint64(data[start:]) & (1<<(8*n) - 1), n << 56}
	case n <= InlineLength:
		return Token{binary.LittleEndian.Uint64(data[start:]), binary.LittleEndian.Uint64(data[start+8:])&(1<<(8*n-64)-1) | n<<56}
	}
	return tokenOfHash(xxh3.Hash128(data[start:end]))
}

// TokenOf returns the token of a text.
func TokenOf(text string) Token {
	if len(text) > InlineLength {
		return tokenOfHash(xxh3.HashString128(text))
	}
	var raw [InlineLength + TokenSlack]byte
	return TokenAt(raw[:], 0, uint32(copy(raw[:], text)))
}

func tokenOfHash(h Hash) Token { return Token{h.Lo, h.Hi | longToken} }

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

// fill stands for the bytes that a text does not have, which count as plain.
const fill = 0x4141414141414141

// plainBytes reports whether all eight bytes are from '!' to '~'. The least byte out
// of range is told exactly, which is enough (Warren, Hacker's Delight, section 6-1).
func plainBytes(w uint64) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	return (w|(w-0x21*ones)&^w|(w+0x01*ones))&tops == 0
}

// Mixed returns 64 well-mixed bits of the token, for hash tables and samples.
func (t Token) Mixed() uint64 {
	hi, lo := bits.Mul64(t.Lo^0x9E3779B97F4A7C15, t.Hi^0xD1B54A32D192ED03)
	mixed := hi ^ lo
	mixed = (mixed ^ mixed>>32 ^ t.Lo) * 0xBF58476D1CE4E5B9
	return mixed ^ mixed>>29
}

// AppendToken appends a token to what HashOf is to hash.
func AppendToken(buffer []byte, t Token) []byte {
	return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(buffer, t.Lo), t.Hi)
}

package profile

import (
	"math/bits"
	"slices"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/table"
)

// shapeLimit is the length in bytes at which a shape is cut.
const shapeLimit = 40

// cut stands at the end of a shape that is longer than shapeLimit.
const cut = "…"

// classes are the letters that stand for ASCII characters in a shape.
var classes = func() (c [utf8.RuneSelf]byte) {
	for i := range c {
		switch b := byte(i); {
		case b >= '0' && b <= '9':
			c[i] = '9'
		case b >= 'A' && b <= 'Z':
			c[i] = 'A'
		case b >= 'a' && b <= 'z':
			c[i] = 'a'
		default:
			c[i] = b
		}
	}
	return c
}()

// shapeCounts counts the shapes of the texts of a stretch, up to shapesKept of them, in the order in which they are met.
type shapeCounts struct {
	at     map[string]int // in rows
	texts  []string
	rows   []int64
	full   bool   // a shape found no room
	latest int    // in rows, of the shape met last; -1 where it found no room
	shape  []byte // met last; empty where there is none
	made   []byte // of the text that is looked at
	alike  []alikeShape
}

// alikeShape is where the shape of a text stands, with its digits alike.
type alikeShape struct {
	text table.Token
	at   int // in rows; -1 where it found no room
}

// alikeBits is how many of them are remembered, as a power of two.
const alikeBits = 7

// countAlike counts the shape of a plain text that stands in one row; alike is the text with its digits alike.
func (c *shapeCounts) countAlike(t, alike table.Token) {
	if c.alike == nil {
		c.alike = make([]alikeShape, 1<<alikeBits)
	}
	known := &c.alike[alike.Spread(alikeBits)]
	if known.text != alike {
		var text [16]byte
		c.made = appendShape(c.made[:0], string(t.Bytes(&text)))
		c.made, c.shape = c.shape, c.made
		c.latest = c.find(c.shape)
		*known = alikeShape{alike, c.latest}
	}
	if known.at >= 0 {
		c.rows[known.at]++
	}
}

// countShape counts the shape of a text that stands in so many rows.
func (c *shapeCounts) countShape(text string, rows int64) {
	c.made = appendShape(c.made[:0], text)
	c.count(rows)
}

// survey counts the shape of a text that stands in one row, and tells, by the same look at its bytes, how many characters
// it has and whether spaces stray in it, as spacesOf says. It looks at eight bytes at once (Warren, Hacker's Delight,
// section 6-1), since branches on what each of them is could not be foreseen.
func (c *shapeCounts) survey(text string) (length int, stray bool) {
	c.made = slices.Grow(c.made[:0], shapeLimit+len(cut)+1)
	made := c.made[:shapeLimit+1]
	var odd, last uint64         // last is the class of the byte before
	before, n := uint64(0x80), 0 // whether that is a space
	for rest := text; len(rest) > 0; {
		w, inside, count := eightBytes(rest)
		if w&tops != 0 {
			return c.surveyWide(text)
		}
		rest = rest[count:]
		digits, capitals, letters := between(w, '0', '9'), between(w, 'A', 'Z'), between(w, 'a', 'z')
		alike := digits | capitals | letters
		class := w&^alike | digits&('9'*ones) | capitals&('A'*ones) | letters&('a'*ones)
		spaces := zeroBytes(w ^ ' '*ones)
		odd |= inside & (spaces&(spaces<<8|before) | ^(w + (0x80-' ')*ones) | zeroBytes(w^0x7F*ones))
		for keep := inside &^ (zeroBytes(class^(class<<8|last)) & alike); keep != 0 && n < len(made); keep &= keep - 1 {
			made[n] = byte(class >> (bits.TrailingZeros64(keep) - 7))
			n++
		}
		end := 8 * (count - 1)
		last, before = class>>end&0xFF, spaces>>end&0x80
	}
	if c.made = made[:min(n, shapeLimit)]; n > shapeLimit {
		c.made = append(c.made, cut...)
	}
	c.count(1)
	return len(text), odd|before != 0
}

// surveyWide is survey for a text with characters beyond ASCII.
func (c *shapeCounts) surveyWide(text string) (length int, stray bool) {
	shape, last, before, full := c.made[:0], rune(0), ' ', false
	for i := 0; i < len(text); length++ {
		class, size := rune(0), 1
		if b := text[i]; b < utf8.RuneSelf {
			stray = stray || b < ' ' || b == 0x7F || b == ' ' && before == ' '
			class, before = rune(classes[b]), rune(b)
		} else {
			before, size = utf8.DecodeRuneInString(text[i:])
			stray = stray || table.IsSpace(before)
			class = classOf(before)
		}
		i += size
		if full || class == last && (class == '9' || class == 'A' || class == 'a') {
			continue
		}
		if full = len(shape) >= shapeLimit; full {
			shape = append(shape, cut...)
			continue
		}
		last = class
		shape = utf8.AppendRune(shape, class)
	}
	c.made = shape
	c.count(1)
	return length, stray || before == ' '
}

const (
	ones uint64 = 0x0101010101010101
	tops uint64 = 0x8080808080808080
	low  uint64 = 0x7F7F7F7F7F7F7F7F
)

// eightBytes returns the first bytes of a text that is not empty, the first one lowest, how many there are up to eight, and
// the top bits of those.
func eightBytes(text string) (w, inside uint64, count int) {
	if len(text) >= 8 {
		return uint64(text[0]) | uint64(text[1])<<8 | uint64(text[2])<<16 | uint64(text[3])<<24 | uint64(text[4])<<32 |
			uint64(text[5])<<40 | uint64(text[6])<<48 | uint64(text[7])<<56, tops, 8
	}
	for i := range len(text) {
		w |= uint64(text[i]) << (8 * i)
	}
	return w, tops >> (64 - 8*len(text)), len(text)
}

// zeroBytes returns the top bits of the bytes of w that are 0.
func zeroBytes(w uint64) uint64 { return ^((w&low + low) | w | low) }

// between returns all bits of the bytes of w, which are below 0x80, from first to last.
func between(w uint64, first, last uint64) uint64 {
	return (w + (0x80-first)*ones) &^ (w + (0x7F-last)*ones) & tops >> 7 * 0xFF
}

// count counts the shape just made.
func (c *shapeCounts) count(rows int64) {
	if string(c.made) != string(c.shape) || len(c.shape) == 0 {
		c.made, c.shape = c.shape, c.made
		c.latest = c.find(c.shape)
	}
	c.again(rows)
}

// again counts the shape met last.
func (c *shapeCounts) again(rows int64) {
	if c.latest >= 0 {
		c.rows[c.latest] += rows
	}
}

func (c *shapeCounts) find(shape []byte) int {
	if at, known := c.at[string(shape)]; known {
		return at
	}
	if len(c.rows) == shapesKept {
		c.full = true
		return -1
	}
	if c.at == nil {
		c.at = map[string]int{}
	}
	text := string(shape)
	c.at[text] = len(c.rows)
	c.texts, c.rows = append(c.texts, text), append(c.rows, 0)
	return len(c.rows) - 1
}

// into adds the counts to others, and reports whether a shape found no room.
func (c *shapeCounts) into(shapes *map[string]int64) bool {
	if len(c.rows) > 0 && *shapes == nil {
		*shapes = map[string]int64{}
	}
	full := c.full
	for i, text := range c.texts {
		full = countIn(*shapes, text, c.rows[i], shapesKept) || full
	}
	c.reset()
	return full
}

// reset empties the counts and keeps their memory.
func (c *shapeCounts) reset() {
	clear(c.at)
	clear(c.texts)
	clear(c.alike)
	c.texts, c.rows, c.full, c.latest, c.shape = c.texts[:0], c.rows[:0], false, 0, c.shape[:0]
}

// appendShape writes the shape of a text: runs of digits, capital letters and other
// letters become 9, A and a; everything else stands for itself.
func appendShape(shape []byte, text string) []byte {
	last := rune(0)
	for i := 0; i < len(text); {
		c, size := rune(0), 1
		if b := text[i]; b < utf8.RuneSelf {
			c = rune(classes[b])
		} else {
			c, size = utf8.DecodeRuneInString(text[i:])
			c = classOf(c)
		}
		i += size
		if c == last && (c == '9' || c == 'A' || c == 'a') {
			continue
		}
		if len(shape) >= shapeLimit {
			return append(shape, cut...)
		}
		if last = c; c < utf8.RuneSelf {
			shape = append(shape, byte(c))
		} else {
			shape = utf8.AppendRune(shape, c)
		}
	}
	return shape
}

// classOf is the letter that stands for a character beyond ASCII in a shape.
func classOf(r rune) rune {
	switch {
	case unicode.IsUpper(r):
		return 'A'
	case unicode.IsLetter(r):
		return 'a'
	case unicode.IsDigit(r):
		return '9'
	case table.IsSpace(r):
		return '·'
	}
	return r
}

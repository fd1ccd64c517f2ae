package profile

import (
	"encoding/binary"
	"math/bits"
	"unicode"
	"unicode/utf8"

	"github.com/zeebo/xxh3"

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
	slots  []uint16 // by hash, indexes in texts + 1, 0 where free; nil until there is a shape
	hashes []uint64
	texts  []string
	rows   []int64
	full   bool   // a shape found no room
	made   []byte // of the text that is looked at
	alike  []alikeText
}

// shapeSlots is how many slots there are: so many that few shapes meet in one.
const shapeSlots = 4 * shapesKept

// alikeText is what is known of the texts that differ in nothing but their digits.
type alikeText struct {
	text table.Token // with its digits alike
	look
}

// look is what one look at a text tells.
type look struct {
	at     int32 // of its shape in rows; -1 where it found no room
	length int32 // in characters
	stray  bool  // it has stray spaces, as spacesOf says
}

// alikeBits is how many of them are remembered, as a power of two.
const alikeBits = 7

// surveyShort is survey of a text that its token holds; what it tells of a text is remembered for all that differ from it in
// nothing but their digits.
func (c *shapeCounts) surveyShort(t table.Token) look {
	if c.alike == nil {
		c.alike = make([]alikeText, 1<<alikeBits)
	}
	alike := t.DigitsAlike()
	known := &c.alike[alike.Spread(alikeBits)]
	if known.text != alike {
		var raw [16]byte
		*known = alikeText{alike, c.lookAt(string(t.Bytes(&raw)))}
	}
	c.again(known.at, 1)
	return known.look
}

// countShape counts the shape of a text that stands in so many rows.
func (c *shapeCounts) countShape(text string, rows int64) {
	c.made = appendShape(c.made[:0], text)
	c.again(c.find(), rows)
}

// survey counts the shape of a text that stands in so many rows, and tells, by the same look at its bytes, how many characters
// it has and whether spaces stray in it.
func (c *shapeCounts) survey(text string, rows int64) look {
	told := c.lookAt(text)
	c.again(told.at, rows)
	return told
}

// again counts a shape in some rows more.
func (c *shapeCounts) again(at int32, rows int64) {
	if at >= 0 {
		c.rows[at] += rows
	}
}

// lookAt looks at a text, and finds its shape.
func (c *shapeCounts) lookAt(text string) look {
	var one looked
	if lookASCII(text, &one); one.wide {
		return c.lookAtWide(text)
	}
	c.made = append(c.made[:0], one.shape[:min(one.count, shapeLimit)]...)
	if one.count > shapeLimit {
		c.made = append(c.made, cut...)
	}
	return look{c.find(), int32(len(text)), one.odd != 0}
}

// looked is what a look at a text of ASCII characters tells.
type looked struct {
	shape [shapeLimit + 40]byte // count bytes, or the first ones where these are more than shapeLimit
	count int
	odd   uint32 // 0 where no space strays in it
	wide  bool   // it has other characters, and nothing else is told
}

// lookWords looks at eight bytes at once (Warren, Hacker's Delight, section 6-1), since branches on what each of them is could
// not be foreseen.
func lookWords(text string, into *looked) {
	var (
		n          int
		odd, class uint64            // class is that of the bytes before, the last one highest
		spaces     = uint64(1) << 63 // whether they are spaces
	)
	for at := 0; at < len(text); at += 8 {
		w, inside := eightBytes(text, at)
		if w&tops != 0 {
			into.wide = true
			return
		}
		digits := (w + (0x80-'0')*ones) &^ (w + (0x7F-'9')*ones) & tops
		lower := w | ' '*ones // which makes capitals small, and nothing else a letter
		letters := (lower + (0x80-'a')*ones) &^ (lower + (0x7F-'z')*ones) & tops
		ofDigits, ofLetters := sevenBits(digits), sevenBits(letters)
		before, beforeSpaces := class>>56, spaces>>56
		class = w&^(ofDigits|ofLetters) | ofDigits&('9'*ones) | ofLetters&('A'*ones|w&(' '*ones))
		spaces = ^((w ^ ' '*ones) + low) & tops
		odd |= inside & (spaces&(spaces<<8|beforeSpaces) | ^(w + (0x80-' ')*ones) | (w + ones))
		repeated := ^((class ^ (class<<8 | before)) + low) & (digits | letters)
		if keep := inside &^ repeated; n <= shapeLimit {
			together, count := pack(class, keep)
			binary.LittleEndian.PutUint64(into.shape[n:], together)
			n += count
		}
		// What is beyond the end of the text is no space, and the last byte within is what the end is judged by.
		if inside != tops {
			spaces <<= 8 * (8 - (len(text) - at))
		}
	}
	into.count = n
	if odd|spaces&(1<<63) != 0 {
		into.odd = 1
	}
}

// lookAtWide is lookAt for a text with characters beyond ASCII.
func (c *shapeCounts) lookAtWide(text string) look {
	shape, last, before, full := c.made[:0], rune(0), ' ', false
	length, stray := int32(0), false
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
	return look{c.find(), length, stray || before == ' '}
}

const (
	ones uint64 = 0x0101010101010101
	tops uint64 = 0x8080808080808080
	low  uint64 = 0x7F7F7F7F7F7F7F7F
)

// eightBytes returns eight bytes of a text from a place within it on, the first one lowest, and the top bits of those that
// stand in the text; the others are zero.
func eightBytes(text string, at int) (w, inside uint64) {
	if left := len(text) - at; left < 8 {
		if len(text) >= 8 {
			last := len(text) - 8
			return table.WordAt(text, last) >> (8 * (8 - left)), tops >> (8 * (8 - left))
		}
		for i := range left {
			w |= uint64(text[at+i]) << (8 * i)
		}
		return w, tops >> (8 * (8 - left))
	}
	return table.WordAt(text, at), tops
}

// sevenBits returns the lower bits of the bytes whose top bits are given, which are all that ASCII has.
func sevenBits(tops uint64) uint64 { return tops - tops>>7 }

// pack moves the bytes of w whose top bits are given to its lower end, in their order, and says how many they are: first
// within both halves, by one step of one byte and one of two for each (Warren, Hacker's Delight, section 7-4).
func pack(w, keep uint64) (packed uint64, count int) {
	which := keep >> 7 * 0x0102040810204080 >> 56 // a bit for each of them, gathered in the top byte
	steps := &packing[which]
	w &= sevenBits(keep)
	moved := w & steps.one
	w = w ^ moved | moved>>8
	moved = w & steps.two
	w = w ^ moved | moved>>16
	lower := bits.OnesCount8(uint8(which & 15))
	return w&(1<<32-1) | w>>32<<(8*lower), bits.OnesCount8(uint8(which))
}

// packing says for each choice of eight bytes which of them move by one place, and then which by two, each within its half.
var packing = func() (all [256]struct{ one, two uint64 }) {
	for which := range all {
		for half := 0; half < 8; half += 4 {
			free := 0
			for i := half; i < half+4; i++ {
				if which>>i&1 == 0 {
					free++
					continue
				}
				at := i
				if free&1 != 0 {
					all[which].one |= 0xFF << (8 * at)
					at--
				}
				if free&2 != 0 {
					all[which].two |= 0xFF << (8 * at)
				}
			}
		}
	}
	return all
}()

// find returns where the shape just made stands in rows, -1 where it finds no room.
func (c *shapeCounts) find() int32 {
	if c.slots == nil {
		c.slots = make([]uint16, shapeSlots)
	}
	h := xxh3.Hash(c.made)
	slot := h % shapeSlots
	for ; c.slots[slot] != 0; slot = (slot + 1) % shapeSlots {
		if at := c.slots[slot] - 1; c.hashes[at] == h && c.texts[at] == string(c.made) {
			return int32(at)
		}
	}
	if len(c.rows) == shapesKept {
		c.full = true
		return -1
	}
	c.hashes, c.texts, c.rows = append(c.hashes, h), append(c.texts, string(c.made)), append(c.rows, 0)
	c.slots[slot] = uint16(len(c.rows))
	return int32(len(c.rows) - 1)
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
	if len(c.rows) > 0 {
		clear(c.slots)
		clear(c.texts)
		clear(c.alike)
	}
	c.hashes, c.texts, c.rows, c.full = c.hashes[:0], c.texts[:0], c.rows[:0], false
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

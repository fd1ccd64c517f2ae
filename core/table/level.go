package table

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// IsSpace reports whether a person would take r for a space, or not see it at all.
func IsSpace(r rune) bool {
	switch {
	case r < 0x80:
		return r == ' ' || r >= '\t' && r <= '\r'
	case r < 0x1680: // where nearly all letters are
		return r == 0x85 || r == 0xA0 || r == 0xAD
	case r >= '\u200b' && r <= '\u200d' || r == '\u2060' || r == '\ufeff': // no spaces to unicode.IsSpace, but look like nothing
		return true
	}
	return unicode.IsSpace(r)
}

// Trim takes spaces, also invisible ones, off both ends of text and makes every
// inner run of them one plain space.
func Trim(text string) string {
	if Trimmed(text) {
		return text
	}
	return strings.Join(strings.FieldsFunc(text, IsSpace), " ")
}

// Trimmed reports whether text has no stray space: single plain ones inside it, as almost all cells have.
func Trimmed(text string) bool {
	last := byte(' ')
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(text[i:])
			if IsSpace(r) {
				return false
			}
			i += size - 1
		} else if c < ' ' || c == '\x7f' || (c == ' ' && last == ' ') {
			return false
		}
		last = c
	}
	return text == "" || last != ' '
}

// Level makes spellings that differ in spaces or case alone the same text.
func Level(text string) string { return strings.ToLower(Trim(text)) }

// Fold is Level without accents and without anything but letters and digits: Nitrate-N,
// nitrate n and NITRÁTE N are one text.
func Fold(text string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(Level(text)) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(r)
		}
	}
	return b.String()
}

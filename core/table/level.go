package table

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// invisible characters that are no spaces to unicode.IsSpace but look like nothing.
const invisible = "\u200b\u200c\u200d\u2060\ufeff\u00ad"

// IsSpace reports whether a person would take r for a space, or not see it at all.
func IsSpace(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(invisible, r) }

// Trim takes spaces, also invisible ones, off both ends of text and makes every
// inner run of them one plain space.
func Trim(text string) string {
	if trimmed(text) {
		return text
	}
	return strings.Join(strings.FieldsFunc(text, IsSpace), " ")
}

// trimmed reports whether text is visibly in order: printable ASCII with single
// inner spaces, as almost all cells are.
func trimmed(text string) bool {
	last := byte(' ')
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c < ' ' || c > '~' || (c == ' ' && last == ' ') {
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

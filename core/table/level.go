package table

import (
	"strings"
	"unicode"
)

// invisible characters that are no spaces to unicode.IsSpace but look like nothing.
const invisible = "\u200b\u200c\u200d\u2060\ufeff\u00ad"

// IsSpace reports whether a person would take r for a space, or not see it at all.
func IsSpace(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune(invisible, r) }

// Trim takes spaces, also invisible ones, off both ends of text and makes every
// inner run of them one plain space.
func Trim(text string) string { return strings.Join(strings.FieldsFunc(text, IsSpace), " ") }

// Level makes spellings that differ in spaces or case alone the same text.
func Level(text string) string { return strings.ToLower(Trim(text)) }

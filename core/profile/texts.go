package profile

import (
	"strings"
	"unicode"

	"proudsieve/core/table"
)

// spacesOf says which stray spaces a text has, counted for so many rows.
func spacesOf(text string, rows int64) Spaces {
	var s Spaces
	if table.Trim(text) == text {
		return s
	}
	s.Any = rows
	runes := []rune(text)
	if table.IsSpace(runes[0]) {
		s.Leading = rows
	}
	if table.IsSpace(runes[len(runes)-1]) {
		s.Trailing = rows
	}
	inner := strings.TrimFunc(text, table.IsSpace)
	last := rune(0)
	for _, r := range inner {
		if table.IsSpace(r) && table.IsSpace(last) {
			s.Doubled = rows
		}
		last = r
	}
	for _, r := range text {
		if r != ' ' && table.IsSpace(r) {
			s.Invisible = rows
		}
	}
	return s
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

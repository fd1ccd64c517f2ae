package profile

import (
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// spacesOf says which stray spaces a text has, counted for so many rows.
func spacesOf(text string, rows int64) Spaces {
	var s Spaces
	if table.Trim(text) == text {
		return s
	}
	s.Any = rows
	if first, _ := utf8.DecodeRuneInString(text); table.IsSpace(first) {
		s.Leading = rows
	}
	if last, _ := utf8.DecodeLastRuneInString(text); table.IsSpace(last) {
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

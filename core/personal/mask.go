// Package personal hides personal data from those who need not see them.
package personal

import (
	"strings"
	"unicode"
)

// Mask leaves of a text its first character and its form: how many letters and digits there are, and what lies between.
func Mask(text string) string {
	first := true
	return strings.Map(func(r rune) rune {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return r
		}
		if first {
			first = false
			return r
		}
		return '•'
	}, text)
}

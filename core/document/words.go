package document

import (
	"fmt"
	"strings"
)

// Join writes names as a sentence does: a, b and c.
func Join(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// First writes the first names of a list, and how many more there are.
func First(names []string) string {
	const most = 8
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + Grouped(int64(len(names)-most)) + " more"
	}
	return Join(names)
}

// Plural returns the word for one thing or for several.
func Plural(n int64, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Grouped writes n with a comma between thousands.
func Grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

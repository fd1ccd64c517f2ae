package document

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"
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

// Counted writes a number of things, as "1 row" and "3,000 rows".
func Counted(n int64, one, many string) string { return Grouped(n) + " " + Plural(n, one, many) }

// Flat writes a sentence so that it stands in the middle of a line: without its full stop and line ends.
func Flat(sentence string) string {
	return strings.TrimSuffix(strings.Join(strings.Fields(sentence), " "), ".")
}

// Capital writes a sentence's beginning with a capital letter.
func Capital(text string) string {
	for _, r := range text {
		return string(unicode.ToUpper(r)) + text[len(string(r)):]
	}
	return text
}

// Grouped writes n with a comma between thousands.
func Grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Figure writes a number for people: as it is where it has ten digits or fewer, and else with
// six of them at least, its whole part never cut.
func Figure(x float64) string {
	shortest := strconv.FormatFloat(x, 'f', -1, 64)
	whole, rest, _ := strings.Cut(strings.TrimPrefix(shortest, "-"), ".")
	digits := len(strings.TrimLeft(whole+rest, "0"))
	switch size := math.Abs(x); {
	case digits > 10 && size < 1e-4, size >= 1e18:
		return strconv.FormatFloat(x, 'g', 6, 64)
	case digits > 10 && size < 1:
		shortest = strconv.FormatFloat(x, 'f', 6, 64)
	case digits > 10:
		shortest = strconv.FormatFloat(x, 'f', max(0, 6-len(whole)), 64)
	}
	before, after, fraction := strings.Cut(shortest, ".")
	n, err := strconv.ParseInt(before, 10, 64)
	if err != nil {
		return shortest
	}
	grouped := Grouped(n)
	if n == 0 && x < 0 {
		grouped = "-0"
	}
	if !fraction {
		return grouped
	}
	return grouped + "." + after
}

// Score writes a share of 0 to 100 with two digits, and 100 or 0 only where it is exactly that.
func Score(v float64) string {
	if v == 0 || v == 100 {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	return strconv.FormatFloat(min(max(v, 0.01), 99.99), 'f', 2, 64)
}

package leads

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// slipRarer is how many times rarer than what it is meant to be a slip of typing is.
	slipRarer = 20
	// slipLength is the length from which on texts that differ in one letter may be one.
	slipLength = 5
	// slipsTwo is the length from which on they may differ in two.
	slipsTwo = 16
)

func init() {
	Register(Kind{
		Name: "spellings", Like: "%d columns hold several spellings of one thing: %s.",
		Finds:     "one thing written in several ways: by case, accents, punctuation, or a slip of typing",
		Threshold: "a column of texts that come again, at most 500 of them; slips: 5 letters, no digit among what differs, 20 times rarer",
		OfColumn: func(t *Table, c *Column) []Lead {
			texts, known := c.All()
			if !known || c.Asked.Codes || c.Numbers != nil || c.Dates != nil || c.Distinct*2 > c.Filled {
				return nil
			}
			groups := spellingsOf(texts)
			if len(groups) == 0 {
				return nil
			}
			var others []profile.Frequency
			says := make([]string, len(groups))
			for i, g := range groups {
				others = append(others, g[1:]...)
				says[i] = fmt.Sprintf("%s for %q", quoted(g[1:]), g[0].Text)
			}
			rows := total(others)
			return []Lead{{Rows: rows, Texts: byRows(others), Sure: 0.85, Says: fmt.Sprintf("%s of %s %s another spelling of what stands in others: %s.",
				document.Counted(rows, "cell", "cells"), c.Name, document.Plural(rows, "holds", "hold"), firstOf(says, 3))}}
		},
	})
}

// firstOf joins the first of some phrases.
func firstOf(says []string, most int) string {
	if more := len(says) - most; more > 0 {
		return strings.Join(says[:most], "; ") + fmt.Sprintf("; and %d more", more)
	}
	return strings.Join(says, "; ")
}

// spellingsOf returns the groups of texts that are probably one, the most frequent of each first; those that differ in
// spaces alone are told as spaces.
func spellingsOf(texts []profile.Frequency) [][]profile.Frequency {
	groups := Spellings(texts)
	for i, g := range groups {
		groups[i] = append(g[:1:1], slices.DeleteFunc(slices.Clone(g[1:]), func(t profile.Frequency) bool {
			return table.Trim(t.Text) == table.Trim(g[0].Text)
		})...)
	}
	return slices.DeleteFunc(groups, func(g []profile.Frequency) bool { return len(g) == 1 })
}

// Spellings puts texts together that are probably one, which come with the most frequent first.
func Spellings(texts []profile.Frequency) [][]profile.Frequency {
	byFold := map[string]int{}
	var groups [][]profile.Frequency
	for _, t := range texts { // the most frequent first
		fold := table.Fold(t.Text)
		if fold == "" {
			fold = t.Text
		}
		if at, ok := byFold[fold]; ok {
			groups[at] = append(groups[at], t)
			continue
		}
		if at := slices.IndexFunc(groups, func(g []profile.Frequency) bool {
			return g[0].Rows >= slipRarer*t.Rows && isSlip(table.Level(t.Text), table.Level(g[0].Text))
		}); at >= 0 {
			groups[at] = append(groups[at], t)
			continue
		}
		byFold[fold] = len(groups)
		groups = append(groups, []profile.Frequency{t})
	}
	return groups
}

// isSlip reports whether a text is a slip of typing away from another one, digits left aside: those make another code.
func isSlip(text, other string) bool {
	n := utf8.RuneCountInString(text)
	if digits(text) != "" && !strings.ContainsRune(text, ' ') {
		return false // a code
	}
	if n < slipLength || utf8.RuneCountInString(other) < slipLength || digits(text) != digits(other) {
		return false
	}
	most := 1
	if n >= slipsTwo {
		most = 2
	}
	return rulebook.Distance(text, other, most) <= most
}

func digits(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return r
		}
		return -1
	}, text)
}

package leads

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// placeholders are words that stand for a missing value, levelled.
var placeholders = []string{"n/a", "na", "n.a.", "n/v", "nan", "null", "(null)", "nil", "none", "#n/a", "#na", "missing", "unknown",
	"unbekannt", "keine angabe", "k.a.", "-", "--", "---", "?", "??", "???", ".", "..", "...", "not available",
	"not applicable", "not recorded", "not known", "not measured", "not given", "no data", "no value", "no reading", "nd", "n.d.",
	"tbd", "tba", "xxx", "x", "empty", "blank", "void", "undefined", "unspecified", "see remark", "see note", "see remarks"}

func init() {
	Register(Kind{
		Name: "placeholder", Finds: "words and runs of nines that stand for a missing value",
		Threshold: "a known word, of two words too; or -9, 99, 999, … of a column of numbers, where it lies far from the others or is its extreme",
		Like:      "%d columns hold words that stand for nothing: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			var found []profile.Frequency
			for _, one := range c.seen() {
				if c.isPlaceholder(one) {
					found = append(found, one)
				}
			}
			if len(found) == 0 {
				return nil
			}
			rows := total(found)
			return []Lead{{Rows: rows, Texts: byRows(found), Sure: 0.9, Condition: c.noneOf(found), Says: fmt.Sprintf("%s of %s %s something that may stand for a missing value: %s.",
				document.Counted(rows, "cell", "cells"), c.Name, document.Plural(rows, "holds", "hold"), quoted(found))}}
		},
	})
}

func (c *Column) isPlaceholder(one profile.Frequency) bool {
	level := table.Level(one.Text)
	if slices.Contains(placeholders, level) {
		// A code of one letter, one of as many letters as all others have, or a word that most cells hold is what the
		// column is about.
		isCode := len(level) <= 3 && c.Longest <= 3 && strings.IndexFunc(level, func(r rune) bool { return r < 'a' || r > 'z' }) < 0
		return c.Numbers != nil || !isCode && one.Rows*2 < c.Filled && (len(level) != 1 || !isLetter(level[0]))
	}
	if c.Numbers == nil || one.Rows < 2 || !isNines(level) {
		return false
	}
	d, ok := table.ParseDecimal(level)
	if !ok {
		return false
	}
	if f := c.Numbers.Outliers.Far; f != nil && f.Beyond(d) {
		return true
	}
	return (level == c.Lowest || level == c.Highest) && c.apart(d.Float())
}

// apart reports whether a number stands away from the others, beyond the fences.
func (c *Column) apart(x float64) bool {
	o := c.Numbers.Outliers
	return x < o.LowFence || x > o.HighFence
}

func isLetter(b byte) bool { return b >= 'a' && b <= 'z' }

// isNines reports whether a number is a run of nines, as 99, -999 or 9999.9.
func isNines(text string) bool {
	digits := strings.ReplaceAll(strings.TrimPrefix(text, "-"), ".", "")
	for strings.HasSuffix(digits, "0") && strings.Contains(text, ".") {
		digits = strings.TrimSuffix(digits, "0")
	}
	return digits != "" && strings.Trim(digits, "9") == "" && (len(digits) > 1 || text[0] == '-')
}

// noneOf writes that a column holds none of some texts, as a condition has it.
func (c *Column) noneOf(found []profile.Frequency) string {
	var texts []string
	for _, one := range found {
		switch {
		case c.Numbers != nil:
			if d, ok := table.ParseDecimal(table.Level(one.Text)); ok {
				texts = append(texts, d.Shortest())
			}
		case c.Dates == nil && c.Type != table.TypeBoolean:
			texts = append(texts, condition.Text(table.Level(one.Text)))
		}
	}
	if len(texts) == 0 {
		return "" // they are not of the type
	}
	column := condition.Column(c.Name)
	if c.Numbers == nil {
		column = "LOWER(TRIM(" + column + "))"
	}
	slices.Sort(texts)
	return column + " NOT IN (" + strings.Join(slices.Compact(texts), ", ") + ")"
}

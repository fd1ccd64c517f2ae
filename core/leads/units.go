package leads

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// numberWithUnit is a number with something before or after it that is no part of it.
var numberWithUnit = regexp.MustCompile(`^([<>≤≥~≈]?)\s*[-+]?[0-9][0-9.,'\x{a0}\x{202f} ]*?\s*([A-Za-zµμ°%€$£Ω‰²³][A-Za-zµμ°%€$£Ω‰²³/·^0-9-]{0,12})?$`)

// WithUnit parts a text that is a number with something beside it: a sign before it, as <, and a unit after it.
func WithUnit(text string) (sign, unit string) {
	if m := numberWithUnit.FindStringSubmatch(table.Trim(text)); m != nil {
		return m[1], m[2]
	}
	return "", ""
}

// hasUnit reports whether a text is a number with a unit or a sign.
func hasUnit(text string) bool {
	sign, unit := WithUnit(text)
	return sign+unit != ""
}

func init() {
	Register(Kind{
		Name: "units", Like: "%d columns hold units or signs with their numbers: %s.",
		Finds:     "units and signs as < inside numbers",
		Threshold: "a column of numbers with one such cell; or a column of texts, most of them a number with a unit",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Type != table.TypeText && !c.Type.IsNumber() || c.Declared && c.Type.IsNumber() {
				return nil
			}
			texts := c.seen()
			if c.Type.IsNumber() {
				texts = c.Exceptions
			}
			units := map[string]int64{}
			var found []profile.Frequency
			all := int64(0)
			for _, one := range texts {
				all += one.Rows
				sign, unit := WithUnit(one.Text)
				if sign+unit == "" {
					continue
				}
				found = append(found, one)
				units[sign+unit] += one.Rows
			}
			rows := total(found)
			if rows == 0 || c.Type == table.TypeText && (rows*10 < all*6 || len(units) > 6 || c.Distinct < 3) {
				return nil
			}
			names := slices.SortedFunc(maps.Keys(units), func(a, b string) int {
				return cmp.Or(cmp.Compare(units[b], units[a]), cmp.Compare(a, b))
			})
			sure, more := 0.8, ""
			if len(names) > 1 && c.Type == table.TypeText {
				sure, more = 0.9, ", which are not all the same"
			}
			return []Lead{{Rows: rows, Texts: byRows(found), Sure: sure, Says: fmt.Sprintf(
				"%s of %s %s a unit or sign with a number: %s%s.", document.Counted(rows, "cell", "cells"), c.Name,
				document.Plural(rows, "holds", "hold"), document.First(quotedTexts(names)), more)}}
		},
	})
}

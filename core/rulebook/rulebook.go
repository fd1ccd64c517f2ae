// Package rulebook is the declaration of what must hold for a dataset: how its files are read,
// its columns and code lists, and the rules.
//
// A rulebook is YAML. Parse reads it in two passes, what the table is made of and then what must
// hold of it, and tells every mistake at once. What a rule is stands in rule.go, by the level
// at which it is judged; what a kind of rule is in kind.go. No kind is known here: they register
// themselves, from package rules, which whoever reads rulebooks imports. From what the kinds say
// of their fields come the forms (outline.go), the comparison of two versions (compare.go) and
// the metadata of CSVW (csvw.go).
//
// To add a kind of rule, see package rules. To add something that every column declares and
// that is no rule, add a field to Column and its form to columnForms.
package rulebook

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// Rulebook is one version of a declaration, checked and ready for use.
type Rulebook struct {
	Dataset   string
	Title     string
	Reading   intake.Reading
	Columns   []Column
	CodeLists map[string]*CodeList
	Rules     []*Declared // in the order in which they are judged and shown
	Measures  []string    // columns whose sums tell what a finding costs
	MeantSo   []MeantSo   // what looks odd and is meant so
	// Estimates says whether cells that were estimated count as missing where a value is asked for, or as values.
	Estimates string
	PassMark  float64 // the least table score with which a table passes, 0 to 100
	Digest    string  // SHA-256 of the source, in hexadecimal
	// Beside is set by who has other tables and earlier deliveries at hand.
	Beside *Beside
	// Old tells of words of earlier versions that the text has, and what is said now.
	Old []document.Problem

	facts  []statement // of its items, for comparing versions
	others []string    // datasets that it names
}

// Others are the datasets that the rulebook names besides its own, by name.
func (b *Rulebook) Others() []string { return slices.Compact(slices.Sorted(slices.Values(b.others))) }

// EqualRowsID is the id of the rule against equal rows.
const EqualRowsID = "equal_rows"

// AbsentKind is the kind of finding that a declared column is not there.
const AbsentKind = "column"

// KeyColumns returns the columns of the first key; nil where none is declared.
func (b *Rulebook) KeyColumns() []string {
	for _, d := range b.Rules {
		if d.Kind.Section == "keys" {
			return d.Rule.Columns()
		}
	}
	return nil
}

// Deliveries returns how many earlier deliveries the rules compare with; the last one is always looked at.
func (b *Rulebook) Deliveries() int {
	most := 1
	for _, d := range b.Rules {
		if r, ok := d.Rule.(PastRule); ok {
			most = max(most, r.Deliveries())
		}
	}
	return most
}

// RuleIDs lists the ids of all that may be found broken.
func (b *Rulebook) RuleIDs() []string {
	ids := make([]string, len(b.Rules))
	for i, d := range b.Rules {
		ids[i] = d.ID
	}
	return ids
}

// Column returns the declaration of a column, or nil.
func (b *Rulebook) Column(name string) *Column {
	for i := range b.Columns {
		if b.Columns[i].Name == name {
			return &b.Columns[i]
		}
	}
	return nil
}

// TakesNewCodes reports whether a code of a column that is not in its list yet is no fault.
func (b *Rulebook) TakesNewCodes(column string) bool {
	return slices.ContainsFunc(b.Rules, func(d *Declared) bool {
		told, ok := d.Rule.(ToldRule)
		return ok && d.Column == column && d.Kind.Name == "codes" && told.IsTold()
	})
}

// Types returns the declared type of each column.
func (b *Rulebook) Types() map[string]table.Type {
	types := make(map[string]table.Type, len(b.Columns))
	for _, c := range b.Columns {
		types[c.Name] = c.Type
	}
	return types
}

// Format returns how the cells of a column become values.
func (b *Rulebook) Format(c *Column) *table.Format {
	reading := b.Reading
	if c != nil && c.DecimalMark != "" {
		reading.DecimalMark, reading.GroupingMark = c.DecimalMark, c.GroupingMark
	}
	format := reading.Values()
	if c != nil {
		format.WrittenWith, format.Brackets = c.WrittenWith, c.Brackets
		if len(c.TrueWords) > 0 {
			format.TrueWords, format.FalseWords = c.TrueWords, c.FalseWords
		}
	}
	switch {
	case c == nil || len(c.Dates) == 0:
	case c.Type == table.TypeDateTime:
		format.DateTimes = table.MustDatePatterns(c.Dates...)
	default:
		format.Dates = table.MustDatePatterns(c.Dates...)
	}
	return format
}

// DigestOf returns the SHA-256 of a declaration's source, in hexadecimal.
func DigestOf(source []byte) string {
	sum := sha256.Sum256(source)
	return hex.EncodeToString(sum[:])
}

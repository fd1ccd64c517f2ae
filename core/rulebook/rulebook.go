// Package rulebook is the declaration of what must hold for a dataset: how its
// files are read, its columns, keys, code lists, row rules, measures and pass mark.
package rulebook

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"

	"proudsieve/core/condition"
	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// Severity says what a broken rule means for the table.
type Severity string

// The severities. A table with a finding of severity Stop does not pass.
const (
	Stop Severity = "stop"
	Warn Severity = "warn"
	Note Severity = "note"
)

// Dimension is the side of quality that a rule speaks of.
type Dimension string

// The dimensions of quality.
const (
	Completeness Dimension = "completeness"
	Validity     Dimension = "validity"
	Uniqueness   Dimension = "uniqueness"
	Consistency  Dimension = "consistency"
)

// Dimensions lists the dimensions in the order in which they are shown.
var Dimensions = []Dimension{Completeness, Validity, Uniqueness, Consistency}

// Rulebook is one version of a declaration, checked and ready for use.
type Rulebook struct {
	Dataset    string
	Title      string
	Reading    intake.Reading
	Columns    []Column
	Keys       []Key
	Duplicates *Duplicates // nil where equal rows are allowed
	CodeLists  map[string]*CodeList
	Rules      []Rule
	Measures   []string // columns whose sums tell what a finding costs
	PassMark   float64  // the least table score with which a table passes, 0 to 100
	Digest     string   // SHA-256 of the source, in hexadecimal
}

// Column declares one column.
type Column struct {
	Name     string
	Title    string
	Type     table.Type
	Required bool
	Pattern  *regexp.Regexp // the whole text must match; nil for any
	Lowest   *table.Value   // of the column's type; nil for no bound
	Highest  *table.Value
	CodeList string // of a code column
	Dates    []string
	// The marks of its numbers, where they are not those of the reading.
	DecimalMark, GroupingMark string
	Severity                  Severity
	Reason                    string
}

// Key declares columns that together name one row. Their cells are required.
type Key struct {
	ID       string
	Columns  []string
	Severity Severity
	Reason   string
}

// Duplicates declares that no two rows may be equal in every cell.
type Duplicates struct {
	Severity Severity
	Reason   string
}

// DuplicatesID is the id of the rule against equal rows.
const DuplicatesID = "equal_rows"

// Rule declares a condition that every row must meet.
type Rule struct {
	ID        string
	Condition *condition.Condition
	Severity  Severity
	Reason    string
}

// CodeList declares the codes of a column and their other spellings.
type CodeList struct {
	Codes []Code
	// levelled maps every code and spelling, levelled, to the index of its code.
	levelled map[string]int
	exact    map[string]bool
}

// Code is one code with its label and the other spellings that stand for it.
type Code struct {
	Code      string
	Label     string
	Spellings []string
}

// Has reports whether text is one of the codes to the letter.
func (l *CodeList) Has(text string) bool { return l.exact[text] }

// Resolve returns the code that text is another spelling of: equal to a code or
// one of its spellings once spaces and case are levelled.
func (l *CodeList) Resolve(text string) (code string, ok bool) {
	if l.exact[text] {
		return text, true
	}
	i, ok := l.levelled[table.Level(text)]
	if !ok {
		return "", false
	}
	return l.Codes[i].Code, true
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

// Types returns the declared type of each column.
func (b *Rulebook) Types() map[string]table.Type {
	types := make(map[string]table.Type, len(b.Columns))
	for _, c := range b.Columns {
		types[c.Name] = c.Type
	}
	return types
}

// ForTable returns the rulebook as it applies to a table of ours, which holds the
// same columns in the standard reading.
func (b *Rulebook) ForTable() *Rulebook {
	copied := *b
	copied.Reading = intake.Standard()
	copied.Columns = append([]Column(nil), b.Columns...)
	for i := range copied.Columns {
		copied.Columns[i].Dates, copied.Columns[i].DecimalMark, copied.Columns[i].GroupingMark = nil, "", ""
	}
	return &copied
}

// Format returns how the cells of a column become values.
func (b *Rulebook) Format(c *Column) *table.Format {
	reading := b.Reading
	if c != nil && len(c.Dates) > 0 {
		if c.Type == table.TypeDateTime {
			reading.DateTimes = c.Dates
		} else {
			reading.Dates = c.Dates
		}
	}
	if c != nil && c.DecimalMark != "" {
		reading.DecimalMark, reading.GroupingMark = c.DecimalMark, c.GroupingMark
	}
	return reading.Values()
}

// DigestOf returns the SHA-256 of a declaration's source, in hexadecimal.
func DigestOf(source []byte) string {
	sum := sha256.Sum256(source)
	return hex.EncodeToString(sum[:])
}

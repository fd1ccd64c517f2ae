// Package rulebook is the declaration of what must hold for a dataset: how its
// files are read, its columns, keys, code lists, row rules, measures and pass mark.
package rulebook

import (
	"crypto/sha256"
	"encoding/hex"

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
	TableRules []TableRule
	References []Reference
	History    []HistoryRule
	Measures   []string // columns whose sums tell what a finding costs
	PassMark   float64  // the least table score with which a table passes, 0 to 100
	Digest     string   // SHA-256 of the source, in hexadecimal
	// Beside is set by who has other tables and earlier deliveries at hand.
	Beside *Beside
}

// Column declares one column.
type Column struct {
	Name     string
	Title    string
	Type     table.Type
	Unit     string
	Role     string // identifier, dimension, measure, date or text; empty for what it seems to be
	Required bool
	Filled   float64      // the percentage of rows that must have a value; 0 for none
	Pattern  *Pattern     // the whole text must match; nil for any
	Lowest   *table.Value // of the column's type; nil for no bound
	Highest  *table.Value
	// Shortest and Longest bound the characters of a text, spaces around it left aside; 0 for no bound.
	Shortest, Longest int
	Decimals          int    // the most digits after the point; -1 for any number
	CodeList          string // of a code column
	NewCodes          bool   // a text that is not in the code list is no fault
	ParentIn          string // the column that holds the parent of the code
	Weight            float64
	Dates             []string
	// The marks of its numbers, where they are not those of the reading.
	DecimalMark, GroupingMark string
	Severity                  Severity
	Reason                    string
}

// Key declares columns that together name one row. Their cells are required, unless
// missing parts are allowed; a row that lacks a part is compared with none.
type Key struct {
	ID           string
	Columns      []string
	MayLackParts bool
	Severity     Severity
	Reason       string
}

// Duplicates declares that no two rows may be equal in every cell.
type Duplicates struct {
	Severity Severity
	Reason   string
}

// DuplicatesID is the id of the rule against equal rows.
const DuplicatesID = "equal_rows"

// Rule declares a condition that every row must meet for which When holds.
type Rule struct {
	ID        string
	When      *condition.Condition // nil for every row
	Condition *condition.Condition
	MayBreak  float64 // the percentage of rows that may break it
	Severity  Severity
	Reason    string
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

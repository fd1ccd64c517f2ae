package rulebook

import (
	"context"
	"encoding/json"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// Severity says what a broken rule means for the table.
type Severity string

// The severities. A table with a finding of severity Major does not pass.
const (
	Major Severity = "major"
	Minor Severity = "minor"
	Note  Severity = "note"
)

// Severities lists the severities, the gravest first.
var Severities = []string{string(Major), string(Minor), string(Note)}

// oldSeverities are the words that earlier versions had for severities.
var oldSeverities = map[string]string{"stop": string(Major), "warn": string(Minor)}

// UnmarshalJSON reads a severity; those of earlier versions are understood.
func (s *Severity) UnmarshalJSON(raw []byte) error {
	var word string
	if err := json.Unmarshal(raw, &word); err != nil {
		return err
	}
	*s = Severity(word)
	if now, old := oldSeverities[word]; old {
		*s = Severity(now)
	}
	return nil
}

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

// Declared is a rule as a rulebook declares it. It is never changed once the rulebook is read.
type Declared struct {
	ID        string
	Kind      *Kind
	Severity  Severity
	Reason    string
	Dimension Dimension
	Rule      Rule
	Column    string // whose rule it is; empty for a rule that belongs to no column
}

// TellsBroken is a rule that can say by a condition which rows break it.
type TellsBroken interface {
	// BrokenWhere returns a condition that is true of the rows that break the rule; empty where none says it.
	BrokenWhere() string
}

// Rule is what a kind of rule makes of a declaration. It is judged at the level whose
// interface it has: CellRule, RowRule, GroupRule, TableRule or SummaryRule.
type Rule interface {
	// Columns names the columns that it speaks of, which a broken rule costs.
	Columns() []string
	// Says is what must hold, in a sentence.
	Says() string
	// Found is what does not hold, in a sentence.
	Found(b *Broken) string
}

// Broken is how much of a table breaks a rule.
type Broken struct {
	Estimated int64 // rows that have an estimate, where these count as missing
	Rows      int64 // that break it
	Of        int64 // rows of the table
	Groups    int64 // of a GroupRule: how many things are there more than once
	Texts     map[string]int64
}

// OfRows writes "312 of 3,000 rows".
func (b *Broken) OfRows() string {
	return document.Grouped(b.Rows) + " of " + document.Grouped(b.Of) + " " + document.Plural(b.Of, "row", "rows")
}

// Have writes "312 of 3,000 rows have".
func (b *Broken) Have() string { return b.OfRows() + " " + document.Plural(b.Rows, "has", "have") }

// CellState tells apart which cells a CellRule speaks of.
type CellState uint8

// The states of a cell. No rule is asked of a cell in another state than its own.
const (
	Valued   CellState = iota // it has a value of its column's type
	Lacking                   // it is missing
	Mistyped                  // it is not of its column's type
)

// CellRule is judged once per distinct text of its column. One of Lacking or Mistyped cells
// is broken by each of them.
type CellRule interface {
	Rule
	Speaks() CellState
	Breaks(c Cell, text string) bool
}

// PlainRule is a CellRule that can judge a text of printable ASCII without spaces by its token.
type PlainRule interface {
	CellRule
	BreaksPlain(t table.Token) bool
	// DigitsAlike says that texts which differ in nothing but their digits are judged alike.
	DigitsAlike() bool
}

// UnitsRule is a CellRule of numbers that holds within bounds, given in units of so many digits after the point.
type UnitsRule interface {
	CellRule
	Units(scale int) (lowest, highest int64)
}

// ToldRule may be told as a lead, and cost nothing.
type ToldRule interface {
	Rule
	// Told returns the kind of the lead and what it says; "" where the rule is one like others.
	Told(b *Broken) (kind, says string)
	IsTold() bool
}

// Rows are those of a batch, with the typed values of their cells.
type Rows interface {
	condition.Rows
	// Only returns some of the rows, by their index.
	Only(some []int) condition.Rows
}

// RowRule is judged over a batch of rows at once.
type RowRule interface {
	Rule
	// Judge returns what one worker judges with; a Memory is shared by its rules.
	Judge(m *condition.Memory) RowJudge
	// Tolerates says that so many rows may break it.
	Tolerates(broken, of int64) bool
}

// ConditionRule is a RowRule that is broken by rows for which a condition is false, where another one, if there is one, is true.
type ConditionRule interface {
	RowRule
	Conditions() (when, holds *condition.Condition)
}

// RowJudge calls broken for each row that breaks its rule, and counts those that are undecided.
type RowJudge func(rows Rows, broken func(i int)) (undecided int64)

// GroupRule is broken by all rows but the first of those that are equal in some columns.
type GroupRule interface {
	Rule
	// GroupBy names the columns, whose values are compared; whole says that all cells are, as they stand.
	GroupBy() (columns []string, whole bool)
}

// Needs is what a TableRule needs of each row.
type Needs struct {
	Rows  bool     // that rows are read at all
	Group []string // the columns by which rows are grouped
	// Period is what dates and datetimes of the group stand for, as their month; all of them for their day, so that these meet. Empty
	// for themselves.
	Period string
	// Whole says that a row which lacks a part of the group has no value.
	Whole bool
	Value string // a column; empty for none
	// Expression is what is worked out as the value instead; nil for none.
	Expression *condition.Expression
	Total      *condition.Condition
}

// TableRow is a row as a TableRule needs it.
type TableRow struct {
	Row   uint32
	Group table.Hash
	Label string // of the group; not to be kept without a copy
	Value table.Value
	Total condition.Truth
}

// Around is what a TableRule may ask for beside the rows.
type Around struct {
	Rows int64 // of the table
	// Elsewhere reads the rows of another dataset's table, in file order.
	Elsewhere func(ctx context.Context, dataset string, needs Needs, take func([]TableRow) error) error
}

// TableRule is judged in one more reading of the table, in file order.
type TableRule interface {
	Rule
	Needs() Needs
	// Begin fails where the rule cannot be judged.
	Begin(ctx context.Context, a *Around) (TableJudge, error)
}

// OrderRule is a TableRule that depends on the order of the rows.
type OrderRule interface {
	TableRule
	DependsOnOrder()
}

// ApartRule is a TableRule that judges each group of rows by itself: the rows of a group break it, or all of them hold.
type ApartRule interface {
	TableRule
	// FoundIn says what was found in so many rows of so many.
	FoundIn(rows, of int64) string
}

// TableJudge takes the rows in file order.
type TableJudge interface {
	Take(rows []TableRow) error
	End() (Outcome, error)
}

// Outcome is what became of a rule that is judged at the end.
type Outcome struct {
	Found    string // what was found, in a sentence; "" where it holds, or where Rows say it
	Rows     *table.RowSet
	All      bool // every row breaks it
	Texts    map[string]int64
	Unjudged string // why it could not be judged
	Excused  bool   // that it could not be keeps no table from passing
}

// Summary is what is known of a table once it was read.
type Summary interface {
	Rows() int64
	Columns() []string
	Missing(column string) *table.RowSet
	Profile(column string) *profile.Column
	Cells(column string) *Cells
	Met(column string) map[string]bool // the codes that occur
	Book() *Rulebook
}

// SummaryRule is judged by what is known in the end.
type SummaryRule interface {
	Rule
	JudgeSummary(s Summary) Outcome
}

// CodesRule is a SummaryRule that asks which codes of its column were met.
type CodesRule interface {
	SummaryRule
	MetIn() string
}

// AbsenceRule is a SummaryRule that is there only where the table lacks its column.
type AbsenceRule interface {
	SummaryRule
	Absent()
}

// PastRule compares with so many earlier deliveries.
type PastRule interface {
	Rule
	Deliveries() int
}

// DependentRule needs more than the table.
type DependentRule interface {
	Rule
	// Unjudged says why it cannot be judged; "" where it can.
	Unjudged(b *Rulebook) (why string, excused bool)
}

// Package rules holds the kinds of rules that a rulebook can declare, one file each. A kind
// registers itself as the program starts (rulebook.Register), as image formats do in Go;
// whoever reads rulebooks imports this package for it.
//
// To add a kind: write a file with its declaration (a rulebook.Kind: its section, its fields
// with what they say in forms, in comparisons of versions and in CSVW, and what reads them)
// and its rule, which judges at one level:
//
//   - a cell: rulebook.CellRule, once per distinct text of a column;
//   - a row: rulebook.RowRule, over a batch of rows;
//   - equal rows: rulebook.GroupRule;
//   - the table: rulebook.TableRule, in one more reading in file order;
//   - what is known in the end: rulebook.SummaryRule, as the profile, or earlier deliveries.
//
// Beside it goes a test, which tries the rule on a small table (judge_test.go has what that
// takes). Parsing, forms, completion, comparison, CSVW, the audit, its findings and the guide's
// list know the kind from then on.
package rules

import (
	"strconv"

	"proudsieve/core/rulebook"
)

// rowsKept bounds the texts that are counted per rule.
const textsKept = 1 << 16

// textsShown is how many texts a finding shows.
const textsShown = 10

// ofColumn is what the rules of one column share.
type ofColumn struct{ column *rulebook.Column }

func (r ofColumn) Columns() []string { return []string{r.column.Name} }
func (r ofColumn) name() string      { return r.column.Name }

// valued is what rules on the values of a column share.
type valued struct{ ofColumn }

func (valued) Speaks() rulebook.CellState { return rulebook.Valued }

// number writes a number of a declaration.
func number(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: rulebook.AbsentKind, Section: "columns", Place: 1000, Dimension: rulebook.Completeness,
		Says:    "the table has the column",
		Declare: func(i *rulebook.Item) rulebook.Rule { return absent{ofColumn{i.Column}} },
	})
}

// absent is broken by a table without the column.
type absent struct{ ofColumn }

// Absent implements rulebook.AbsenceRule.
func (absent) Absent() {}

func (r absent) Says() string { return fmt.Sprintf("The table has a column %q.", r.name()) }

func (r absent) JudgeSummary(rulebook.Summary) rulebook.Outcome {
	return rulebook.Outcome{Found: fmt.Sprintf("The table has no column %s.", r.name()), All: true}
}

// Found is not asked: the outcome says it.
func (r absent) Found(*rulebook.Broken) string { return "" }

package rules

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "equal_rows", Section: rulebook.EqualRowsID, Dimension: rulebook.Uniqueness,
		Says:    "no two rows are equal in every cell",
		Declare: func(*rulebook.Item) rulebook.Rule { return equalRows{} },
	})
}

// equalRows is broken by rows that repeat an earlier one in every cell.
type equalRows struct{}

func (equalRows) Columns() []string         { return []string{} }
func (equalRows) GroupBy() ([]string, bool) { return nil, true }
func (equalRows) Says() string              { return "No two rows are equal in every cell." }

func (equalRows) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s %s an earlier row in every cell.", b.OfRows(), document.Plural(b.Rows, "repeats", "repeat"))
}

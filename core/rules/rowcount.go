package rules

import (
	"context"
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "row_count", Section: "table_rules", Place: 10, Dimension: rulebook.Completeness,
		Fields: []rulebook.FieldForm{
			{Name: "from", Kind: "number", Says: "The least number of rows", Aspect: "least number of rows", Eases: rulebook.EasesLower,
				Default: "0"},
			{Name: "to", Kind: "number", Says: "The greatest number of rows", Aspect: "greatest number of rows", Eases: rulebook.EasesHigher,
				Default: "0"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := rowCount{least: int64(i.CountOf("from")), most: int64(i.CountOf("to"))}
			if !i.Gives("from") && !i.Gives("to") {
				i.Wrong("", "row_count needs \"from\" or \"to\"")
			}
			if i.Gives("to") && r.most < r.least {
				i.Wrong("to", "the number of rows would end before it starts")
			}
			return r
		},
	})
}

// rowCount is broken by a table of too few or too many rows.
type rowCount struct {
	onTable
	least, most int64 // most is 0 for no bound
}

func (rowCount) Columns() []string     { return nil }
func (rowCount) Needs() rulebook.Needs { return rulebook.Needs{} }

func (r rowCount) Says() string {
	least, most := document.Counted(r.least, "row", "rows"), document.Counted(r.most, "row", "rows")
	are := "There " + document.Plural(r.most, "is", "are")
	switch {
	case r.most == 0:
		return fmt.Sprintf("There %s at least %s.", document.Plural(r.least, "is", "are"), least)
	case r.least == 0:
		return fmt.Sprintf("%s at most %s.", are, most)
	case r.least == r.most:
		return fmt.Sprintf("%s %s.", are, most)
	}
	return fmt.Sprintf("There are %s to %s.", document.Grouped(r.least), most)
}

// Begin implements rulebook.TableRule.
func (r rowCount) Begin(_ context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	return rowCountJudge{r, a.Rows}, nil
}

type rowCountJudge struct {
	rowCount
	rows int64
}

func (rowCountJudge) Take([]rulebook.TableRow) error { return nil }

func (j rowCountJudge) End() (rulebook.Outcome, error) {
	var o rulebook.Outcome
	switch {
	case j.rows < j.least:
		o.Found = fmt.Sprintf("The table has %s %s; at least %s must be there.", document.Grouped(j.rows),
			document.Plural(j.rows, "row", "rows"), document.Grouped(j.least))
	case j.most > 0 && j.rows > j.most:
		o.Found = fmt.Sprintf("The table has %s; at most %s may be there.", document.Counted(j.rows, "row", "rows"),
			document.Grouped(j.most))
	}
	return o, nil
}

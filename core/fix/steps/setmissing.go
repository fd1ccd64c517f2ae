package steps

import (
	"proudsieve/core/condition"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Name: "set_missing", Says: "leaves nothing of some texts, or in the cells of some rows",
		Fields: []fix.Field{columnsField,
			{Name: "values", Kind: "texts", Says: "The texts that stand for nothing, spaces around them left aside"},
			{Name: "where", Kind: "condition", Says: "The rows, by a condition"}},
		Declare: func(i *fix.Item) fix.Action {
			if i.Gives("values") == i.Gives("where") {
				i.Wrong("", "a step \"set_missing\" has either \"values\" or \"where\"")
			}
			names := i.ColumnsOf("columns")
			if where := i.ConditionOf("where"); where != nil {
				return clear{names, where}
			}
			gone := map[string]bool{}
			for _, v := range i.TextsOf("values") {
				gone[table.Trim(v)] = true
			}
			return setMissing{names, gone}
		},
	})
}

type setMissing struct {
	columns
	gone map[string]bool
}

func (s setMissing) Rewrite(_ *rulebook.Cells, text string) string {
	if s.gone[table.Trim(text)] {
		return ""
	}
	return text
}

// clear leaves nothing in the cells of the rows where a condition holds.
type clear struct {
	columns
	where *condition.Condition
}

func (s clear) Sets() ([]string, string)                     { return s.columns, "" }
func (s clear) Chosen(rows rulebook.Batch) func(at int) bool { return holds(s.where, rows) }

// holds returns for which rows a condition is true.
func holds(where *condition.Condition, rows rulebook.Batch) func(at int) bool {
	truths := where.Evaluate(rows)
	return func(at int) bool { return truths[at] == condition.True }
}

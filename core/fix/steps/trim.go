package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Name: "trim", Says: "takes stray spaces off both ends of the texts and out of their middle",
		Fields:  []fix.Field{columnsField},
		Declare: func(i *fix.Item) fix.Action { return trim{i.ColumnsOf("columns")} },
	})
}

type trim struct{ columns }

func (trim) Rewrite(_ *rulebook.Cells, text string) string { return table.Trim(text) }

package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "type", Section: "columns", Place: 20, Dimension: rulebook.Validity,
		Says: "a value is of the type of its column",
		Declare: func(i *rulebook.Item) rulebook.Rule {
			if t := i.Column.Type; t == table.TypeText || t == table.TypeCode {
				return nil // every text is one
			}
			return ofType{ofColumn{i.Column}}
		},
	})
}

// ofType is broken by texts that are no value of the column's type.
type ofType struct{ ofColumn }

func (ofType) Speaks() rulebook.CellState        { return rulebook.Mistyped }
func (ofType) Breaks(rulebook.Cell, string) bool { return true }

func (r ofType) Says() string {
	article := "a"
	if r.column.Type == table.TypeInteger {
		article = "an"
	}
	return fmt.Sprintf("Every %s is %s %s.", r.name(), article, r.column.Type)
}

func (r ofType) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s something in %s that is no %s.", b.Have(), r.name(), r.column.Type)
}

package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "spelling", Section: "columns", Place: 31, Dimension: rulebook.Consistency,
		Says: "a code is written as the code list has it",
		Declare: func(i *rulebook.Item) rulebook.Rule {
			if i.CodesOf() == nil {
				return nil
			}
			return spelling{valued{ofColumn{i.Column}}}
		},
	})
}

// spelling is broken by another spelling of a code.
type spelling struct{ valued }

func (spelling) Breaks(c rulebook.Cell, _ string) bool { return c.Spelling }

func (r spelling) Says() string {
	return fmt.Sprintf("Every %s is written as the code list %s has it.", r.name(), r.column.CodeList)
}

func (r spelling) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s another spelling of a code in %s.", b.Have(), r.name())
}

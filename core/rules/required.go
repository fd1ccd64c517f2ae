package rules

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "required", Section: "columns", Place: 10, Dimension: rulebook.Completeness,
		Fields: []rulebook.FieldForm{
			{Name: "required", Kind: "truth", Says: "Every row has a value", Aspect: "required", Eases: rulebook.EasesOff, CSVW: "required"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			if i.TruthOf("required") {
				i.Column.Required = true
			}
			if !i.Column.Required { // a key may require it too
				return nil
			}
			return required{ofColumn{i.Column}}
		},
	})
}

// required is broken by missing cells.
type required struct{ ofColumn }

func (required) Speaks() rulebook.CellState        { return rulebook.Lacking }
func (required) Breaks(rulebook.Cell, string) bool { return true }
func (r required) Says() string                    { return fmt.Sprintf("Every row has a %s.", r.name()) }
func (r required) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s nothing in %s%s.", b.Have(), r.name(), estimates(b))
}

// estimates says how many of the rows that lack a value have an estimate.
func estimates(b *rulebook.Broken) string {
	switch b.Estimated {
	case 0:
		return ""
	case b.Rows:
		return " but an estimate"
	}
	return fmt.Sprintf(", or nothing but an estimate (%s)", document.Grouped(b.Estimated))
}

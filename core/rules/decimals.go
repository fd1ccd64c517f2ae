package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "decimals", Section: "columns", Place: 60, Dimension: rulebook.Validity,
		Fields: []rulebook.FieldForm{
			{Name: "decimals", Kind: "number", Says: "The most digits after the point",
				Aspect: "digits after the point", Eases: rulebook.EasesHigher},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			most := i.CountOf("decimals")
			if !i.OnlyFor("decimals", i.Column.Type == table.TypeDecimal, table.TypeDecimal) || !i.Gives("decimals") {
				return nil
			}
			return decimals{valued{ofColumn{i.Column}}, most}
		},
	})
}

// decimals is broken by numbers with too many digits after the point, as they are written.
type decimals struct {
	valued
	most int
}

func (r decimals) Breaks(c rulebook.Cell, _ string) bool {
	return c.Value.Kind == table.Number && c.Value.Number.Places() > r.most
}

func (r decimals) Says() string {
	return fmt.Sprintf("Every %s has at most %d digits after the point.", r.name(), r.most)
}

func (r decimals) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s too many digits after the point in %s.", b.Have(), r.name())
}

// DigitsAlike says that numbers which differ in nothing but their digits are judged alike.
func (decimals) DigitsAlike() bool { return true }

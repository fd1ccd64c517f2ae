package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "filled", Section: "columns", Place: 110, Dimension: rulebook.Completeness,
		Fields: []rulebook.FieldForm{
			{Name: "filled", Kind: "number", Says: "The percentage of rows that must have a value",
				Aspect: "share that must be filled", Eases: rulebook.EasesLower, Default: "0"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			if share := i.PercentageOf("filled"); share > 0 {
				return filled{ofColumn{i.Column}, share}
			}
			return nil
		},
	})
}

// filled is broken by all missing cells, where too few are filled.
type filled struct {
	ofColumn
	share float64 // percent
}

func (r filled) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	lacking := s.Missing(r.name())
	if float64(lacking.GetCardinality())*100 <= (100-r.share)*float64(s.Rows()) {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Rows: lacking}
}

func (r filled) Says() string {
	return fmt.Sprintf("At least %s %% of the rows have a %s.", number(r.share), r.name())
}

func (r filled) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s nothing in %s%s; at least %s %% must have a value.", b.Have(), r.name(), estimates(b), number(r.share))
}

package rules

import (
	"fmt"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "same_columns", Section: "history", Place: 20, Dimension: rulebook.Consistency,
		Says:    "no column of the last delivery is lost, or of another type",
		Fields:  []rulebook.FieldForm{},
		Declare: func(i *rulebook.Item) rulebook.Rule { return sameColumns{pastOf(i, rulebook.AnyColumn)} },
	})
}

// sameColumns is broken by a column of the last delivery that is lost, or of another type.
type sameColumns struct{ past }

func (sameColumns) Says() string {
	return "Every column of the last delivery is there, and of the same type."
}

func (r sameColumns) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	var lost, changed []string
	for _, c := range r.deliveries(s)[0].Columns {
		if !slices.Contains(s.Columns(), c.Name) {
			lost = append(lost, c.Name)
		} else if now := s.Cells(c.Name); now.Declared != nil && now.Type != c.Type {
			changed = append(changed, fmt.Sprintf("%s, which was of type %s and is of type %s", c.Name, c.Type,
				now.Type))
		}
	}
	found := ""
	if len(lost) > 0 {
		found = fmt.Sprintf("The last delivery had %s, and this one has not.", document.First(lost))
	}
	if len(changed) > 0 {
		found += fmt.Sprintf(" Of another type: %s.", document.First(changed))
	}
	return rulebook.Outcome{Found: found}
}

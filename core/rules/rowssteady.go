package rules

import (
	"fmt"
	"math"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "rows_steady", Section: "history", Place: 10, Dimension: rulebook.Consistency,
		Fields:  []rulebook.FieldForm{withinField, lastField},
		Declare: func(i *rulebook.Item) rulebook.Rule { return rowsSteady{pastOf(i, rulebook.AnyColumn)} },
	})
}

// rowsSteady is broken by a number of rows that moved too far from the mean of earlier ones.
type rowsSteady struct{ past }

func (r rowsSteady) Says() string {
	return fmt.Sprintf("The number of rows is within %s %% of that %s.", number(r.within), r.of())
}

func (r rowsSteady) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	then, deliveries := 0.0, r.deliveries(s)
	for _, p := range deliveries {
		then += float64(p.Rows) / float64(len(deliveries))
	}
	now := float64(s.Rows())
	if math.Abs(now-then) <= then*r.within/100 {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Found: fmt.Sprintf("The table has %s; before it had %s%s.", document.Counted(s.Rows(), "row", "rows"),
		document.Grouped(int64(math.Round(then))), movedBy(now, then))}
}

package rules

import (
	"fmt"
	"math"

	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "missing_steady", Section: "history", Place: 40, Dimension: rulebook.Consistency,
		Fields:  []rulebook.FieldForm{columnField, withinField, lastField},
		Declare: func(i *rulebook.Item) rulebook.Rule { return missingSteady{pastOf(i, rulebook.AnyColumn)} },
	})
}

// missingSteady is broken by a share of missing cells that moved too far.
type missingSteady struct{ past }

func (r missingSteady) Says() string {
	return fmt.Sprintf("The share of rows without a %s is within %s points of that %s.", r.column, number(r.within),
		r.of())
}

func (r missingSteady) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	before, lacking := r.then(s)
	if len(before) == 0 {
		return lacking
	}
	now, then := percent(int64(s.Missing(r.column).GetCardinality()), s.Rows()), 0.0
	for _, c := range before {
		then += percent(c.Missing, c.rows) / float64(len(before))
	}
	if math.Abs(now-then) <= r.within {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Found: fmt.Sprintf("%.1f %% of the rows have no %s; before %.1f %% had none.", now,
		r.column, then)}
}

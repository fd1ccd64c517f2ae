package rules

import (
	"fmt"
	"math"
	"strconv"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "mean_steady", Section: "history", Place: 50, Dimension: rulebook.Consistency,
		Fields:  []rulebook.FieldForm{columnField, withinField, lastField},
		Declare: func(i *rulebook.Item) rulebook.Rule { return meanSteady{pastOf(i, numbersOnly)} },
	})
}

// meanSteady is broken by a mean that moved too far.
type meanSteady struct{ past }

// numbersOnly accepts columns that have a mean.
func numbersOnly(c *rulebook.Column) string {
	if c.Type.IsNumber() {
		return ""
	}
	return fmt.Sprintf("%q is of type %s; only numbers have a mean", c.Name, c.Type)
}

func (r meanSteady) Says() string {
	return fmt.Sprintf("The mean of %s is within %s %% of that %s.", r.column, number(r.within), r.of())
}

func (r meanSteady) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	before, lacking := r.then(s)
	if len(before) == 0 {
		return lacking
	}
	now, err := strconv.ParseFloat(s.Profile(r.column).Mean, 64)
	then, n := 0.0, 0
	for _, c := range before {
		if mean, err := strconv.ParseFloat(c.Mean, 64); err == nil {
			then += mean
			n++
		}
	}
	if err != nil || n == 0 {
		return rulebook.Outcome{Unjudged: r.column + " has no mean, now or before"}
	}
	then /= float64(n)
	if math.Abs(now-then) <= math.Abs(then)*r.within/100 {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Found: fmt.Sprintf("The mean of %s is %s; before it was %s%s.", r.column,
		document.Figure(now), document.Figure(then),
		movedBy(now, then))}
}

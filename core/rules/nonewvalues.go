package rules

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "no_new_values", Section: "history", Place: 30, Dimension: rulebook.Consistency,
		Fields:  []rulebook.FieldForm{columnField, lastField},
		Declare: func(i *rulebook.Item) rulebook.Rule { return noNewValues{pastOf(i, rulebook.AnyColumn)} },
	})
}

// noNewValues is broken by a value that no earlier delivery had.
type noNewValues struct{ past }

func (r noNewValues) Says() string {
	return fmt.Sprintf("%s has no value that none %s had.", r.column, r.of())
}

func (r noNewValues) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	then, lacking := r.then(s)
	if len(then) == 0 {
		return lacking
	}
	known := map[string]bool{}
	for _, c := range then {
		texts, ok := c.All()
		if !ok {
			return rulebook.Outcome{Unjudged: "the profiles of earlier deliveries do not list all values of " +
				r.column}
		}
		for _, t := range texts {
			known[t.Text] = true
		}
	}
	texts, ok := s.Profile(r.column).All()
	if !ok {
		return rulebook.Outcome{Unjudged: r.column + " has too many values to compare"}
	}
	fresh := []string{}
	o := rulebook.Outcome{Texts: map[string]int64{}}
	for _, t := range texts {
		if !known[t.Text] {
			fresh = append(fresh, t.Text)
			o.Texts[t.Text] = t.Rows
		}
	}
	if n := int64(len(fresh)); n > 0 {
		o.Found = fmt.Sprintf("%s %s of %s %s not there before: %s.", document.Grouped(n),
			document.Plural(n, "value", "values"), r.column, document.Plural(n, "was", "were"), document.First(fresh))
	}
	return o
}

package rules

import (
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "condition", Section: "rules", Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{
			{Name: "condition", Kind: "condition", Required: true, Says: "What must be true of every row",
				Aspect: "condition", Eases: rulebook.EasesAny},
			{Name: "when", Kind: "condition", Says: "Only for rows of which this is true",
				Aspect: "case in which it applies", Eases: rulebook.EasesGiven},
			{Name: "tolerance", Kind: "number", Says: "By how much the two sides may differ", Aspect: "tolerance", Eases: rulebook.EasesMore},
			{Name: "may_break", Kind: "number", Says: "The percentage of rows that may break it",
				Aspect: "percentage that may break it", Eases: rulebook.EasesMore, Default: "0"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := onRows{when: i.ConditionOf("when"), holds: i.ConditionWithin("condition", "tolerance"),
				mayBreak: i.PercentageOf("may_break")}
			if r.holds == nil {
				return nil
			}
			if !i.Gives("tolerance") {
				r.texts = [2]string{i.TextOf("when"), i.TextOf("condition")}
			}
			return r
		},
	})
}

// onRows is broken by rows for which a condition is false, where another is true.
type onRows struct {
	texts    [2]string            // of when and holds; empty where no condition alone says which rows break it
	when     *condition.Condition // nil for every row
	holds    *condition.Condition
	mayBreak float64 // percent of the rows
}

// BrokenWhere implements rulebook.TellsBroken.
func (r onRows) BrokenWhere() string {
	switch {
	case r.texts[1] == "":
		return ""
	case r.texts[0] != "":
		return "(" + r.texts[0] + ") AND NOT (" + r.texts[1] + ")"
	}
	return "NOT (" + r.texts[1] + ")"
}

func (r onRows) Columns() []string {
	names := slices.Clone(r.holds.Names())
	if r.when != nil {
		for _, name := range r.when.Names() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// Conditions implements rulebook.ConditionRule.
func (r onRows) Conditions() (when, holds *condition.Condition) { return r.when, r.holds }

// Judge implements rulebook.RowRule.
func (r onRows) Judge(m *condition.Memory) rulebook.RowJudge {
	holds := r.holds.Evaluator(m)
	var when *condition.Evaluator
	if r.when != nil {
		when = r.when.Evaluator(m)
	}
	return func(rows rulebook.Rows, broken func(i int)) (undecided int64) {
		var of condition.Rows = rows
		var some []int
		if when != nil {
			some = []int{}
			for i, truth := range when.Evaluate(rows) {
				if truth == condition.True {
					some = append(some, i)
				}
			}
			of = rows.Only(some)
		}
		holds.EachNotTrue(of, func(i int, truth condition.Truth) {
			switch {
			case truth == condition.Unknown:
				undecided++
			case some != nil:
				broken(some[i])
			default:
				broken(i)
			}
		})
		return undecided
	}
}

// Tolerates implements rulebook.RowRule.
func (r onRows) Tolerates(broken, of int64) bool {
	return r.mayBreak > 0 && float64(broken)*100 <= r.mayBreak*float64(of)
}

func (r onRows) Says() string {
	says := "For every row"
	if r.when != nil {
		says += " where " + r.when.String()
	}
	says += ": " + r.holds.String()
	if by := r.holds.Tolerance(); by != nil {
		says += ", give or take " + by.Shortest()
	}
	if r.mayBreak > 0 {
		says += "; up to " + number(r.mayBreak) + " % of the rows may be otherwise"
	}
	return says + "."
}

func (r onRows) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s %s the rule %s.", b.OfRows(), document.Plural(b.Rows, "breaks", "break"), r.holds)
}

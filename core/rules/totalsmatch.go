package rules

import (
	"context"
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "totals_match", Section: "table_rules", Place: 60, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{
			ofField,
			{Name: "expression", Kind: "condition", Says: "What is worked out in each row and summed in place of the column itself, as flow * 3.6", Aspect: "summed expression", Eases: rulebook.EasesAny},
			withField, perField, sumsField,
			{Name: "factor", Kind: "number", Says: "What the other dataset's sums are multiplied by, as 1000 for thousands", Aspect: "factor", Eases: rulebook.EasesAny},
			{Name: "period", Kind: "choice", Choices: totalPeriods, Says: "The period that dates among the groups stand for, on both sides: the first and the last day of a month are in one month", Aspect: "period", Eases: rulebook.EasesAny}},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := totalsMatch{summing: summingOf(i), expression: i.ExpressionOf("expression"), factor: table.DecimalOf(1, 0)}
			if i.Gives("factor") {
				if r.factor = i.AmountOf("factor"); r.factor.Sign() == 0 {
					i.Wrong("factor", "a factor is more than 0")
				}
			}
			r.period = i.ChoiceOf("period", "a period", totalPeriods...)
			e := i.ElsewhereOf("with", len(r.per)+1,
				"totals_match wants the other dataset's columns for each of \"per\", and then the one that is summed")
			if e == nil || len(e.Columns) == 0 {
				return nil
			}
			r.with = *e
			return r
		},
	})
}

// totalsMatch is broken by groups whose sum is not that of another dataset.
type totalsMatch struct {
	summing
	expression *condition.Expression // what is summed in place of the column itself; nil for none
	with       rulebook.Elsewhere    // the columns of per, and the one of the sum
	factor     table.Decimal         // of their sums
	period     string                // that dates stand for; "" for none
}

var totalPeriods = []string{"day", "week", "month", "quarter", "year"}

// Columns implements rulebook.Rule.
func (r totalsMatch) Columns() []string {
	columns := r.summing.Columns()
	if r.expression == nil {
		return columns
	}
	for _, name := range r.expression.Names() {
		if !slices.Contains(columns, name) {
			columns = append(columns, name)
		}
	}
	return columns
}

// summed is what is summed, in words.
func (r totalsMatch) summed() string {
	if r.expression != nil {
		return r.expression.String()
	}
	return r.of
}

func (r totalsMatch) last() int { return len(r.with.Columns) - 1 }

func (r totalsMatch) Says() string {
	says := fmt.Sprintf("%sthe sum of %s is %sthat of %s in %s%s", forEach(r.per), r.summed(), r.times(), r.with.Columns[r.last()], r.with.Dataset, giveOrTake(r.tolerance))
	if r.period != "" {
		says += ", where dates stand for their " + r.period
	}
	return sentence(says)
}

// times says what the sums of the other dataset are multiplied by.
func (r totalsMatch) times() string {
	if r.factor.Cmp(table.DecimalOf(1, 0)) == 0 {
		return ""
	}
	return r.factor.Shortest() + " times "
}

func (r totalsMatch) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.per, Value: r.of, Expression: r.expression, Period: r.period}
}

// Begin implements rulebook.TableRule.
func (r totalsMatch) Begin(ctx context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	theirs := sumsJudge{summing: r.summing, groups: map[table.Hash]*sums{}}
	err := a.Elsewhere(ctx, r.with.Dataset, rulebook.Needs{Rows: true, Group: r.with.Columns[:r.last()],
		Value: r.with.Columns[r.last()], Period: r.period}, theirs.Take)
	for _, g := range theirs.groups {
		g.parts = g.parts.Mul(r.factor)
	}
	mine := r.summing
	mine.of = r.summed()
	return &totalsJudge{sumsJudge{summing: mine, keepsRows: true, groups: map[table.Hash]*sums{}}, theirs.groups},
		err
}

type totalsJudge struct {
	sumsJudge
	theirs map[table.Hash]*sums
}

func (j *totalsJudge) End() (rulebook.Outcome, error) {
	var groups []*sums
	for hash, g := range j.groups {
		g.total, g.hasTotal = table.Decimal{}, true
		if t := j.theirs[hash]; t != nil {
			g.total = t.parts
		}
		groups = append(groups, g)
	}
	for hash, t := range j.theirs {
		if j.groups[hash] == nil {
			groups = append(groups, &sums{label: t.label, total: t.parts, hasTotal: true})
		}
	}
	return j.compare(groups, "the sum is %s here and %s there"), nil
}

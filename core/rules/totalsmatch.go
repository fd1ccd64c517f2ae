package rules

import (
	"context"
	"fmt"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "totals_match", Section: "table_rules", Place: 60, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{ofField, withField, perField, sumsField},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := totalsMatch{summing: summingOf(i)}
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
	with rulebook.Elsewhere // the columns of per, and the one of the sum
}

func (r totalsMatch) last() int { return len(r.with.Columns) - 1 }

func (r totalsMatch) Says() string {
	return sentence(fmt.Sprintf("%sthe sum of %s is that of %s in %s%s", forEach(r.per), r.of, r.with.Columns[r.last()],
		r.with.Dataset, giveOrTake(r.tolerance)))
}

func (r totalsMatch) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.per, Value: r.of}
}

// Begin implements rulebook.TableRule.
func (r totalsMatch) Begin(ctx context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	theirs := sumsJudge{summing: r.summing, groups: map[table.Hash]*sums{}}
	err := a.Elsewhere(ctx, r.with.Dataset, rulebook.Needs{Rows: true, Group: r.with.Columns[:r.last()],
		Value: r.with.Columns[r.last()]}, theirs.Take)
	return &totalsJudge{sumsJudge{summing: r.summing, keepsRows: true, groups: map[table.Hash]*sums{}}, theirs.groups},
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

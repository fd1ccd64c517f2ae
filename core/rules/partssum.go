package rules

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "parts_sum", Section: "table_rules", Place: 20, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{ofField,
			{Name: "total", Kind: "condition", Required: true, Says: "Which rows are totals", Aspect: "total", Eases: rulebook.EasesAny},
			perField, sumsField},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := partsSum{summing: summingOf(i), total: i.ConditionOf("total")}
			if r.total == nil {
				return nil
			}
			return r
		},
	})
}

// summing is what rules on sums share.
type summing struct {
	onTable
	of        string
	per       []string
	tolerance table.Decimal
}

func summingOf(i *rulebook.Item) summing {
	return summing{of: i.ColumnOf("of", rulebook.SummedColumn), per: i.ColumnsOf("per", "per", rulebook.AnyColumn),
		tolerance: i.AmountOf("tolerance")}
}

func (r summing) Columns() []string { return append(slices.Clone(r.per), r.of) }

// partsSum is broken by groups whose parts do not sum to their total; groups without a total are left out.
type partsSum struct {
	summing
	total *condition.Condition
}

func (r partsSum) Columns() []string {
	columns := r.summing.Columns()
	for _, name := range r.total.Names() {
		if !slices.Contains(columns, name) {
			columns = append(columns, name)
		}
	}
	return columns
}

func (r partsSum) Says() string {
	return sentence(fmt.Sprintf("%sthe parts of %s sum to the total, the rows where %s%s", forEach(r.per), r.of,
		r.total, giveOrTake(r.tolerance)))
}

func (r partsSum) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.per, Value: r.of, Total: r.total}
}

// Begin implements rulebook.TableRule.
func (r partsSum) Begin(context.Context, *rulebook.Around) (rulebook.TableJudge, error) {
	return &partsJudge{sumsJudge{summing: r.summing, totals: true, keepsRows: true, groups: map[table.Hash]*sums{}}},
		nil
}

// sums are those of one group.
type sums struct {
	label        string
	parts, total table.Decimal
	hasTotal     bool
	rows         []uint32
}

// sumsJudge sums a column per group.
type sumsJudge struct {
	summing
	totals    bool // some rows are totals, and some neither
	keepsRows bool
	groups    map[table.Hash]*sums
}

func (j *sumsJudge) Take(rows []rulebook.TableRow) error {
	for i := range rows {
		one := &rows[i]
		g, err := groupOf(j.groups, one, j.per, func(label string) *sums { return &sums{label: label} })
		if err != nil {
			return err
		}
		if j.totals && one.Total == condition.Unknown {
			continue // neither a part nor a total
		}
		if j.keepsRows {
			g.rows = append(g.rows, one.Row)
		}
		if one.Value.Kind != table.Number {
			continue
		}
		if j.totals && one.Total == condition.True {
			g.total, g.hasTotal = g.total.Add(one.Value.Number), true
		} else {
			g.parts = g.parts.Add(one.Value.Number)
		}
	}
	return nil
}

// compare holds the parts of each group against its total; groups without one are left out.
func (j *sumsJudge) compare(groups []*sums, says string) rulebook.Outcome {
	o := rulebook.Outcome{Rows: table.NewRowSet(), Texts: map[string]int64{}}
	var off []*sums
	compared := int64(0)
	for _, g := range groups {
		if !g.hasTotal {
			continue
		}
		compared++
		if g.parts.Sub(g.total).Abs().Cmp(j.tolerance) > 0 {
			off = append(off, g)
			o.Rows.AddMany(g.rows)
		}
	}
	if len(off) == 0 {
		return o
	}
	slices.SortFunc(off, func(a, b *sums) int { return strings.Compare(a.label, b.label) })
	first := ""
	for _, g := range off[:min(len(off), textsShown)] {
		text := fmt.Sprintf(says, g.parts.Shortest(), g.total.Shortest())
		if g.label != "" {
			text = g.label + ": " + text
		}
		o.Texts[text] = int64(len(g.rows))
		if first == "" {
			first = text
		}
	}
	n := int64(len(off))
	o.Found = fmt.Sprintf("%s of %s %s of %s %s not agree; %s.", document.Grouped(n), document.Grouped(compared),
		document.Plural(compared, "sum", "sums"), j.of, document.Plural(n, "does", "do"), first)
	return o
}

type partsJudge struct{ sumsJudge }

func (j *partsJudge) End() (rulebook.Outcome, error) {
	return j.compare(slices.Collect(maps.Values(j.groups)), "the parts sum to %s and the total is %s"), nil
}

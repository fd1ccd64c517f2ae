package audit

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// sums are those of one group.
type sums struct {
	label        string
	parts, total table.Decimal
	hasTotal     bool
	rows         []uint32
}

type sumJudge struct {
	rule    *rulebook.TableRule
	groups  map[table.Hash]*sums
	forgets bool // the rows of the groups
}

func (j *sumJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		g, err := groupOf(j.groups, one, j.rule, func(label string) *sums { return &sums{label: label} })
		if err != nil {
			return err
		}
		if j.rule.Total != nil && one.total == condition.Unknown {
			continue // neither a part nor a total
		}
		if !j.forgets {
			g.rows = append(g.rows, one.row)
		}
		if one.value.Kind != table.Number {
			continue
		}
		if one.total == condition.True {
			g.total, g.hasTotal = g.total.Add(one.value.Number), true
		} else {
			g.parts = g.parts.Add(one.value.Number)
		}
	}
	return nil
}

func (j *sumJudge) end() (outcome, error) {
	return j.compare(slices.Collect(maps.Values(j.groups)), func(g *sums) (table.Decimal, bool) { return g.total, g.hasTotal }, "the parts sum to %s and the total is %s")
}

// compare holds the parts of each group against a total; groups without one are left out.
func (j *sumJudge) compare(groups []*sums, total func(*sums) (table.Decimal, bool), says string) (outcome, error) {
	o := outcome{rows: table.NewRowSet(), texts: map[string]int64{}}
	var off []*sums
	compared := int64(0)
	for _, g := range groups {
		t, ok := total(g)
		if !ok {
			continue
		}
		compared++
		if g.parts.Sub(t).Abs().Cmp(j.rule.Tolerance) > 0 {
			off = append(off, g)
			o.rows.AddMany(g.rows)
		}
	}
	if len(off) == 0 {
		return o, nil
	}
	slices.SortFunc(off, func(a, b *sums) int { return strings.Compare(a.label, b.label) })
	var shown []string
	for _, g := range off[:min(len(off), textsShown)] {
		t, _ := total(g)
		text := fmt.Sprintf(says, g.parts.Shortest(), t.Shortest())
		if g.label != "" {
			text = g.label + ": " + text
		}
		o.texts[text] = int64(len(g.rows))
		shown = append(shown, text)
	}
	o.found = fmt.Sprintf("%s of %s %s of %s %s not agree; %s.", Grouped(int64(len(off))), Grouped(compared), plural(compared, "sum", "sums"), j.rule.Of, plural(int64(len(off)), "does", "do"), shown[0])
	return o, nil
}

type totalsJudge struct {
	sumJudge
	theirs map[table.Hash]*sums
}

// theirTotals sums a column of another dataset per group.
func (r *run) theirTotals(ctx context.Context, rule *rulebook.TableRule, workers int) (map[table.Hash]*sums, error) {
	theirs := sumJudge{rule: rule, groups: map[table.Hash]*sums{}, forgets: true}
	err := readElsewhere(ctx, r.plan.book, *rule.With, workers, func(b *table.Batch, columns []*rulebook.Cells, at []int) ([]wholeRow, error) {
		last := len(at) - 1
		keys := identitiesOf(b, at[:last], func(i int) *rulebook.Cells { return columns[i] })
		values := make([]table.Value, len(b.Columns[at[last]].Texts))
		for code, text := range b.Columns[at[last]].Texts {
			values[code] = columns[last].Read(text).Value
		}
		out := make([]wholeRow, b.Len())
		for i := range out {
			out[i].group, out[i].label = keys.of(i)
			out[i].row, out[i].value, out[i].total = b.Rows[i], values[b.Columns[at[last]].Codes[i]], condition.False
		}
		return out, nil
	}, theirs.take)
	return theirs.groups, err
}

func (j *totalsJudge) end() (outcome, error) {
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
	return j.compare(groups, func(g *sums) (table.Decimal, bool) { return g.total, true }, "the sum is %s here and %s there")
}

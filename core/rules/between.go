package rules

import (
	"fmt"
	"math"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "range", Section: "columns", Place: 40, Dimension: rulebook.Validity,
		Fields: []rulebook.FieldForm{
			{Name: "from", Kind: "text", Says: "The lowest value", Aspect: "lowest value", Eases: rulebook.EasesLower, CSVW: "minimum"},
			{Name: "to", Kind: "text", Says: "The highest value", Aspect: "highest value", Eases: rulebook.EasesHigher, CSVW: "maximum"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := between{valued{ofColumn{i.Column}}, i.BoundOf("from"), i.BoundOf("to")}
			if r.lowest == nil && r.highest == nil {
				return nil
			}
			if r.lowest != nil && r.highest != nil && table.Compare(*r.lowest, *r.highest) > 0 {
				i.Wrong("to", "the range of %q ends before it starts", i.Column.Name)
			}
			return r
		},
	})
}

// between is broken by values out of a range.
type between struct {
	valued
	lowest, highest *table.Value // nil for no bound
}

func (r between) Breaks(c rulebook.Cell, _ string) bool {
	return r.lowest != nil && table.Compare(c.Value, *r.lowest) < 0 || r.highest != nil &&
		table.Compare(c.Value, *r.highest) > 0
}

// Units implements rulebook.UnitsRule.
func (r between) Units(scale int) (lowest, highest int64) {
	lowest, highest = math.MinInt64, math.MaxInt64
	if r.lowest != nil {
		lowest = r.lowest.Number.Units(scale, true)
	}
	if r.highest != nil {
		highest = r.highest.Number.Units(scale, false)
	}
	return lowest, highest
}

// BrokenWhere implements rulebook.TellsBroken.
func (r between) BrokenWhere() string {
	name := condition.Column(r.name())
	var parts []string
	bound := func(sign string, v *table.Value) {
		if v != nil {
			parts = append(parts, name+" "+sign+" "+condition.Literal(*v))
		}
	}
	bound("<", r.lowest)
	bound(">", r.highest)
	return strings.Join(parts, " OR ")
}

func (r between) Says() string {
	switch {
	case r.highest == nil:
		return fmt.Sprintf("Every %s is at least %s.", r.name(), r.lowest.Standard())
	case r.lowest == nil:
		return fmt.Sprintf("Every %s is at most %s.", r.name(), r.highest.Standard())
	}
	return fmt.Sprintf("Every %s is from %s to %s.", r.name(), r.lowest.Standard(), r.highest.Standard())
}

func (r between) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s a value out of range in %s.", b.Have(), r.name())
}

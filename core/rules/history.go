package rules

import (
	"fmt"

	"proudsieve/core/rulebook"
)

// What rules against earlier deliveries share: they compare profiles alone.

// The fields of several kinds of rules against earlier deliveries.
var (
	columnField = rulebook.FieldForm{Name: "column", Kind: "column", Required: true,
		Says: "The column that is looked at", Aspect: "column", Eases: rulebook.EasesAny}
	withinField = rulebook.FieldForm{Name: "within", Kind: "number", Required: true,
		Says: "How far it may move: percent, or points of a share", Aspect: "band", Eases: rulebook.EasesMore, Default: "0"}
	lastField = rulebook.FieldForm{Name: "last", Kind: "number", Says: "With how many deliveries it is compared",
		Aspect: "deliveries back", Eases: rulebook.EasesAny, Default: "1"}
)

// past is what a rule compares with.
type past struct {
	column string  // empty for the table
	within float64 // percent, or points
	last   int     // how many deliveries back; at least 1
}

func pastOf(i *rulebook.Item, accept func(*rulebook.Column) string) past {
	r := past{column: i.ColumnOf("column", accept), within: i.NumberOf("within", "within is a number from 0 to 1000", 0,
		1000), last: 1}
	if i.Gives("last") {
		if r.last = i.CountOf("last"); r.last < 1 || r.last > 100 {
			i.Wrong("last", "last is how many deliveries back, from 1 to 100")
			r.last = 1
		}
	}
	return r
}

// Columns implements rulebook.Rule.
func (r past) Columns() []string {
	if r.column == "" {
		return []string{}
	}
	return []string{r.column}
}

// Found is not asked: the outcome says it.
func (past) Found(*rulebook.Broken) string { return "" }

// Unjudged implements rulebook.DependentRule.
func (past) Unjudged(b *rulebook.Rulebook) (why string, excused bool) {
	if b.Beside == nil || len(b.Beside.Past) == 0 {
		return "there is no earlier delivery to compare with", true
	}
	return "", false
}

// Deliveries implements rulebook.PastRule.
func (r past) Deliveries() int { return r.last }

// of names the deliveries that a rule compares with.
func (r past) of() string {
	if r.last > 1 {
		return fmt.Sprintf("of the last %d deliveries", r.last)
	}
	return "of the last delivery"
}

// deliveries returns the earlier deliveries that count, the last one first.
func (r past) deliveries(s rulebook.Summary) []rulebook.Past {
	all := s.Book().Beside.Past
	return all[:min(len(all), r.last)]
}

// earlier is a column of an earlier delivery, of so many rows.
type earlier struct {
	*rulebook.PastColumn
	rows int64
}

// then returns the column in the earlier deliveries that have it, the last one first. Where
// none has, the rule cannot be judged.
func (r past) then(s rulebook.Summary) (then []earlier, lacking rulebook.Outcome) {
	for _, p := range r.deliveries(s) {
		if c := p.Column(r.column); c != nil {
			then = append(then, earlier{c, p.Rows})
		}
	}
	if len(then) == 0 {
		lacking = rulebook.Outcome{Unjudged: "no earlier delivery has a column " + r.column, Excused: true}
	}
	return then, lacking
}

// percent is a share of so many.
func percent(part, of int64) float64 {
	if of == 0 {
		return 0
	}
	return 100 * float64(part) / float64(of)
}

func movedBy(now, then float64) string {
	if then == 0 {
		return ""
	}
	return fmt.Sprintf(", which is a change of %+.1f %%", (now/then-1)*100)
}

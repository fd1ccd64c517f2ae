package rules

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "not_older_than", Section: "history", Place: 70, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{columnField,
			{Name: "days", Kind: "number", Required: true, Says: "How old the newest date may be", Aspect: "days", Eases: rulebook.EasesHigher,
				Default: "0"}},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			return notOlderThan{ageless(i), i.CountOf("days")}
		},
	})
}

// notOlderThan is broken by a newest date that is too many days before the day of the audit.
type notOlderThan struct {
	past
	days int
}

func ageless(i *rulebook.Item) past {
	return pastOf(i, func(c *rulebook.Column) string {
		if c.Type == table.TypeDate || c.Type == table.TypeDateTime {
			return ""
		}
		return fmt.Sprintf("%q is of type %s; only dates grow old", c.Name, c.Type)
	})
}

// Unjudged implements rulebook.DependentRule.
func (notOlderThan) Unjudged(b *rulebook.Rulebook) (why string, excused bool) {
	if b.Beside == nil || b.Beside.Today == 0 {
		return "nobody said which day it is", true
	}
	return "", false
}

func (r notOlderThan) Says() string {
	return fmt.Sprintf("The newest %s is at most %d days old.", r.column, r.days)
}

func (r notOlderThan) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	newest := s.Profile(r.column).Highest
	v, ok := table.StandardFormat.Parse(s.Cells(r.column).Type, newest)
	if !ok {
		return rulebook.Outcome{Found: fmt.Sprintf("%s has no date.", r.column)}
	}
	day := v.When
	if v.Kind == table.Instant {
		day = v.When / (86_400 * 1_000_000)
	}
	old := s.Book().Beside.Today - day
	if old <= int64(r.days) {
		return rulebook.Outcome{}
	}
	return rulebook.Outcome{Found: fmt.Sprintf("The newest %s is %s, %s days before the audit; at most %d are allowed.",
		r.column, newest, document.Grouped(old), r.days)}
}

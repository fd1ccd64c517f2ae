package rules

import (
	"fmt"
	"slices"

	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "ended", Section: "columns", Place: 120, Dimension: rulebook.Validity,
		Says: "no code has `ended`",
		Declare: func(i *rulebook.Item) rulebook.Rule {
			list := i.CodesOf()
			if list == nil || !slices.ContainsFunc(list.Codes, func(c rulebook.Code) bool { return c.Ended }) {
				return nil
			}
			return ended{valued{ofColumn{i.Column}}}
		},
	})
}

// ended is broken by codes that stand for nothing any more.
type ended struct{ valued }

func (ended) Breaks(c rulebook.Cell, _ string) bool { return c.Ended }
func (r ended) Says() string                        { return fmt.Sprintf("No %s is a code that has ended.", r.name()) }

func (r ended) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s a code in %s that has ended.", b.Have(), r.name())
}

package rules

import (
	"fmt"
	"unicode/utf8"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "length", Section: "columns", Place: 50, Dimension: rulebook.Validity,
		Fields: []rulebook.FieldForm{
			{Name: "shortest", Kind: "number", Says: "The fewest characters", Aspect: "shortest text", Eases: rulebook.EasesLower, Default: "0",
				CSVW: "minLength"},
			{Name: "longest", Kind: "number", Says: "The most characters", Aspect: "longest text", Eases: rulebook.EasesHigher, Default: "0",
				CSVW: "maxLength"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := length{valued{ofColumn{i.Column}}, i.CountOf("shortest"), i.CountOf("longest")}
			if r.longest > 0 && r.shortest > r.longest {
				i.Wrong("longest", "the longest text of %q would be shorter than its shortest", i.Column.Name)
			}
			if r.shortest == 0 && r.longest == 0 {
				return nil
			}
			return r
		},
	})
}

// length is broken by texts of too few or too many characters, spaces around them left aside.
type length struct {
	valued
	shortest, longest int // characters; 0 for no bound
}

func (r length) off(n int) bool { return n < r.shortest || r.longest > 0 && n > r.longest }

func (r length) Breaks(_ rulebook.Cell, text string) bool {
	return r.off(utf8.RuneCountInString(table.Trim(text)))
}

// BreaksPlain implements rulebook.PlainRule.
func (r length) BreaksPlain(t table.Token) bool { return r.off(t.Len()) }

// DigitsAlike implements rulebook.PlainRule.
func (length) DigitsAlike() bool { return true }

func (r length) Says() string {
	switch {
	case r.longest == 0:
		return fmt.Sprintf("Every %s has at least %d characters.", r.name(), r.shortest)
	case r.shortest == 0:
		return fmt.Sprintf("Every %s has at most %d characters.", r.name(), r.longest)
	}
	return fmt.Sprintf("Every %s has %d to %d characters.", r.name(), r.shortest, r.longest)
}

func (r length) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s a text in %s that is too short or too long.", b.Have(), r.name())
}

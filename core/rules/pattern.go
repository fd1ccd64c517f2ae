package rules

import (
	"fmt"
	"strings"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// patternLimit bounds a pattern, in characters.
const patternLimit = 2_000

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "pattern", Section: "columns", Place: 70, Dimension: rulebook.Validity,
		Fields: []rulebook.FieldForm{
			{Name: "pattern", Kind: "text", Says: "A regular expression for the whole text", Aspect: "pattern", Eases: rulebook.EasesAny,
				CSVW: "format"},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			source := i.TextOf("pattern")
			if !i.Gives("pattern") {
				return nil
			}
			if len(source) > patternLimit {
				i.Wrong("pattern", "the pattern is longer than %d characters", patternLimit)
				return nil
			}
			p, err := NewPattern(source)
			if err != nil {
				i.Wrong("pattern", "the pattern cannot be read: %s",
					strings.TrimPrefix(err.Error(), "error parsing regexp: "))
				return nil
			}
			return pattern{valued{ofColumn{i.Column}}, p}
		},
	})
}

// pattern is broken by texts of another form.
type pattern struct {
	valued
	*Pattern
}

func (r pattern) Breaks(_ rulebook.Cell, text string) bool { return !r.MatchString(text) }

// BreaksPlain implements rulebook.PlainRule.
func (r pattern) BreaksPlain(t table.Token) bool {
	var raw [16]byte
	return !r.MatchASCII(t.Bytes(&raw))
}

func (r pattern) Says() string { return fmt.Sprintf("Every %s has the form %s.", r.name(), r.Pattern) }

func (r pattern) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s a text of another form in %s.", b.Have(), r.name())
}

// MatchingPattern returns the pattern of RE2 that the texts match which do not break the rule.
func (r pattern) MatchingPattern() string { return r.whole.String() }

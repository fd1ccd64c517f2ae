package rules

import (
	"fmt"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "occurs", Section: "columns", Place: 130, Dimension: rulebook.Completeness,
		Says: "codes that must occur do: `must_occur`, or `all_occur` of the list",
		Declare: func(i *rulebook.Item) rulebook.Rule {
			list := i.CodesOf()
			if list == nil || !list.AllOccur && !slices.ContainsFunc(list.Codes,
				func(c rulebook.Code) bool { return c.MustOccur }) {
				return nil
			}
			return occurs{ofColumn{i.Column}}
		},
	})
}

// occurs is broken by codes that must occur and do not.
type occurs struct{ ofColumn }

// MetIn implements rulebook.CodesRule.
func (r occurs) MetIn() string { return r.name() }

func (r occurs) Unjudged(b *rulebook.Rulebook) (why string, excused bool) {
	if list := b.CodeLists[r.column.CodeList]; list.AllOccur {
		return list.Lacking, false
	}
	return "", false
}

func (r occurs) JudgeSummary(s rulebook.Summary) rulebook.Outcome {
	list, met := s.Cells(r.name()).Codes(), s.Met(r.name())
	absent, must := []string{}, 0
	for i := range list.Codes {
		one := &list.Codes[i]
		if one.Ended || !list.AllOccur && !one.MustOccur {
			continue
		}
		must++
		if !met[one.Code] {
			absent = append(absent, one.Code)
		}
	}
	if len(absent) == 0 {
		return rulebook.Outcome{}
	}
	o := rulebook.Outcome{Texts: map[string]int64{}}
	for _, code := range absent[:min(len(absent), textsKept)] {
		o.Texts[code] = 0
	}
	n := int64(len(absent))
	o.Found = fmt.Sprintf("%s of %s codes that must occur in %s %s not: %s.", document.Grouped(n),
		document.Grouped(int64(must)), r.name(), document.Plural(n, "does", "do"), document.First(absent))
	return o
}

func (r occurs) Says() string {
	return fmt.Sprintf("Every code of %s that must occur in %s does.", r.column.CodeList, r.name())
}

// Found is not asked: the outcome says it.
func (r occurs) Found(*rulebook.Broken) string { return "" }

package report

import (
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/personal"
	"proudsieve/core/profile"
	"proudsieve/core/question"
)

// masked returns the report with the texts of such columns masked wherever they stand.
func (r *Report) masked() *Report {
	names := question.Personal(r.Result)
	if r.ShowPersonal || len(names) == 0 {
		return r
	}
	is := func(name string) bool { return slices.Contains(names, name) }
	out, result := *r, *r.Result
	out.Result, out.Masked = &result, names
	result.Columns = slices.Clone(result.Columns)
	for i := range result.Columns {
		if c := &result.Columns[i]; is(c.Name) {
			c.Lowest, c.Highest, c.Mean, c.Frequent = personal.Mask(c.Lowest), personal.Mask(c.Highest), "", maskedTexts(c.Frequent)
			c.Numbers, c.Dates = nil, nil
		}
	}
	result.Findings = slices.Clone(result.Findings)
	for i := range result.Findings {
		if f := &result.Findings[i]; slices.ContainsFunc(f.Columns, is) {
			f.Found = maskedWithin(f.Found, f.Texts)
			f.Texts = maskedTexts(f.Texts)
		}
	}
	result.Leads = slices.Clone(result.Leads)
	for i := range result.Leads {
		if l := &result.Leads[i]; slices.ContainsFunc(l.Columns, is) {
			l.Says = maskedWithin(l.Says, l.Texts)
		}
	}
	out.Examples = map[string][]Example{}
	for rule, examples := range r.Examples {
		examples = slices.Clone(examples)
		for i := range examples {
			examples[i].Cells = slices.Clone(examples[i].Cells)
			for k := range examples[i].Cells {
				if c := &examples[i].Cells[k]; is(c.Column) {
					c.Text = personal.Mask(c.Text)
				}
			}
		}
		out.Examples[rule] = examples
	}
	return &out
}

// maskedWithin masks what a sentence quotes, and the texts that it names.
func maskedWithin(says string, texts []profile.Frequency) string {
	says = quotes.ReplaceAllStringFunc(says, func(quoted string) string {
		return `"` + personal.Mask(quoted[1:len(quoted)-1]) + `"`
	})
	for _, t := range texts {
		if len(t.Text) > 2 {
			says = strings.ReplaceAll(says, t.Text, personal.Mask(t.Text))
		}
	}
	return says
}

var quotes = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

func maskedTexts(texts []profile.Frequency) []profile.Frequency {
	out := slices.Clone(texts)
	for i := range out {
		out[i].Text = personal.Mask(out[i].Text)
	}
	return out
}

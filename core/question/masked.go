package question

import (
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/personal"
	"proudsieve/core/profile"
)

// Masked returns what an audit found with the texts of some columns masked wherever they stand; the result itself stays.
func Masked(r *audit.Result, names []string) *audit.Result {
	if len(names) == 0 {
		return r
	}
	is := func(name string) bool { return slices.Contains(names, name) }
	out := *r
	out.Columns = slices.Clone(r.Columns)
	for i := range out.Columns {
		if c := &out.Columns[i]; is(c.Name) {
			c.Lowest, c.Highest, c.Sum, c.Mean = personal.Mask(c.Lowest), personal.Mask(c.Highest), "", ""
			c.Numbers, c.Dates = nil, nil
			c.Frequent, c.Rare, c.Values, c.Exceptions = maskedTexts(c.Frequent), maskedTexts(c.Rare), maskedTexts(c.Values), maskedTexts(c.Exceptions)
		}
	}
	out.Findings = slices.Clone(r.Findings)
	for i := range out.Findings {
		if f := &out.Findings[i]; slices.ContainsFunc(f.Columns, is) {
			f.Found = maskedWithin(f.Found, f.Texts)
			f.Texts = maskedTexts(f.Texts)
		}
	}
	out.Leads, out.MeantSo = maskedLeads(r.Leads, is), maskedLeads(r.MeantSo, is)
	out.Defects = slices.Clone(r.Defects)
	for i := range out.Defects { // one that is of no single cell may have any
		if d := &out.Defects[i]; d.Column == "" || is(d.Column) {
			d.Detail = personal.Mask(d.Detail)
		}
	}
	out.There = r.There.Shown(false)
	out.Closing = slices.Clone(r.Closing)
	for i := range out.Closing {
		out.Closing[i] = personal.Mask(out.Closing[i])
	}
	return &out
}

func maskedLeads(all []audit.Lead, is func(string) bool) []audit.Lead {
	out := slices.Clone(all)
	for i := range out {
		if l := &out[i]; is(l.Column) || slices.ContainsFunc(l.Columns, is) {
			l.Says = maskedWithin(l.Says, l.Texts)
			l.Texts, l.Condition = maskedTexts(l.Texts), ""
		}
	}
	return out
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

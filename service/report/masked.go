package report

import (
	"slices"

	"proudsieve/core/personal"
	"proudsieve/core/question"
)

// masked returns the report with the texts of columns with personal data masked wherever they stand.
func (r *Report) masked() *Report {
	names := question.Personal(r.Result)
	if r.ShowPersonal || len(names) == 0 {
		return r
	}
	out := *r
	out.Result, out.Masked = question.Masked(r.Result, names), names
	out.Examples = map[string][]Example{}
	for rule, examples := range r.Examples {
		examples = slices.Clone(examples)
		for i := range examples {
			examples[i].Cells = slices.Clone(examples[i].Cells)
			for k := range examples[i].Cells {
				if c := &examples[i].Cells[k]; slices.Contains(names, c.Column) {
					c.Text = personal.Mask(c.Text)
				}
			}
		}
		out.Examples[rule] = examples
	}
	return &out
}

package audit

import (
	"slices"

	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// summary is what is known of the table in the end; it is a rulebook.Summary.
type summary struct{ *run }

func (s summary) at(column string) int { return slices.Index(s.plan.names, column) }

func (s summary) Rows() int64       { return s.rows }
func (s summary) Columns() []string { return s.plan.names }
func (s summary) Missing(column string) *table.RowSet {
	missing, estimated := s.missing[s.at(column)], s.plan.lacking(s.at(column))
	if estimated == nil {
		return missing
	}
	all := missing.Clone()
	all.Or(estimated)
	return all
}
func (s summary) Cells(column string) *rulebook.Cells { return s.plan.judges[s.at(column)].cells }
func (s summary) Met(column string) map[string]bool   { return s.run.met[s.at(column)] }
func (s summary) Book() *rulebook.Rulebook            { return s.plan.book }
func (s summary) Profile(column string) *profile.Column {
	p := s.summaries[s.at(column)].Column(number(s.Cells(column)))
	return &p
}

// judgeEnds judges what depends on how many rows there are, on profiles, on the codes that
// occur and on earlier deliveries.
func (r *run) judgeEnds() {
	for _, at := range r.plan.ends {
		c := r.plan.checks[at]
		if c.unjudged == "" {
			r.end(at, c.Rule.(rulebook.SummaryRule).JudgeSummary(summary{r}))
		}
	}
	for _, at := range r.plan.rows {
		v := &r.verdicts[at]
		if n := int64(v.rows.GetCardinality()); n > 0 && r.plan.checks[at].Rule.(rulebook.RowRule).
			Tolerates(n, r.rows) {
			v.tolerated = n
			v.rows.Clear()
		}
	}
}

// Past returns what later audits compare with.
func (r *Result) Past() rulebook.Past {
	p := rulebook.Past{Rows: r.Rows}
	for i := range r.Columns {
		c := &r.Columns[i]
		p.Columns = append(p.Columns, rulebook.PastColumn{Name: c.Name, Type: c.Type, Column: c.Column})
	}
	return p
}

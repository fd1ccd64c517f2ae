package audit

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// historyCheck is a history rule laid out over the columns of a table.
type historyCheck struct {
	check  int
	rule   *rulebook.HistoryRule
	column int // -1 for none
}

func (p *plan) historyChecks() {
	for i := range p.book.History {
		r := &p.book.History[i]
		columns := []string{}
		if r.Column != "" {
			columns = append(columns, r.Column)
		}
		c := &check{id: r.ID, kind: KindHistory, dimension: rulebook.Consistency, severity: r.Severity, columns: columns, says: historySays(r), reason: r.Reason}
		h := historyCheck{p.add(c), r, -1}
		if len(c.at) > 0 {
			h.column = c.at[0]
		}
		beside := p.book.Beside
		if c.unjudged == "" && r.Check != rulebook.NotOlderThan && (beside == nil || len(beside.Past) == 0) {
			c.unjudged, c.excused = "there is no earlier delivery to compare with", true
		}
		if c.unjudged == "" && r.Check == rulebook.NotOlderThan && (beside == nil || beside.Today == 0) {
			c.unjudged, c.excused = "nobody said which day it is", true
		}
		p.history = append(p.history, h)
	}
}

func historySays(r *rulebook.HistoryRule) string {
	last := "of the last delivery"
	if r.Last > 1 {
		last = fmt.Sprintf("of the last %d deliveries", r.Last)
	}
	switch r.Check {
	case rulebook.RowsSteady:
		return fmt.Sprintf("The number of rows is within %s %% of that %s.", decimalOf(r.Within), last)
	case rulebook.SameColumns:
		return "Every column of the last delivery is there, and of the same type."
	case rulebook.NoNewValues:
		return fmt.Sprintf("%s has no value that none %s had.", r.Column, last)
	case rulebook.MissingSteady:
		return fmt.Sprintf("The share of rows without a %s is within %s points of that %s.", r.Column, decimalOf(r.Within), last)
	case rulebook.MeanSteady:
		return fmt.Sprintf("The mean of %s is within %s %% of that %s.", r.Column, decimalOf(r.Within), last)
	case rulebook.ShapeSteady:
		return fmt.Sprintf("The distribution of %s is at a distance of at most %s %% from that %s.", r.Column, decimalOf(r.Within), last)
	}
	return fmt.Sprintf("The newest %s is at most %d days old.", r.Column, r.Days)
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

// judgeHistory compares the profile with those of earlier deliveries.
func (r *run) judgeHistory() {
	for _, h := range r.plan.history {
		c := r.plan.checks[h.check]
		if c.unjudged != "" {
			continue
		}
		beside := r.plan.book.Beside
		j := historyJudge{run: r, rule: h.rule, past: beside.Past[:min(len(beside.Past), h.rule.Last)], at: h.column, texts: &r.texts[h.check]}
		if h.column >= 0 {
			j.now = r.summaries[h.column].Column(number(r.plan.judges[h.column].cells))
			for _, p := range j.past {
				if one := p.Column(h.rule.Column); one != nil {
					j.then = append(j.then, one)
					j.rowsThen = append(j.rowsThen, p.Rows)
				}
			}
			if len(j.then) == 0 && h.rule.Check != rulebook.NotOlderThan {
				c.unjudged, c.excused = "no earlier delivery has a column "+h.rule.Column, true
				continue
			}
		}
		c.found, c.unjudged = j.judge()
	}
}

// historyJudge holds one column, or the table, against earlier ones.
type historyJudge struct {
	*run
	rule     *rulebook.HistoryRule
	past     []rulebook.Past
	at       int
	now      profile.Column
	then     []*rulebook.PastColumn // the last one first
	rowsThen []int64
	texts    *map[string]int64
}

// judge returns what was found, and why it could not be judged.
func (j *historyJudge) judge() (found, unjudged string) {
	switch j.rule.Check {
	case rulebook.RowsSteady:
		return j.rowCount(), ""
	case rulebook.SameColumns:
		return j.columns(), ""
	case rulebook.NoNewValues:
		return j.newValues()
	case rulebook.MissingSteady:
		return j.missing(), ""
	case rulebook.MeanSteady:
		return j.mean()
	case rulebook.ShapeSteady:
		return j.shape()
	}
	return j.age(), ""
}

func (j *historyJudge) rowCount() string {
	mean := 0.0
	for _, p := range j.past {
		mean += float64(p.Rows) / float64(len(j.past))
	}
	if math.Abs(float64(j.rows)-mean) <= mean*j.rule.Within/100 {
		return ""
	}
	return fmt.Sprintf("The table has %s rows; before it had %s%s.", Grouped(j.rows), Grouped(int64(math.Round(mean))), movedBy(float64(j.rows), mean))
}

func movedBy(now, then float64) string {
	if then == 0 {
		return ""
	}
	return fmt.Sprintf(", which is a change of %+.1f %%", (now/then-1)*100)
}

func (j *historyJudge) columns() string {
	var lost, changed []string
	for _, c := range j.past[0].Columns {
		switch at := slices.Index(j.plan.names, c.Name); {
		case at < 0:
			lost = append(lost, c.Name)
		case j.plan.judges[at].cells.Declared != nil && j.plan.judges[at].cells.Type != c.Type:
			changed = append(changed, fmt.Sprintf("%s, which was of type %s and is of type %s", c.Name, c.Type, j.plan.judges[at].cells.Type))
		}
	}
	found := ""
	if len(lost) > 0 {
		found = fmt.Sprintf("The last delivery had %s, and this one has not.", some(lost))
	}
	if len(changed) > 0 {
		found += fmt.Sprintf(" Of another type: %s.", some(changed))
	}
	return found
}

func (j *historyJudge) newValues() (found, unjudged string) {
	known := map[string]bool{}
	for _, c := range j.then {
		texts, ok := c.All()
		if !ok {
			return "", "the profiles of earlier deliveries do not list all values of " + j.rule.Column
		}
		for _, t := range texts {
			known[t.Text] = true
		}
	}
	texts, ok := j.now.All()
	if !ok {
		return "", j.rule.Column + " has too many values to compare"
	}
	fresh := []string{}
	*j.texts = map[string]int64{}
	for _, t := range texts {
		if !known[t.Text] {
			fresh = append(fresh, t.Text)
			(*j.texts)[t.Text] = t.Rows
		}
	}
	if len(fresh) == 0 {
		return "", ""
	}
	n := int64(len(fresh))
	return fmt.Sprintf("%s %s of %s %s not there before: %s.", Grouped(n), plural(n, "value", "values"), j.rule.Column, plural(n, "was", "were"), some(fresh)), ""
}

func percent(part, of int64) float64 {
	if of == 0 {
		return 0
	}
	return 100 * float64(part) / float64(of)
}

func (j *historyJudge) missing() string {
	now, then := percent(j.now.Missing, j.rows), 0.0
	for i, c := range j.then {
		then += percent(c.Missing, j.rowsThen[i]) / float64(len(j.then))
	}
	if math.Abs(now-then) <= j.rule.Within {
		return ""
	}
	return fmt.Sprintf("%.1f %% of the rows have no %s; before %.1f %% had none.", now, j.rule.Column, then)
}

func (j *historyJudge) mean() (found, unjudged string) {
	now, err := strconv.ParseFloat(j.now.Mean, 64)
	then, n := 0.0, 0
	for _, c := range j.then {
		if mean, err := strconv.ParseFloat(c.Mean, 64); err == nil {
			then += mean
			n++
		}
	}
	if err != nil || n == 0 {
		return "", j.rule.Column + " has no mean, now or before"
	}
	then /= float64(n)
	if math.Abs(now-then) <= math.Abs(then)*j.rule.Within/100 {
		return "", ""
	}
	return fmt.Sprintf("The mean of %s is %.6g; before it was %.6g%s.", j.rule.Column, now, then, movedBy(now, then)), ""
}

// shape measures how far two distributions are apart. For numbers it is the greatest
// difference between the shares of them below a number, taken at the quantiles of both
// (the statistic of Kolmogorov and Smirnov, on piecewise linear distributions); for texts half the
// sum of the differences of their shares (total variation). Both lie between 0 and 1.
func (j *historyJudge) shape() (found, unjudged string) {
	then := &j.then[0].Column
	var distance float64
	if j.now.Numbers != nil && then.Numbers != nil {
		distance = apart(j.now.Numbers.Quantiles, then.Numbers.Quantiles)
	} else {
		a, ok := j.now.All()
		b, also := then.All()
		if !ok || !also {
			return "", j.rule.Column + " has too many values to compare"
		}
		distance = variation(a, j.now.Filled, b, then.Filled)
	}
	if distance*100 <= j.rule.Within {
		return "", ""
	}
	return fmt.Sprintf("The distribution of %s is at a distance of %.1f %% from the last one; at most %s %% are allowed.", j.rule.Column, distance*100, decimalOf(j.rule.Within)), ""
}

func variation(a []profile.Frequency, inA int64, b []profile.Frequency, inB int64) float64 {
	shares := map[string]float64{}
	for _, t := range a {
		shares[t.Text] += float64(t.Rows) / float64(max(inA, 1))
	}
	for _, t := range b {
		shares[t.Text] -= float64(t.Rows) / float64(max(inB, 1))
	}
	differences := make([]float64, 0, len(shares))
	for _, d := range shares {
		differences = append(differences, math.Abs(d))
	}
	slices.Sort(differences) // the order of a map would show in the last digit
	sum := 0.0
	for _, d := range differences {
		sum += d
	}
	return sum / 2
}

func apart(a, b []profile.Quantile) float64 {
	most := 0.0
	for _, q := range append(slices.Clone(a), b...) {
		most = max(most, math.Abs(shareBelow(a, q.Number)-shareBelow(b, q.Number)))
	}
	return most
}

// shareBelow interpolates between quantiles.
func shareBelow(quantiles []profile.Quantile, x float64) float64 {
	for i, q := range quantiles {
		switch {
		case q.Number < x:
		case i == 0 && q.Number > x:
			return 0
		case q.Number > x:
			before := quantiles[i-1]
			return before.Share + (q.Share-before.Share)*(x-before.Number)/(q.Number-before.Number)
		case i+1 == len(quantiles) || quantiles[i+1].Number > x:
			return q.Share
		}
	}
	return 1
}

func (j *historyJudge) age() string {
	v, ok := table.StandardFormat.Parse(j.plan.judges[j.at].cells.Type, j.now.Highest)
	if !ok {
		return fmt.Sprintf("%s has no date.", j.rule.Column)
	}
	day := v.When
	if v.Kind == table.Instant {
		day = v.When / (86_400 * 1_000_000)
	}
	old := j.plan.book.Beside.Today - day
	if old <= int64(j.rule.Days) {
		return ""
	}
	return fmt.Sprintf("The newest %s is %s, %s days before the audit; at most %d are allowed.", j.rule.Column, j.now.Highest, Grouped(old), j.rule.Days)
}

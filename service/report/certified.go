package report

import (
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/question"
)

// Certified is the page that goes with a certified table to those who own the data, and those who use it. It answers in this
// order: what is this, may I use it, what for not, what was changed, what is estimated, assumed or accepted, who says so, how can
// I check.
type Certified struct {
	Digest    string // of the certificate
	Title     string // of the dataset
	Statement *certify.Statement
	Signers   []string // who signed it besides
	// Not says why the certificate counts no more; empty where it does.
	Not     string
	Columns []CertifiedColumn
	// Found are the findings of each table of the chain in words, by its number and their rules, with personal data masked.
	Found map[int64]map[string]string
}

// CertifiedColumn is what a column of the table is.
type CertifiedColumn struct {
	pack.Meaning
	// Profile is what is in it; nil where that is not known, and for personal data.
	Profile *audit.Column
}

// Judgement is how a column stands in the table of the page.
func (c *CertifiedColumn) Judgement() string {
	score, err := strconv.ParseFloat(c.Score, 64)
	if err != nil {
		return c.Score
	}
	return document.Score(score)
}

// Said gives the findings of an audit in words, by their rules, with personal data masked.
func Said(result *audit.Result) map[string]string {
	out := map[string]string{}
	for _, f := range (&Report{Result: result}).masked().Result.Findings {
		out[f.Rule] = f.Found
	}
	return out
}

// Profiles gives the columns of an audit by their names, without those that seem to hold personal data.
func Profiles(result *audit.Result) map[string]*audit.Column {
	out, hidden := map[string]*audit.Column{}, question.Personal(result)
	for i := range result.Columns {
		if c := &result.Columns[i]; !slices.Contains(hidden, c.Name) {
			out[c.Name] = c
		}
	}
	return out
}

// Arrived are the deliveries that the table rests on.
func (c *Certified) Arrived() (out []Arrival) {
	for i := range c.Statement.Chain {
		if l := &c.Statement.Chain[i]; l.Origin == "delivery" {
			one := Arrival{Link: l}
			var source struct {
				Provider string `json:"provider"`
			}
			if json.Unmarshal(l.Source, &source) == nil {
				one.Provider = source.Provider
			}
			if l.Judged != nil {
				one.Rows, one.Wrong = document.Grouped(l.Judged.Rows), c.wrong(l)
			}
			out = append(out, one)
		}
	}
	return out
}

// Arrival is a delivery that the table rests on.
type Arrival struct {
	*certify.Link
	Provider, Rows string
	Wrong          []Became
}

// Became is a finding with what became of it.
type Became struct{ Found, Became string }

func (c *Certified) wrong(l *certify.Link) (out []Became) {
	for _, f := range l.Judged.Findings {
		says := c.Found[l.Number][f.Rule]
		if says == "" {
			says = fmt.Sprintf("%s: %s", f.Rule, document.Counted(f.Rows, "row breaks it", "rows break it"))
		}
		out = append(out, Became{says, strings.ReplaceAll(f.Became, "_", " ")})
	}
	return out
}

// Mind says what speaks against using the table for everything, the gravest first.
func (c *Certified) Mind() (out []string) {
	s := c.Statement
	for _, a := range s.Accepted {
		out = append(out, fmt.Sprintf("%s This stands in the table (%s).", c.found(a.Rule, a.Found), meaning(a.Severity)))
	}
	for _, w := range s.Waivers {
		says := fmt.Sprintf("%s accepted in %s: %s. Why: %s", w.By, w.Dataset, covers(&w), w.Reason)
		out = append(out, strings.TrimSuffix(says, ".")+".")
	}
	for _, r := range s.Audit.Rules {
		switch {
		case r.Unjudged != "":
			out = append(out, fmt.Sprintf("%s could not be judged: %s.", r.Rule, r.Unjudged))
		case r.Undecided > 0:
			out = append(out, fmt.Sprintf("%s could not be decided for %s, for want of a value.", r.Rule, document.Counted(r.Undecided, "row", "rows")))
		case r.Tolerated > 0:
			out = append(out, fmt.Sprintf("%s break %s, which is within what its rulebook allows.", document.Counted(r.Tolerated, "row", "rows"), r.Rule))
		}
	}
	for _, col := range s.Table.Columns {
		if col.Estimated > 0 {
			out = append(out, fmt.Sprintf("%s of the %s in %s are estimates. They carry less spread than what was measured; leave them out by the marks where single values, extremes or spread matter.",
				document.Grouped(col.Estimated), document.Counted(col.Filled, "value", "values"), col.Name))
		}
	}
	if says := gaps(s.Table.Columns, s.Table.Rows); says != "" {
		out = append(out, says)
	}
	for _, e := range s.Eased {
		out = append(out, fmt.Sprintf("Version %d of the rulebook of %s asks less than the one before: %s. %s decided it%s, because: %s", e.Version, e.Dataset,
			strings.TrimSuffix(strings.Join(e.Says, "; "), "."), e.By, agreed(&e), e.Reason))
	}
	return out
}

// gaps says how much is missing in which columns, the emptiest first.
func gaps(columns []certify.ColumnFacts, rows int64) string {
	columns = slices.DeleteFunc(slices.Clone(columns), func(c certify.ColumnFacts) bool { return c.Missing == 0 })
	slices.SortStableFunc(columns, func(a, b certify.ColumnFacts) int { return int(b.Missing - a.Missing) })
	var parts []string
	for _, c := range columns {
		parts = append(parts, fmt.Sprintf("%s in %s (%s %%)", c.Name, document.Grouped(c.Missing), document.Score(100*float64(c.Missing)/float64(max(rows, 1)))))
	}
	if len(parts) == 0 {
		return ""
	}
	return fmt.Sprintf("Of %s, something is missing: %s. Counts, sums and means are of the others.", document.Counted(rows, "row", "rows"), strings.Join(parts, ", "))
}

func (c *Certified) found(rule, otherwise string) string {
	if n := len(c.Statement.Chain); n > 0 {
		if says := c.Found[c.Statement.Chain[n-1].Number][rule]; says != "" {
			return says
		}
	}
	return otherwise
}

func covers(w *certify.Waiver) string {
	says := w.Rule
	if says == "" {
		says = w.Subject
	}
	if w.Covers != "" {
		says += ", " + w.Covers
	}
	if w.Until != "" {
		says += ", until " + w.Until
	}
	if w.Only {
		says += ", for this delivery alone"
	}
	return says
}

func agreed(e *certify.Eased) string {
	if e.AgreedBy == "" || e.AgreedBy == e.By {
		return ""
	}
	return " and " + e.AgreedBy + " agreed"
}

// Change is what was done to make one table of others.
type Change struct {
	Link     *certify.Link
	Says     string // from how many rows to how many
	Measures []Measure
	Steps    []ChangeStep
	Joins    []string
}

// Measure is the sum of a column before and after.
type Measure struct{ Name, Before, After string }

// ChangeStep is what one step of a fix plan did.
type ChangeStep struct {
	Kind, Reason, Did string
}

// Changes are what was done to the deliveries, in order. A table whose accounting cannot be read is told with what its certificate
// says of it.
func (c *Certified) Changes() (out []Change) {
	for i := range c.Statement.Chain {
		switch l := &c.Statement.Chain[i]; l.Origin {
		case "cleaned":
			out = append(out, cleaned(l))
		case "merged":
			out = append(out, merged(l))
		}
	}
	return out
}

func cleaned(l *certify.Link) Change {
	one := Change{Link: l, Says: "How it was made cannot be told: its ledger is of another version."}
	var ledger fix.Ledger
	if json.Unmarshal(l.Ledger, &ledger) != nil {
		return one
	}
	one.Says = fmt.Sprintf("%s came, %s were handed over.", document.Counted(ledger.RowsIn, "row", "rows"), document.Counted(ledger.RowsOut, "row", "rows"))
	one.Measures = measures(ledger.SumsIn, ledger.SumsOut)
	for _, s := range together(ledger.Steps) {
		one.Steps = append(one.Steps, ChangeStep{strings.ReplaceAll(s.Kind, "_", " "), s.Reason, did(&s)})
	}
	return one
}

// together leaves steps out that were switched off, and counts those as one that follow each other, of a kind and for a reason.
func together(steps []fix.LedgerStep) (out []fix.LedgerStep) {
	plain := func(s *fix.LedgerStep) bool { return s.Estimated == nil && s.RowsMade == nil && len(s.Columns) == 0 }
	for _, s := range steps {
		if s.Off {
			continue
		}
		if n := len(out); n > 0 && out[n-1].Kind == s.Kind && out[n-1].Reason == s.Reason && plain(&s) && plain(&out[n-1]) {
			out[n-1].Cells, out[n-1].Rows = out[n-1].Cells+s.Cells, out[n-1].Rows+s.Rows
			continue
		}
		out = append(out, s)
	}
	return out
}

// did says in words how much a step changed.
func did(s *fix.LedgerStep) string {
	var parts []string
	if s.Estimated != nil {
		parts = append(parts, document.Counted(s.Estimated.Filled, "cell", "cells")+" of "+s.Estimated.Column+" estimated")
	} else if s.Cells > 0 {
		parts = append(parts, document.Counted(s.Cells, "cell", "cells")+" changed")
	}
	if s.Rows > 0 {
		parts = append(parts, document.Counted(s.Rows, "row", "rows")+" set aside")
	}
	if s.RowsBefore != nil && s.RowsMade != nil {
		parts = append(parts, fmt.Sprintf("%s made of %s", document.Counted(*s.RowsMade, "row", "rows"), document.Grouped(*s.RowsBefore)))
	}
	if len(s.Columns) > 0 {
		parts = append(parts, "columns named or placed anew")
	}
	if len(parts) == 0 {
		return "nothing to do"
	}
	return strings.Join(parts, ", ")
}

func merged(l *certify.Link) Change {
	one := Change{Link: l, Says: "How it was made cannot be told: its accounting is of another version."}
	var a merge.Accounting
	if json.Unmarshal(l.Accounting, &a) != nil {
		return one
	}
	var from []string
	for _, in := range a.Inputs {
		says := document.Counted(in.Rows, "row", "rows") + " of " + in.Dataset
		if in.SetAside > 0 {
			says += " (" + document.Grouped(in.SetAside) + " gave way to another table's)"
		}
		if in.Grain != nil {
			says += ", gathered to another grain"
		}
		from = append(from, says)
	}
	one.Says = fmt.Sprintf("%s of %s.", document.Counted(a.Rows, "row was made", "rows were made"), strings.Join(from, " and "))
	for _, j := range a.Joins {
		says := fmt.Sprintf("Joined with %s on %s: %s of %s rows met one", j.With, strings.Join(j.On, ", "), document.Grouped(j.Matched), document.Grouped(j.RowsIn))
		if j.Unmatched > 0 {
			says += fmt.Sprintf(", %s met none", document.Grouped(j.Unmatched))
			if j.SetAside > 0 {
				says += fmt.Sprintf(" (%s of them set aside)", document.Grouped(j.SetAside))
			}
		}
		if j.Multiplied > 0 {
			says += fmt.Sprintf(", %s added since a key was there more than once", document.Counted(j.Multiplied, "row", "rows"))
		}
		if j.Added > 0 {
			says += fmt.Sprintf(", %s of %s kept that no row asked for", document.Counted(j.Added, "row", "rows"), j.With)
		}
		one.Joins = append(one.Joins, says+".")
	}
	before := a.Stack.Sums
	if len(a.Joins) > 0 {
		before = a.Joins[0].SumsIn
	}
	one.Measures = measures(before, a.Sums)
	return one
}

func measures(before, after map[string]string) (out []Measure) {
	for _, name := range slices.Sorted(maps.Keys(after)) {
		out = append(out, Measure{name, grouped(before[name]), grouped(after[name])})
	}
	return out
}

// Estimate is a column that was filled by estimates.
type Estimate struct {
	Table    int64
	Dataset  string
	Reason   string
	Says     string
	Warnings []string
}

// Estimates are what was filled in, with the method, from all tables of the chain.
func (c *Certified) Estimates() (out []Estimate) {
	for i := range c.Statement.Chain {
		l := &c.Statement.Chain[i]
		var ledger fix.Ledger
		if l.Origin != "cleaned" || json.Unmarshal(l.Ledger, &ledger) != nil {
			continue
		}
		for _, s := range ledger.Steps {
			if e := s.Estimated; e != nil {
				says := fmt.Sprintf("%s of %s, by %s, from %s.", document.Counted(e.Filled, "cell", "cells"), e.Column, strings.ReplaceAll(e.Method, "_", " "),
					document.Counted(e.Observed, "cell that has a value", "cells that have a value"))
				if e.Open > 0 {
					says += fmt.Sprintf(" %s open, since there was nothing to go by.", document.Counted(e.Open, "gap stayed", "gaps stayed"))
				}
				if e.MeanFrom != nil && e.MeanTo != nil {
					says += fmt.Sprintf(" The mean lies between %s and %s (95 %%).", short(number(*e.MeanFrom)), short(number(*e.MeanTo)))
				}
				out = append(out, Estimate{l.Number, l.Dataset, s.Reason, says, e.Warnings})
			}
		}
	}
	return out
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Answered are the questions to which the owners of the data gave an answer, and Open counts those to which they gave none.
func (c *Certified) Answered() (out []certify.QuestionFact) {
	for _, q := range c.Statement.Questions {
		if q.Answer != "" {
			out = append(out, q)
		}
	}
	return out
}

// Open counts the questions without an answer.
func (c *Certified) Open() int64 { return int64(len(c.Statement.Questions) - len(c.Answered())) }

// Voice is somebody, and what they did for the table.
type Voice struct {
	Who  string
	Acts []Act
}

// Act is something that somebody did, to one thing or several.
type Act struct {
	Did string
	To  []string
}

// Did says in words what somebody did.
func (v *Voice) Did() string {
	var parts []string
	for _, a := range v.Acts {
		parts = append(parts, strings.TrimSpace(a.Did+" "+strings.Join(a.To, ", ")))
	}
	return strings.Join(parts, "; ")
}

// Voices are those who worked on the table and what it rests on, and who vouch for it: signers first.
func (c *Certified) Voices() (out []*Voice) {
	say := func(who, did, to string) {
		if who == "" {
			return
		}
		at := slices.IndexFunc(out, func(v *Voice) bool { return v.Who == who })
		if at < 0 {
			out, at = append(out, &Voice{Who: who}), len(out)
		}
		v := out[at]
		act := slices.IndexFunc(v.Acts, func(a Act) bool { return a.Did == did })
		if act < 0 {
			v.Acts, act = append(v.Acts, Act{Did: did}), len(v.Acts)
		}
		if a := &v.Acts[act]; to != "" && !slices.Contains(a.To, to) {
			a.To = append(a.To, to)
		}
	}
	s := c.Statement
	say(s.CertifiedBy, "certified the table on "+day(s.CertifiedAt), "")
	for _, who := range c.Signers {
		say(who, "signed the certificate too", "")
	}
	for i := range s.Chain {
		l := &s.Chain[i]
		say(l.By, map[string]string{"delivery": "took in", "cleaned": "put right", "merged": "put together"}[l.Origin], l.Dataset)
	}
	for _, w := range s.Waivers {
		say(w.By, "accepted findings of", w.Dataset)
	}
	for _, e := range s.Eased {
		say(e.By, "decided that less is asked of", e.Dataset)
		if e.AgreedBy != e.By {
			say(e.AgreedBy, "agreed that less is asked of", e.Dataset)
		}
	}
	for _, q := range c.Answered() {
		say(q.By, "answered for the data of", q.Dataset)
	}
	return out
}

func day(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.Format("2 January 2006")
}

// Passed says by how much the table passed.
func (c *Certified) Passed() string {
	a := c.Statement.Audit
	return fmt.Sprintf("%s of 100, with a pass mark of %s", trimmed(a.Score), trimmed(a.PassMark))
}

func trimmed(score string) string {
	v, err := strconv.ParseFloat(score, 64)
	if err != nil {
		return score
	}
	return strings.TrimSuffix(document.Score(v), ".00")
}

var certifiedPage = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("certified.html").Funcs(template.FuncMap{
		"count": document.Grouped, "counted": document.Counted, "join": strings.Join, "day": day, "picture": func(c *audit.Column) template.HTML { return picture(*c) }, "visible": Visible, "grouped": grouped,
		"says":    func(answer string) string { return question.Answer(answer).Says() },
		"several": func(n int) string { return document.Counted(int64(n), "delivery", "deliveries") },
		"broken": func(rules []audit.Judged) (n int64) {
			for _, r := range rules {
				if r.Rows > 0 && r.Unjudged == "" {
					n++
				}
			}
			return n
		},
		"musts": func(all []CertifiedColumn) []CertifiedColumn {
			return slices.DeleteFunc(slices.Clone(all), func(c CertifiedColumn) bool { return c.Must == "" })
		},
	}).ParseFS(pages, "certified.html", "dictionary.html"))
})

// WriteDictionary writes a page of its own on what each column is.
func WriteDictionary(out io.Writer, c *Certified) error {
	return certifiedPage().ExecuteTemplate(out, "dictionary", c)
}

// WriteCertified writes the page. It needs no account, no script and no network, and prints on A4.
func WriteCertified(out io.Writer, c *Certified) error { return certifiedPage().Execute(out, c) }

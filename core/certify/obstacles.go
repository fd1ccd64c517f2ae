package certify

import (
	"fmt"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/waiver"
)

// Facts is what Obstacles looks at.
type Facts struct {
	Origin     string // of the table: only a merged or cleaned one is certified,
	There      bool   // or one that lies in a database, where nothing can be put right from here
	Ruled      bool   // the dataset has a rulebook
	Unbalanced string // where the rows of what it was made of do not add up to its own; empty where they do
	Audited    bool   // by the newest version of its dataset's rulebook
	Passed     bool
	Score      float64
	PassMark   float64
	Findings   []audit.Finding
	Rules      []audit.Judged
	Waived     map[string]waiver.Covered // what waivers in force accept of the findings, by rule
	OpenStops  []OpenIssue               // of this dataset and of the inputs', neither closed nor waived
	Waiting    []Waiting                 // decisions about rulebooks that a second person has not taken
	// Who did something that somebody else has to answer for.
	FixedBy, WaivedBy, AnsweredBy, EasedBy []string
	Withdrawn                              string // why the table, or one that it was made of, was withdrawn; empty where none was
	CertifiedBy                            string
}

// OpenIssue is an issue of severity major.
type OpenIssue struct {
	Number  int64
	Dataset string
	Title   string
	Asked   bool // the owner of the data was asked, and has not answered
}

// Waiting is a decision that somebody else has to take.
type Waiting struct {
	Number  int64
	Dataset string
}

// Obstacle is one thing that stands between a table and a certificate, and what would remove it.
type Obstacle struct {
	Kind string `json:"kind" enum:"origin,withdrawn,rows,rulebook,audit,rule,score,issue,decision,person"`
	Says string `json:"says"`
	// Dataset, Rule and Number lead to what would remove it: a rulebook, the findings of a rule, an issue or a decision.
	Dataset string `json:"dataset,omitempty"`
	Rule    string `json:"rule,omitempty"`
	Number  int64  `json:"number,omitempty" doc:"Of an issue or a decision"`
}

// Obstacles says each thing that stands between the table and a certificate. An
// empty list means that it may be certified.
func Obstacles(f Facts) []Obstacle {
	out := []Obstacle{}
	add := func(o Obstacle, format string, args ...any) {
		o.Says = fmt.Sprintf(format, args...)
		out = append(out, o)
	}
	if f.Origin == "delivery" && !f.There {
		add(Obstacle{Kind: "origin"}, "The table is a delivery as it arrived; only a cleaned or merged table is certified. Apply a fix plan first, even one without steps.")
	}
	if f.Withdrawn != "" {
		add(Obstacle{Kind: "withdrawn"}, "The table was withdrawn: %s", f.Withdrawn)
	}
	if f.Unbalanced != "" {
		add(Obstacle{Kind: "rows"}, "Its rows are not accounted for: %s. Run the merge again.", f.Unbalanced)
	}
	switch {
	case !f.Ruled:
		add(Obstacle{Kind: "rulebook"}, "The dataset has no rulebook, so that nothing says what must hold of the table. Declare one; what could hold is proposed on the page of the dataset.")
	case !f.Audited:
		add(Obstacle{Kind: "audit"}, "The table has no finished audit by the newest version of its rulebook. Start one.")
	case !f.Passed:
		out = append(out, f.short()...)
	}
	for _, issue := range f.OpenStops {
		o := Obstacle{Kind: "issue", Number: issue.Number, Dataset: issue.Dataset}
		if issue.Asked {
			add(o, "Issue %d of %s stops the table, and its owner was asked and has not answered: %s", issue.Number, issue.Dataset, issue.Title)
		} else {
			add(o, "Issue %d of %s stops the table and is neither closed nor waived: %s", issue.Number, issue.Dataset, issue.Title)
		}
	}
	for _, d := range f.Waiting {
		add(Obstacle{Kind: "decision", Number: d.Number, Dataset: d.Dataset}, "Decision %d, by which the rulebook of %s becomes weaker, waits for a second person.", d.Number, d.Dataset)
	}
	for _, who := range []struct {
		did  []string
		what string
	}{{f.FixedBy, "applied the fixes"}, {f.WaivedBy, "waived what was found"}, {f.AnsweredBy, "answered what the owner of the data was asked"},
		{f.EasedBy, "made a rulebook weaker that the table is judged by"}} {
		for _, name := range who.did {
			if name == f.CertifiedBy {
				add(Obstacle{Kind: "person"}, "%s %s, so somebody else has to certify the table.", name, who.what)
				break
			}
		}
	}
	return out
}

// short says why a table that was audited does not pass, but for what was waived.
func (f *Facts) short() (out []Obstacle) {
	for _, finding := range f.Findings {
		if finding.Severity != rulebook.Major {
			continue
		}
		covered, waived := f.Waived[finding.Rule]
		o := Obstacle{Kind: "rule", Rule: finding.Rule}
		switch {
		case !waived:
			o.Says = fmt.Sprintf("The rule %s, which stops the table, is broken: %s", finding.Rule, finding.Found)
		case covered.Otherwise:
			o.Says = fmt.Sprintf("The rule %s is broken otherwise than was waived: %s", finding.Rule, finding.Found)
		case covered.Beyond > 0:
			o.Says = fmt.Sprintf("The rule %s is broken by %s beyond what was waived: %s", finding.Rule, document.Counted(covered.Beyond, "row", "rows"), finding.Found)
		default:
			continue
		}
		out = append(out, o)
	}
	for _, rule := range f.Rules {
		if rule.Unjudged != "" && !rule.Excused {
			out = append(out, Obstacle{Kind: "rule", Rule: rule.Rule, Says: fmt.Sprintf("The rule %s could not be judged: %s", rule.Rule, rule.Unjudged)})
		}
	}
	if f.Score < f.PassMark {
		out = append(out, Obstacle{Kind: "score", Says: fmt.Sprintf("The score of the table is %s, below its pass mark of %g.", document.Score(f.Score), f.PassMark)})
	}
	return out
}

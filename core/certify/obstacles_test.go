package certify

import (
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/waiver"
)

func TestObstacles(t *testing.T) {
	good := Facts{Origin: "merged", Ruled: true, Audited: true, Passed: true, Score: 98, PassMark: 95, CertifiedBy: "Jonas",
		FixedBy: []string{"Mara"}, Waived: map[string]waiver.Covered{}}
	stop := audit.Finding{Rule: "one_result", Rows: 2, Severity: rulebook.Major, Found: "2 of 10 rows are surplus."}
	for _, c := range []struct {
		name   string
		change func(f *Facts)
		want   []string // a part of each
	}{
		{"nothing", func(*Facts) {}, nil},
		{"a delivery", func(f *Facts) { f.Origin = "delivery" }, []string{"a delivery as it arrived"}},
		{"no rulebook", func(f *Facts) { f.Ruled, f.Audited, f.Passed = false, false, false },
			[]string{"The dataset has no rulebook, so that nothing says what must hold of the table."}},
		{"rows that nobody accounts for", func(f *Facts) { f.Unbalanced = "the accounting of the merge has 744 rows of a, and its table has 2232" },
			[]string{"Its rows are not accounted for: the accounting of the merge has 744 rows of a, and its table has 2232. Run the merge again."}},
		{"no audit", func(f *Facts) { f.Audited, f.Passed = false, false },
			[]string{"no finished audit by the newest version of its rulebook"}},
		{"a stop rule", func(f *Facts) { f.Passed = false; f.Findings = []audit.Finding{stop} },
			[]string{"one_result, which stops the table, is broken: 2 of 10 rows are surplus."}},
		{"a waived stop rule", func(f *Facts) {
			f.Passed = false
			f.Findings = []audit.Finding{stop}
			f.Waived["one_result"] = waiver.Covered{Rows: 2, Covered: 2}
		}, nil},
		{"more than was waived", func(f *Facts) {
			f.Passed = false
			f.Findings = []audit.Finding{stop}
			f.Waived["one_result"] = waiver.Covered{Rows: 2, Covered: 1, Beyond: 1}
		}, []string{"one_result is broken by 1 row beyond what was waived: 2 of 10 rows are surplus."}},
		{"one's own waiver", func(f *Facts) { f.WaivedBy = []string{"Ines", "Jonas"} },
			[]string{"Jonas waived what was found, so somebody else has to certify"}},
		{"a rule against earlier deliveries that says something else than was waived", func(f *Facts) {
			f.Passed, f.Findings = false, []audit.Finding{{Rule: "steady", Severity: rulebook.Major, Found: "The mean moved by 300 %."}}
			f.Waived["steady"] = waiver.Covered{Otherwise: true}
		}, []string{"steady is broken otherwise than was waived: The mean moved by 300 %."}},
		{"a rule that could not be judged", func(f *Facts) {
			f.Passed, f.Rules = false, []audit.Judged{{Rule: "known", Unjudged: "Nothing of stations has arrived yet."}, {Rule: "steady", Unjudged: "There is no earlier delivery.", Excused: true}}
		}, []string{"known could not be judged: Nothing of stations has arrived yet."}},
		{"a decision that nobody took", func(f *Facts) { f.Waiting = []Waiting{{4, "north"}} }, []string{"Decision 4, by which the rulebook of north becomes weaker, waits"}},
		{"one's own answer", func(f *Facts) { f.AnsweredBy = []string{"Jonas"} }, []string{"Jonas answered what the owner of the data was asked"}},
		{"one's own weaker rulebook", func(f *Facts) { f.EasedBy = []string{"Jonas"} }, []string{"Jonas made a rulebook weaker"}},
		{"a withdrawn table", func(f *Facts) { f.Withdrawn = "the wrong file" },
			[]string{"The table was withdrawn: the wrong file"}},
		{"the score", func(f *Facts) { f.Passed = false; f.Score = 94.5 },
			[]string{"The score of the table is 94.50, below its pass mark of 95."}},
		{"an open issue", func(f *Facts) { f.OpenStops = []OpenIssue{{7, "north", "8 rows", false}} },
			[]string{"Issue 7 of north stops the table and is neither closed nor waived: 8 rows"}},
		{"one's own fixes", func(f *Facts) { f.CertifiedBy = "Mara" },
			[]string{"Mara applied the fixes, so somebody else has to certify"}},
		{"several", func(f *Facts) {
			f.Audited = false
			f.CertifiedBy = "Mara"
			f.OpenStops = []OpenIssue{{1, "a", "x", false}, {2, "b", "y", true}}
		}, []string{"no finished audit", "Issue 1", "Issue 2", "Mara"}},
	} {
		f := good
		f.Waived = map[string]waiver.Covered{}
		c.change(&f)
		got := Obstacles(f)
		if len(got) != len(c.want) {
			t.Errorf("%s: %+v", c.name, got)
			continue
		}
		for i := range got {
			if !strings.Contains(got[i].Says, c.want[i]) {
				t.Errorf("%s: %q, want %q", c.name, got[i].Says, c.want[i])
			}
		}
	}
}

package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/waiver"
)

// following is one issue of a rule, followed over audits.
type following struct {
	*testing.T
	s      *Store
	person *Person
	set    *Dataset
	n      int
	table  *Table // that was audited last
}

func followed(t *testing.T) *following {
	s := open(t)
	return &following{T: t, s: s, person: person(t, s, "Mara"), set: dataset(t, s, "results")}
}

// audit records an audit of a new delivery that found the rule broken in so many rows; in none where it holds, and did not
// judge it for -1. made says how the table was made here.
func (f *following) audit(rows int64, made string) *Issue {
	f.Helper()
	f.n++
	f.table = delivery(f.T, f.s, f.set, f.person, fmt.Sprint("digest ", f.n))
	w := Followed{DatasetID: f.set.ID, AuditID: audited(f.T, f.s, f.table, f.person), TableID: f.table.ID, Made: made,
		Cover: func(i *Issue, waivers []Waiver) (*waiver.Covered, error) {
			scopes := make([]waiver.Scope, len(waivers))
			for at := range waivers {
				if err := json.Unmarshal(waivers[at].Scope, &scopes[at]); err != nil {
					return nil, err
				}
			}
			return waiver.Cover(context.Background(), nil, waiver.Finding{Rows: i.Rows, Of: 3000}, scopes)
		}}
	switch {
	case rows > 0:
		w.Found = []FoundRule{{"one_result", "major", fmt.Sprintf("%d rows", rows), rows}}
	case rows == 0:
		w.Held = []string{"one_result"}
	}
	if err := f.s.Do(ctx, func(tx *sqlx.Tx) error { return FollowIssues(ctx, tx, w) }); err != nil {
		f.Fatal(err)
	}
	return f.issue()
}

func (f *following) issue() *Issue {
	f.Helper()
	page, err := Issues(ctx, f.s.DB, IssueFilter{Dataset: "results"}, Cursor{})
	if err != nil || len(page.Items) != 1 {
		f.Fatalf("%+v, %v", page, err)
	}
	return &page.Items[0]
}

// waive accepts so many rows of a table of 3,000.
func (f *following) waive(rows int64, until *time.Time, only *int64) {
	f.Helper()
	scope, _ := json.Marshal(waiver.Scope{Count: rows, Of: 3000})
	if _, err := AddWaiver(ctx, f.s.DB, NewWaiver{IssueID: f.issue().ID, Scope: scope, Covers: "rows", Reason: "it is meant so", PersonID: f.person.ID, Until: until, TableID: only}); err != nil {
		f.Fatal(err)
	}
	f.becomes(IssueWaived, EndedAccepted)
}

func (f *following) becomes(state, ended string) {
	f.Helper()
	change := IssueChange{State: &state}
	if ended != "" {
		change.Ended = &ended
	}
	if i := f.issue(); true {
		if err := ChangeIssue(ctx, f.s.DB, i.ID, i.Version, change); err != nil {
			f.Fatal(err)
		}
	}
}

func (f *following) want(what string, i *Issue, state, ended string) {
	f.Helper()
	got := ""
	if i.Ended != nil {
		got = *i.Ended
	}
	if i.State != state || got != ended {
		f.Errorf("%s: the issue is %s %q, want %s %q", what, i.State, got, state, ended)
	}
}

func (f *following) entries() (kinds []string, last IssueEntry) {
	f.Helper()
	all, err := IssueEntries(ctx, f.s.DB, f.issue().ID)
	if err != nil {
		f.Fatal(err)
	}
	for _, e := range all {
		kinds = append(kinds, e.Kind)
	}
	return kinds, all[len(all)-1]
}

func day(days int) *time.Time {
	at := time.Now().UTC().AddDate(0, 0, days)
	return &at
}

func TestAnIssueIsFollowedAcrossAudits(t *testing.T) {
	f := followed(t)
	f.want("found", f.audit(5, ""), IssueOpen, "")
	if i := f.audit(7, ""); i.State != IssueOpen || i.Rows != 7 {
		t.Errorf("found again: %+v", i)
	}
	f.want("the next delivery has none of it", f.audit(0, ""), IssueClosed, EndedCorrected)
	f.want("nor has the one after", f.audit(0, ""), IssueClosed, EndedCorrected)
	f.want("not judged", f.audit(-1, ""), IssueClosed, EndedCorrected)
	f.want("found anew", f.audit(2, ""), IssueOpen, "")
	kinds, _ := f.entries()
	if want := []string{"opened", "seen", "closed", "reopened"}; !slices.Equal(kinds, want) {
		t.Errorf("what happened: %v, want %v", kinds, want)
	}
	if err := ChangeIssue(ctx, f.s.DB, f.issue().ID, f.issue().Version-1, IssueChange{}); !errors.Is(err, ErrConflict) {
		t.Errorf("a change of an older version: %v", err)
	}
}

// A table that was made here has none of it: that is no correction, and no answer where the owner of the data was asked.
func TestWhatIsPutRightHereIsNotCorrected(t *testing.T) {
	f := followed(t)
	f.audit(5, "")
	f.want("a cleaned table", f.audit(0, "Table 2, which the fix plan p version 1 made, has none of it."), IssueClosed, EndedPutRight)
	if _, last := f.entries(); last.Kind != "closed" || !strings.HasPrefix(last.Text, "Table 2, which the fix plan") {
		t.Errorf("%+v", last)
	}
	f.audit(5, "")
	f.becomes(IssueAsked, "")
	i := f.audit(0, "Table 4 has none of it. The plan took 3 rows out of the table.")
	f.want("the owner has not answered", i, IssueAsked, "")
	if _, last := f.entries(); i.HoldsAuditID == nil || last.Kind != "put_right" || !strings.Contains(last.Text, "took 3 rows out") {
		t.Errorf("%+v, %+v", i, last)
	}
	if i := f.audit(4, ""); i.State != IssueAsked || i.HoldsAuditID != nil {
		t.Errorf("the next delivery has it again: %+v", i)
	}
	f.want("the next one has none of it", f.audit(0, ""), IssueClosed, EndedCorrected)
}

func TestAWaiverHoldsForWhatItWasGivenFor(t *testing.T) {
	f := followed(t)
	f.audit(1, "")
	f.waive(1, day(30), nil)
	f.want("as many rows as were waived", f.audit(1, ""), IssueWaived, EndedAccepted)
	f.want("more rows than were waived", f.audit(133, ""), IssueOpen, "")
	if kinds, last := f.entries(); last.Kind != "reopened" || last.Text != "132 more than was waived. 133 rows" {
		t.Errorf("%v, %+v", kinds, last)
	}
	f.want("the waiver is in force, and holds again", f.audit(1, ""), IssueWaived, EndedAccepted)
	f.want("none of it", f.audit(0, ""), IssueClosed, EndedCorrected)
	f.want("within the waiver", f.audit(1, ""), IssueWaived, EndedAccepted)
	if n, err := EndWaivers(ctx, f.s.DB, f.issue().ID, 0, f.person.ID); err != nil || n != 1 {
		t.Errorf("%d, %v", n, err)
	}
	f.want("somebody ended it", f.audit(1, ""), IssueOpen, "")
	if _, last := f.entries(); last.Kind != "expired" {
		t.Errorf("%+v", last)
	}
}

func TestAWaiverHoldsAsLongAsWasSaid(t *testing.T) {
	f := followed(t)
	f.audit(1, "")
	f.waive(1, day(-2), nil)
	f.want("its days are over", f.audit(1, ""), IssueOpen, "")
	f.waive(1, nil, nil)
	f.want("it has no end", f.audit(1, ""), IssueWaived, EndedAccepted)
	if _, err := EndWaivers(ctx, f.s.DB, f.issue().ID, 0, f.person.ID); err != nil {
		t.Fatal(err)
	}
	f.becomes(IssueOpen, "")
	f.waive(1, nil, &f.table.ID)
	cleaned := cleanedFrom(t, f)
	for table, n := range map[int64]int{f.table.ID: 1, cleaned: 1} {
		if all, err := WaiversFor(ctx, f.s.DB, f.set.ID, table); err != nil || len(all) != n {
			t.Errorf("for table %d: %+v, %v", table, all, err)
		}
	}
	f.want("it was for the delivery before alone", f.audit(1, ""), IssueOpen, "")
}

func cleanedFrom(t *testing.T, f *following) int64 {
	t.Helper()
	plan, err := AddDeclaration(ctx, f.s.DB, NewDeclaration{Kind: KindFixPlan, DatasetID: f.set.ID, Name: "p", Source: "x", Digest: "x", AuthorID: f.person.ID})
	if err != nil {
		t.Fatal(err)
	}
	made, err := AddTable(ctx, f.s.DB, NewTable{DatasetID: f.set.ID, Origin: OriginCleaned, Digest: "c", FileName: "c.csv", ParentID: &f.table.ID, DeclarationID: &plan.ID, Accounting: []byte("{}"), CreatedBy: f.person.ID})
	if err != nil {
		t.Fatal(err)
	}
	return made.ID
}

// An issue whose rule is gone is closed by who decided that, or goes on as that of another rule, with its waivers.
func TestAnIssueLosesItsRule(t *testing.T) {
	f := followed(t)
	f.audit(1, "")
	lost, err := Lost(ctx, f.s.DB, f.set.ID, []string{"another_rule"})
	if err != nil || len(lost) != 1 {
		t.Fatalf("%+v, %v", lost, err)
	}
	if err := LoseRule(ctx, f.s.DB, &lost[0], "another_rule", 2, "it was renamed", f.person.ID); err != nil {
		t.Fatal(err)
	}
	if i := f.issue(); i.Rule != "another_rule" || i.State != IssueOpen {
		t.Errorf("%+v", i)
	}
	lost, _ = Lost(ctx, f.s.DB, f.set.ID, nil)
	if err := LoseRule(ctx, f.s.DB, &lost[0], "", 3, "nobody needs it", f.person.ID); err != nil {
		t.Fatal(err)
	}
	f.want("closed", f.issue(), IssueClosed, EndedRuleChanged)
	if _, last := f.entries(); *last.Person != "Mara" || last.Text != "Version 3 of the rulebook has no rule another_rule any more: nobody needs it" {
		t.Errorf("%+v", last)
	}
}

func TestALostIssueGoesOnAsTheOneThatThereIs(t *testing.T) {
	f := followed(t)
	f.audit(1, "")
	f.waive(1, nil, nil)
	gone := f.issue()
	other, err := AddIssue(ctx, f.s.DB, NewIssue{DatasetID: f.set.ID, AuditID: *gone.AuditID, PersonID: f.person.ID, Subject: "rule", Rule: "other", Title: "x", Severity: "major", About: []byte("{}")})
	if err != nil {
		t.Fatal(err)
	}
	if err := LoseRule(ctx, f.s.DB, gone, "other", 2, "they were one", f.person.ID); err != nil {
		t.Fatal(err)
	}
	was, err := FindIssue(ctx, f.s.DB, gone.ID)
	if err != nil {
		t.Fatal(err)
	}
	f.want("the one without a rule", was, IssueClosed, EndedRuleChanged)
	if all, err := WaiversOf(ctx, f.s.DB, other); err != nil || len(all) != 1 {
		t.Errorf("its waivers went along: %+v, %v", all, err)
	}
}

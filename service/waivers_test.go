package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/waiver"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const phBook = `dataset: samples
columns: [{name: id}, {name: parameter}, {name: value, type: decimal, to: 14, severity: major}]
keys: [{id: one, columns: [id]}]
pass_mark: 0
`

// issueOfRule is the issue of a rule of samples.
func issueOfRule(t *testing.T, c *client.Client, rule string) *records.IssueShown {
	t.Helper()
	all, err := servicetest.All[records.Issue](ctx, c, "/issues?dataset=samples")
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range all {
		if i.Rule == rule {
			shown, err := c.ShowIssue(ctx, i.ID)
			if err != nil {
				t.Fatal(err)
			}
			return shown
		}
	}
	t.Fatalf("there is no issue of %s: %+v", rule, all)
	return nil
}

func last(i *records.IssueShown) records.IssueEntry { return i.Entries[len(i.Entries)-1] }

func TestRowsThatWereWaivedAreKnownAgainAndOthersAreNot(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	first := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,99\nb,PH,50\nc,PH,7\n")
	audited(t, r.Steward, first.Table.ID)
	i := issueOfRule(t, r.Steward, "value.range")
	// One of the two rows: the other stays open.
	i, err := r.Steward.Waive(ctx, i.ID, client.Waived{Of: client.WaivedOfRows, Rows: []int32{1}, Reason: "The meter was set so.", For: client.WaivedForGood})
	if err != nil || i.State != "open" || i.Given[0].Covers != "1 row, by id and value" || !strings.HasSuffix(last(i).Text, "1 more than was waived.") {
		t.Fatalf("%+v, %v", i, err)
	}
	i, err = r.Steward.Waive(ctx, i.ID, client.Waived{Of: client.WaivedOfRows, Reason: "That one too.", For: client.WaivedForGood})
	if err != nil || i.State != "waived" || *i.Ended != "accepted" || i.Waivers != 2 {
		t.Fatalf("%+v, %v", i, err)
	}
	// The next delivery has both in another order and writing, and the next after it a value that nobody accepted.
	second := deliver(t, r.Steward, "samples", "id,parameter,value\nx,PH,6\nb,PH,50.0\na,PH,99\n")
	a := audited(t, r.Steward, second.Table.ID)
	if i = issueOfRule(t, r.Steward, "value.range"); i.State != "waived" {
		t.Errorf("%+v", i)
	}
	of, err := servicetest.Get[[]struct {
		Waiver  records.Waiver
		Covered waiver.Covered
	}](ctx, r.Reader, fmt.Sprintf("/audits/%d/waivers", a.ID))
	if err != nil || len(*of) != 2 || (*of)[0].Covered.Covered != 2 || (*of)[0].Waiver.Reason != "The meter was set so." {
		t.Errorf("%+v, %v", of, err)
	}
	third := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,990\nb,PH,50\n")
	audited(t, r.Steward, third.Table.ID)
	if i = issueOfRule(t, r.Steward, "value.range"); i.State != "open" || !strings.HasPrefix(last(i).Text, "1 more than was waived.") {
		t.Errorf("%+v", last(i))
	}
	// With the second waiver ended b is beyond as well.
	i, err = r.Steward.EndWaiver(ctx, i.ID, i.Given[0].ID, &client.EndWaiverParams{IfMatch: client.Seen(i.Version)})
	if err != nil || i.State != "open" || i.Waivers != 1 || i.Given[0].InForce || *i.Given[0].EndedBy != "Mara" {
		t.Errorf("%+v, %v", i, err)
	}
}

func TestTextsAndDeliveriesThatAreWaived(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", strings.Replace(phBook, "pass_mark", "rules: [{id: known, condition: \"parameter IN ('PH', 'NO3')\", severity: minor}]\npass_mark", 1))
	d := deliver(t, r.Steward, "samples", "id,parameter,value\na,PX,9\nb,PX,5\nc,TEMP,7\nd,PH,20\n")
	audited(t, r.Steward, d.Table.ID)
	i := issueOfRule(t, r.Steward, "known")
	_, err := r.Steward.Waive(ctx, i.ID, client.Waived{Of: client.WaivedOfTexts, Texts: []string{"ZZ"}, Reason: "not there", For: client.WaivedForGood})
	refused(t, "a text that no row has", err, http.StatusUnprocessableEntity, "nothing would be accepted")
	_, err = r.Steward.Waive(ctx, i.ID, client.Waived{Of: client.WaivedOfTexts, Column: "value", Texts: []string{"9"}, Reason: "wrong column", For: client.WaivedForGood})
	refused(t, "a column that the rule does not speak of", err, http.StatusUnprocessableEntity, `"value" is none`)
	_, err = r.Steward.Waive(ctx, i.ID, client.Waived{Reason: "without an end"})
	refused(t, "neither a day nor how long", err, http.StatusUnprocessableEntity, "for this delivery, or for good")
	i, err = r.Steward.Waive(ctx, i.ID, client.Waived{Of: client.WaivedOfTexts, Texts: []string{"PX"}, Reason: "Their name for pH.", For: client.WaivedForGood})
	if err != nil || i.State != "open" || i.Given[0].Covers != `1 text of parameter: "PX"` {
		t.Fatalf("%+v, %v", i, err)
	}
	high := issueOfRule(t, r.Steward, "value.range")
	if high, err = r.Steward.Waive(ctx, high.ID, client.Waived{Reason: "this time", For: client.WaivedForDelivery}); err != nil || high.State != "waived" {
		t.Fatalf("%+v, %v", high, err)
	}
	next := deliver(t, r.Steward, "samples", "id,parameter,value\na,PX,9\nb,PX,5\nc,PX,7\nd,PH,20\n")
	audited(t, r.Steward, next.Table.ID)
	if i = issueOfRule(t, r.Steward, "known"); i.State != "waived" || i.Rows != 3 {
		t.Errorf("a text is accepted in any number of rows: %+v", i)
	}
	if high = issueOfRule(t, r.Steward, "value.range"); high.State != "open" || last(high).Kind != "expired" {
		t.Errorf("it was for the delivery before alone: %+v", last(high))
	}
}

// What was accepted once does not let more through at the certificate (133 rows went under a waiver for one).
func TestACertificateKnowsWhatAWaiverCovers(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: samples\nsteps: []\n")
	clean := func(content string) int64 {
		t.Helper()
		d := deliver(t, r.Steward, "samples", content)
		audited(t, r.Steward, d.Table.ID)
		made := applyPlan(t, r, d.Table.ID, "p")
		audited(t, r.Steward, made.ID)
		return made.ID
	}
	obstacles := func(id int64) string {
		t.Helper()
		o, err := client.Decode[api.Obstacles](r.Certifier.ListObstacles(ctx, id))
		if err != nil {
			t.Fatal(err)
		}
		raw, _ := json.Marshal(o.Obstacles)
		return string(raw)
	}
	one := clean("id,parameter,value\na,PH,99\n")
	if got := obstacles(one); !strings.Contains(got, `"kind":"rule"`) || !strings.Contains(got, `"rule":"value.range"`) || !strings.Contains(got, `"kind":"issue"`) {
		t.Errorf("%s", got)
	}
	i := issueOfRule(t, r.Steward, "value.range")
	if _, err := r.Steward.Waive(ctx, i.ID, client.Waived{Reason: "The meter was set so.", For: client.WaivedForGood}); err != nil {
		t.Fatal(err)
	}
	if got := obstacles(one); got != "[]" {
		t.Errorf("%s", got)
	}
	var many strings.Builder
	many.WriteString("id,parameter,value\n")
	for n := range 133 {
		fmt.Fprintf(&many, "s%d,PH,99\n", n)
	}
	if got := obstacles(clean(many.String())); !strings.Contains(got, "broken by 132 rows beyond what was waived") || !strings.Contains(got, "is neither closed nor waived") {
		t.Errorf("%s", got)
	}
	c, err := r.Certifier.CertifyTable(ctx, one, client.Certifying{})
	if err == nil {
		t.Errorf("the issue is open again, and stops the earlier table too: %+v", c)
	}
}

func TestAnIssueIsClosedWithAReasonOnlyWhereNothingOfItIsFound(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: samples\nsteps: [{do: set_aside, where: value > 14, reason: nobody knows}]\n")
	d := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,99\nb,PH,7\n")
	audited(t, r.Steward, d.Table.ID)
	i := issueOfRule(t, r.Steward, "value.range")
	_, err := r.Steward.End(ctx, i.ID, client.Closing{Ended: "corrected", Reason: "they said so"})
	refused(t, "what is still found", err, http.StatusConflict, "is still found: 1 of 2 rows has a value out of range in value.")
	asked := client.IssueChangedStateAsked
	owner, due := "Highgarth laboratory", "2026-01-31"
	if i, err = r.Steward.EditIssue(ctx, i.ID, client.IssueChanged{State: &asked, Owner: &owner, Due: &due}); err != nil || !i.Overdue || i.Owner != owner {
		t.Fatalf("%+v, %v", i, err)
	}
	if late, err := servicetest.All[records.Issue](ctx, r.Reader, "/issues?overdue=true&owner=Highgarth%20laboratory&order=due"); err != nil || len(late) != 1 {
		t.Errorf("%+v, %v", late, err)
	}
	// The row is set aside, and nobody has answered.
	made := applyPlan(t, r, d.Table.ID, "p")
	audited(t, r.Steward, made.ID)
	i = issueOfRule(t, r.Steward, "value.range")
	if i.State != "asked" || i.HoldsAuditID == nil || last(i).Kind != "put_right" || !strings.Contains(last(i).Text, "took 1 row out of the table") {
		t.Errorf("%+v, %+v", i.Issue, last(i))
	}
	o, err := client.Decode[api.Obstacles](r.Certifier.ListObstacles(ctx, made.ID))
	if err != nil || len(o.Obstacles) != 1 || !strings.Contains(o.Obstacles[0].Says, "its owner was asked and has not answered") || o.Obstacles[0].Number != i.ID {
		t.Errorf("%+v, %v", o, err)
	}
	if i, err = r.Steward.End(ctx, i.ID, client.Closing{Ended: "put_right", Reason: "The laboratory is closed for the winter."}); err != nil || i.State != "closed" || *i.Ended != "put_right" {
		t.Errorf("%+v, %v", i, err)
	}
}

func TestSeveralIssuesAreSettledAtOnceOrNone(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,99\na,PH,7\n").Table.ID)
	high, twice := issueOfRule(t, r.Steward, "value.range"), issueOfRule(t, r.Steward, "one")
	jonas, owner := "Jonas", "the survey office"
	done, err := r.Steward.ChangeIssues(ctx, client.SeveralBody{Issues: []int64{high.ID, twice.ID}, Reason: "Both are of one sheet.", Change: &client.IssueChanged{Assignee: &jonas, Owner: &owner}})
	if err != nil || len(*done) != 2 || *(*done)[1].Assignee != "Jonas" || (*done)[0].Owner != owner {
		t.Fatalf("%+v, %v", done, err)
	}
	_, err = r.Steward.ChangeIssues(ctx, client.SeveralBody{Issues: []int64{high.ID, 999}, Waiver: &client.Waived{Reason: "both", Until: "2099-01-01"}})
	refused(t, "one of them is not there", err, http.StatusConflict, "Nothing was changed: it cannot be done with 1 issue.")
	if i := issueOfRule(t, r.Steward, "value.range"); i.State != "open" || len(i.Given) != 0 || last(i).Text != "Both are of one sheet." {
		t.Errorf("%+v", i)
	}
	if _, err = r.Steward.ChangeIssues(ctx, client.SeveralBody{Issues: []int64{high.ID, twice.ID}, Waiver: &client.Waived{Reason: "both", Until: "2099-01-01"}}); err != nil {
		t.Fatal(err)
	}
	if i := issueOfRule(t, r.Steward, "one"); i.State != "waived" || last(i).Text != "both (for 1 row of 2, until 2099-01-01)" {
		t.Errorf("%+v", last(i))
	}
	_, err = r.Steward.ChangeIssues(ctx, client.SeveralBody{Issues: []int64{1}})
	refused(t, "nothing to be done", err, http.StatusUnprocessableEntity, "Say one thing")
}

// An issue that a person made of rows or of a text is followed too.
func TestIssuesOfRowsAndTextsAreFollowed(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	d := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,99\nb,PH,98\nc,PH,7\n")
	a := audited(t, r.Steward, d.Table.ID)
	rows, err := r.Steward.MakeIssue(ctx, a.ID, client.MakeIssueJSONRequestBody{Rows: []int32{3}, Title: "Is this one right?"})
	if err != nil {
		t.Fatal(err)
	}
	text, err := r.Steward.MakeIssue(ctx, a.ID, client.MakeIssueJSONRequestBody{Rule: "value.range", Text: "98"})
	if err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,parameter,value\nb,PH,98.0\nz,PH,98\nc,PH,7.0\n").Table.ID)
	if i, err := r.Steward.ShowIssue(ctx, text.ID); err != nil || i.State != "open" || i.Rows != 2 || i.Title != `"98" stands in 2 rows of value.` {
		t.Errorf("%+v, %v", i, err)
	}
	if i, err := r.Steward.ShowIssue(ctx, rows.ID); err != nil || i.State != "open" || i.Rows != 1 {
		t.Errorf("%+v, %v", i, err)
	}
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,parameter,value\nb,PH,8\nc,PH,70\n").Table.ID)
	for _, id := range []int64{rows.ID, text.ID} {
		if i, err := r.Steward.ShowIssue(ctx, id); err != nil || i.State != "closed" || *i.Ended != "corrected" {
			t.Errorf("%+v, %v", i, err)
		}
	}
}

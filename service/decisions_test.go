package service_test

import (
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestAWeakerRulebookNeedsAReason(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,\n").Table.ID)
	stricter := book + "# with a remark\n"
	declareAfter(t, r.Steward, "rulebooks", stricter, 1)
	weaker := strings.Replace(stricter, ", required: true", "", 1)
	_, err := r.Steward.DeclareAfter(ctx, "rulebooks", []byte(weaker), 2)
	refused(t, "without a reason", err, http.StatusConflict, "By this version open issues lose their rules.")
	for _, says := range []string{"weaker: The column value no longer has required yes.", "loses its rule value.required: 1 of 2 rows has nothing in value."} {
		if !strings.Contains(err.Error(), says) {
			t.Errorf("%v does not say %q", err, says)
		}
	}
	_, err = r.Steward.Ease(ctx, []byte(weaker), 2, "not every meter tells it")
	refused(t, "without what becomes of the issue", err, http.StatusConflict, "lose their rules")
	_, err = r.Steward.Ease(ctx, []byte(weaker), 2, "not every meter tells it", records.LostRule{Rule: "value.required", To: "nothing"})
	refused(t, "to a rule that is not there", err, http.StatusUnprocessableEntity, "has no rule nothing")
	d, err := r.Steward.Ease(ctx, []byte(weaker), 2, "not every meter tells it", records.LostRule{Rule: "value.required"})
	if err != nil || d.Version != 3 || d.Waits != nil {
		t.Fatalf("%+v, %v", d, err)
	}
	issues, err := servicetest.All[records.Issue](ctx, r.Reader, "/issues")
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range issues {
		shown, err := r.Reader.ShowIssue(ctx, i.ID)
		if err != nil {
			t.Fatal(err)
		}
		if gone := i.Rule == "value.required"; gone != (i.State == "closed") || gone && (*i.Ended != "rule_changed" || *last(shown).Person != "Mara" ||
			last(shown).Text != "Version 3 of the rulebook has no rule value.required any more: not every meter tells it") {
			t.Errorf("%s is %s; %+v", i.Rule, i.State, last(shown))
		}
	}
	all, err := servicetest.All[records.Decision](ctx, r.Reader, "/decisions?dataset=samples")
	if err != nil || len(all) != 1 || *all[0].Outcome != "agreed" || *all[0].DecidedBy != "Mara" || *all[0].Version != 3 || !strings.Contains(string(all[0].Weaker), "no longer has required") {
		t.Errorf("%+v, %v", all, err)
	}
}

func TestASecondPersonAgreesToAWeakerRulebook(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", phBook)
	_, err := r.Steward.AskSecondPerson(ctx, "samples", client.SecondBody{Asked: true})
	refused(t, "a steward asks for a second person", err, http.StatusForbidden, "the right to administer")
	if d, err := r.Admin.AskSecondPerson(ctx, "samples", client.SecondBody{Asked: true}); err != nil || !d.SecondPerson {
		t.Fatalf("%+v, %v", d, err)
	}
	wider := strings.Replace(phBook, "to: 14", "to: 140", 1)
	ask := func() *records.Declaration {
		t.Helper()
		d, err := r.Steward.Ease(ctx, []byte(wider), 1, "the other unit")
		if err != nil || d.Waits == nil || d.Version != 0 {
			t.Fatalf("%+v, %v", d, err)
		}
		return d
	}
	first := ask()
	if now, err := r.Reader.ShowRulebooks(ctx, "samples", "samples", nil); err != nil || now.Version != 1 {
		t.Errorf("nothing changes before somebody agreed: %+v, %v", now, err)
	}
	_, err = r.Steward.TakeDecision(ctx, *first.Waits, client.OutcomeBody{Agree: true})
	refused(t, "one's own", err, http.StatusForbidden, "Mara asked for decision 1, so somebody else has to agree")
	_, err = r.Reader.TakeDecision(ctx, *first.Waits, client.OutcomeBody{Agree: true})
	refused(t, "a reader", err, http.StatusForbidden, "the right to discuss")
	if d, err := r.Certifier.TakeDecision(ctx, *first.Waits, client.OutcomeBody{Remark: "which unit?"}); err != nil || *d.Outcome != "refused" || d.Version != nil || d.Remark != "which unit?" {
		t.Errorf("%+v, %v", d, err)
	}
	_, err = r.Certifier.TakeDecision(ctx, *first.Waits, client.OutcomeBody{Agree: true})
	refused(t, "twice", err, http.StatusConflict, "was taken already")
	second := ask()
	if d, err := r.Certifier.TakeDecision(ctx, *second.Waits, client.OutcomeBody{Agree: true}); err != nil || *d.Outcome != "agreed" || *d.Version != 2 || *d.DecidedBy != "Jonas" {
		t.Errorf("%+v, %v", d, err)
	}
	if now, err := r.Reader.ShowRulebooks(ctx, "samples", "samples", nil); err != nil || now.Version != 2 || now.Author != "Mara" {
		t.Errorf("%+v, %v", now, err)
	}
	// A stricter one needs nobody; what was asked from an earlier version is not agreed to any more.
	third, err := r.Steward.Ease(ctx, []byte(strings.Replace(wider, "to: 140", "to: 1400", 1)), 2, "once more")
	if err != nil {
		t.Fatal(err)
	}
	declareAfter(t, r.Steward, "rulebooks", strings.Replace(wider, "to: 140", "to: 13", 1), 2)
	_, err = r.Certifier.TakeDecision(ctx, *third.Waits, client.OutcomeBody{Agree: true})
	refused(t, "an outdated one", err, http.StatusConflict, "has become version 3 since this was asked")
}

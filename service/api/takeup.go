package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/question"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/waiver"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// AnswersProposed is what would be done with answers.
type AnswersProposed struct {
	question.Proposal
	Dataset string `json:"dataset"`
	Table   int64  `json:"table" doc:"The delivery that it was worked out for: the newest of the dataset"`
	FixPlan string `json:"fix_plan"`
	Version int    `json:"version" doc:"The version of the fix plan that the steps are added to; 0 for a new plan"`
	Source  string `json:"source" doc:"The text of the fix plan with the steps; it can be previewed as it stands, and is not saved"`
	// Instead are changes of the rulebook that would do instead of waivers.
	Instead  []question.SaidInstead `json:"instead" doc:"What of that which is meant so could be said in the rulebook instead, for every delivery"`
	Rulebook int                    `json:"rulebook" doc:"The version of the rulebook that these changes are of; 0 where there is none"`

	before   string // the text of that version
	answered []question.Answered
}

// TakenUp says which answers are taken up, and which are left.
type TakenUp struct {
	Dataset string   `json:"dataset" minLength:"1" maxLength:"60"`
	FixPlan string   `json:"fix_plan,omitempty" maxLength:"60" doc:"The fix plan that steps are added to, which is made where there is none; the standing plan of the dataset where it is left out, or one that is called answers"`
	Version int      `json:"version" minimum:"0" maximum:"2147483647" doc:"The version of it that was proposed for"`
	Table   int64    `json:"table" minimum:"0" maximum:"9007199254740991" doc:"The delivery that it was proposed for"`
	Take    []string `json:"take,omitempty" maxItems:"500" doc:"The codes of the answers that are taken up as they are proposed"`
	Declare []string `json:"declare,omitempty" maxItems:"500" doc:"The codes among them of what is said in the rulebook instead of being waived"`
	Rules   int      `json:"rulebook,omitempty" minimum:"0" maximum:"2147483647" doc:"The version of the rulebook that this was proposed for"`
	Leave   []string `json:"leave,omitempty" maxItems:"500" doc:"The codes of those that are not"`
	Reason  string   `json:"reason,omitempty" maxLength:"2000" doc:"Why they are left; needed where some are"`
}

// takingUp adds what makes of answers steps and waivers.
func (s *Server) takingUp() {
	type proposing struct {
		ByID
		Dataset string `query:"dataset" maxLength:"60" doc:"Of which dataset; needed where the sheet asks about several"`
		FixPlan string `query:"fix_plan" maxLength:"60" doc:"The fix plan that steps are added to"`
	}
	register(s, operation{
		Right: access.Work, ID: "propose-from-answers", Method: http.MethodGet, Path: "/sheets/{id}/proposal",
		Summary: "What the answers of a sheet would become: steps of a fix plan for what is wrong, waivers for exactly what is meant so. Nothing is done",
	}, func(ctx context.Context, in *proposing) (*body[AnswersProposed], error) {
		dataset, err := s.datasetOf(ctx, in.ID, in.Dataset)
		if err != nil {
			return nil, err
		}
		of, err := s.waiting(ctx, in.ID, dataset)
		if err != nil {
			return nil, err
		}
		return answer(s.proposedFrom(ctx, of, dataset, in.FixPlan))
	})
	type taking struct {
		ByID
		Body TakenUp
	}
	register(s, operation{
		Right: access.Work, ID: "take-up-answers", Method: http.MethodPost, Path: "/sheets/{id}/taking-up",
		Summary: "Take up answers as they are proposed: steps become the next version of the fix plan, and what is meant so is waived, all at once. Or leave them, with a reason",
	}, func(ctx context.Context, in *taking) (*body[records.SheetShown], error) {
		if err := s.takeUp(ctx, in.ID, in.Body); err != nil {
			return nil, err
		}
		return answer(s.sheet(ctx, in.ID))
	})
}

// datasetOf is the dataset that a sheet asks about.
func (s *Server) datasetOf(ctx context.Context, sheet int64, named string) (string, error) {
	all, err := store.QuestionsIn(ctx, s.Store.DB, sheet)
	if err != nil {
		return "", err
	}
	if len(all) == 0 {
		return "", fmt.Errorf("%w: there is no sheet %d", store.ErrNotFound, sheet)
	}
	var datasets []string
	for _, q := range all {
		if !slices.Contains(datasets, q.Dataset) {
			datasets = append(datasets, q.Dataset)
		}
	}
	switch {
	case named != "" && !slices.Contains(datasets, named), named == "" && len(datasets) > 1:
		return "", invalid("The sheet asks about %s; name one of them.", document.Join(datasets))
	case named == "":
		return datasets[0], nil
	}
	return named, nil
}

// planFor returns the fix plan that steps are added to: the newest version of its name, or the beginning of a new one.
func (s *Server) planFor(ctx context.Context, d *records.Dataset, name string) (source, called string, version int, err error) {
	if name == "" && d.StandingPlan != nil {
		name = *d.StandingPlan
	}
	if name == "" {
		name = "answers"
	}
	plan, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindFixPlan, d.ID, name))
	if err != nil {
		return "", "", 0, err
	}
	if plan != nil {
		return plan.Source, name, plan.Version, nil
	}
	return fmt.Sprintf("fix_plan: %s\ndataset: %s\nsteps: []\n", name, d.Name), name, 0, nil
}

// waiting are the questions of a sheet about a dataset with answers that nobody has taken up or left.
func (s *Server) waiting(ctx context.Context, sheet int64, dataset string) ([]records.Question, error) {
	all, err := store.QuestionsIn(ctx, s.Store.DB, sheet)
	return slices.DeleteFunc(all, func(q records.Question) bool { return q.Dataset != dataset || q.Answer == nil || q.Outcome != nil }), err
}

// proposedFrom works out what the answers to some questions would become.
func (s *Server) proposedFrom(ctx context.Context, of []records.Question, dataset, plan string) (*AnswersProposed, error) {
	d, err := store.FindDataset(ctx, s.Store.DB, dataset)
	if err != nil {
		return nil, err
	}
	newest, err := store.NewestDelivery(ctx, s.Store.DB, d.ID, d.Name)
	if errors.Is(err, store.ErrNotFound) { // a dataset that merges make: what is right is put right where it came from
		newest, err = store.NewestMerged(ctx, s.Store.DB, d.ID, d.Name)
	}
	if err != nil {
		return nil, err
	}
	t, err := s.inside(ctx, newest.ID)
	if err != nil {
		return nil, err
	}
	var answered []question.Answered
	for i := range of {
		r := &of[i]
		q, err := asQuestion(r)
		if err != nil {
			return nil, err
		}
		given := question.Given{Code: r.Code, Answer: question.Answer(*r.Answer), Note: *r.Note}
		if err := json.Unmarshal(*r.Right, &given.Right); err != nil {
			return nil, err
		}
		issue, err := store.FindIssue(ctx, s.Store.DB, r.IssueID)
		if err != nil {
			return nil, err
		}
		rule := ""
		if issue.Subject == "rule" {
			rule = issue.Rule
		}
		answered = append(answered, question.Answered{Question: *q, Given: given, By: *r.AnsweredBy, Rule: rule})
	}
	p, err := question.Propose(ctx, t.Table, answered)
	if err != nil {
		return nil, err
	}
	out := &AnswersProposed{Proposal: *p, Dataset: dataset, Table: newest.ID, Instead: []question.SaidInstead{}, answered: answered}
	if err := s.proposeInstead(ctx, d, out); err != nil {
		return nil, err
	}
	if out.Source, out.FixPlan, out.Version, err = s.planFor(ctx, d, plan); err != nil {
		return nil, err
	}
	var changes []edit.StepChange
	for _, step := range p.Steps {
		changes = append(changes, step.Change)
	}
	out.Source, err = edit.Plans.Apply(out.Source, changes)
	return out, err
}

// proposeInstead works out what could be said in the rulebook instead of being waived.
func (s *Server) proposeInstead(ctx context.Context, d *records.Dataset, p *AnswersProposed) error {
	newest, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, d.ID, d.Name))
	if err != nil || newest == nil {
		return err
	}
	p.Rulebook, p.before = newest.Version, newest.Source
	p.Instead, err = question.Instead(newest.Source, p.answered)
	return err
}

// declareInstead saves the rulebook with what is meant so, and says of each answer what became of it.
func (s *Server) declareInstead(ctx context.Context, tx *sqlx.Tx, p *AnswersProposed, codes []string, became map[string]string) error {
	source, _, err := question.Changed(p.before, p.Instead, codes)
	if err != nil {
		return err
	}
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		return err
	}
	in := &SavingRulebook{}
	in.Body.Source = source
	in.Body.Reason = question.Reason(slices.DeleteFunc(slices.Clone(p.answered), func(a question.Answered) bool { return !slices.Contains(codes, a.Question.Code) }))
	saved, err := s.saveIn(ctx, tx, in, book, p.Rulebook)
	if err != nil {
		return err
	}
	as := fmt.Sprintf("Version %d of the rulebook", saved.Version)
	if saved.Waits != nil {
		as = fmt.Sprintf("Decision %d, which waits for a second person", *saved.Waits)
	}
	for _, c := range p.Instead {
		if slices.Contains(codes, c.Code) {
			became[c.Code] = as + ": " + c.Says
		}
	}
	return nil
}

// takeUp takes answers up, or leaves them.
func (s *Server) takeUp(ctx context.Context, sheet int64, in TakenUp) error {
	if len(in.Take)+len(in.Leave) == 0 {
		return invalid("Name the answers that are taken up, or left, by their codes.")
	}
	if len(in.Leave) > 0 && in.Reason == "" {
		return invalid("Say why these answers are left.")
	}
	if _, err := s.datasetOf(ctx, sheet, in.Dataset); err != nil {
		return err
	}
	all, err := s.waiting(ctx, sheet, in.Dataset)
	if err != nil {
		return err
	}
	chosen := append(slices.Clone(in.Take), in.Leave...)
	for _, code := range chosen {
		if !slices.ContainsFunc(all, func(q records.Question) bool { return q.Code == code }) {
			return huma.NewError(http.StatusConflict, fmt.Sprintf("%s is no answer of the sheet that waits for being taken up.", code))
		}
	}
	only := func(codes []string) []records.Question {
		return slices.DeleteFunc(slices.Clone(all), func(q records.Question) bool { return !slices.Contains(codes, q.Code) })
	}
	of := only(chosen)
	taken := only(in.Take) // what is left makes no step
	p, err := s.proposedFrom(ctx, taken, in.Dataset, in.FixPlan)
	if err != nil {
		return err
	}
	if p.Table != in.Table {
		return huma.NewError(http.StatusConflict, fmt.Sprintf("Table %d has arrived since this was proposed for table %d; look at it again.", p.Table, in.Table))
	}
	if len(p.Steps) > 0 && p.Version != in.Version {
		return huma.NewError(http.StatusConflict, fmt.Sprintf("The fix plan %s is version %d by now, and this was proposed for version %d; look at it again.", p.FixPlan, p.Version, in.Version))
	}
	for _, code := range in.Declare {
		if !slices.Contains(in.Take, code) || !slices.ContainsFunc(p.Instead, func(c question.SaidInstead) bool { return c.Code == code }) {
			return invalid("%s is no answer that is taken up and could be said in the rulebook.", code)
		}
	}
	if len(in.Declare) > 0 && p.Rulebook != in.Rules {
		return huma.NewError(http.StatusConflict, fmt.Sprintf("The rulebook of %s is version %d by now, and this was proposed for version %d; look at it again.", in.Dataset, p.Rulebook, in.Rules))
	}
	var plan *fix.Plan
	if len(p.Steps) > 0 {
		if _, _, plan, err = s.planOf(ctx, p.Source); err != nil {
			return err
		}
	}
	return s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		became := map[string]string{}
		if plan != nil {
			d, err := store.FindDataset(ctx, tx, in.Dataset)
			if err != nil {
				return err
			}
			made, err := store.AddDeclaration(ctx, tx, store.NewDeclaration{Kind: store.KindFixPlan, DatasetID: d.ID, Name: p.FixPlan, Source: p.Source,
				Digest: plan.Digest, From: p.Version, AuthorID: caller(ctx).ID})
			if err != nil {
				return err
			}
			if err := recordSaved(ctx, tx, made); err != nil {
				return err
			}
			for _, step := range p.Steps {
				became[step.Code] = fmt.Sprintf("A step of version %d of the fix plan %s: %s", made.Version, made.Name, step.Says)
			}
		}
		if len(in.Declare) > 0 {
			if err := s.declareInstead(ctx, tx, p, in.Declare, became); err != nil {
				return err
			}
		}
		for i := range of {
			if err := s.takeUpOne(ctx, tx, &of[i], p, in, became); err != nil {
				return err
			}
		}
		if err := store.CloseSettledSheets(ctx, tx); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "took up answers", fmt.Sprintf("sheet %d", sheet), map[string]any{"taken_up": len(in.Take), "left": len(in.Leave)})
	})
}

// takeUpOne takes one answer up, or leaves it, and says so in the record of its issue.
func (s *Server) takeUpOne(ctx context.Context, tx *sqlx.Tx, q *records.Question, p *AnswersProposed, in TakenUp, became map[string]string) error {
	outcome, as := "taken_up", became[q.Code]
	if slices.Contains(in.Leave, q.Code) {
		outcome, as = "left", in.Reason
	} else if slices.Contains(in.Declare, q.Code) {
		as = became[q.Code]
	} else if at := slices.IndexFunc(p.Accepted, func(a question.Accepted) bool { return a.Code == q.Code }); at >= 0 {
		says, err := s.acceptAnswer(ctx, tx, q, &p.Accepted[at].Scope)
		if err != nil {
			return err
		}
		as = says
	} else if at := slices.IndexFunc(p.Unused, func(u question.Unused) bool { return u.Code == q.Code }); at >= 0 {
		as = "Noted: " + p.Unused[at].Says + "."
	}
	if ok, err := store.Settle(ctx, tx, q.ID, caller(ctx).ID, outcome, as); err != nil || !ok {
		return orElse(err, huma.NewError(http.StatusConflict, fmt.Sprintf("%s was taken up or left already.", q.Code)))
	}
	return store.AddIssueEntry(ctx, tx, q.IssueID, caller(ctx).ID, "answered", fmt.Sprintf("%s is %s. %s", q.Code, map[string]string{"taken_up": "taken up", "left": "left"}[outcome], as), nil)
}

// acceptAnswer waives exactly what is meant so, and says what that was.
func (s *Server) acceptAnswer(ctx context.Context, tx *sqlx.Tx, q *records.Question, scope *waiver.Scope) (string, error) {
	i, err := store.FindIssue(ctx, tx, q.IssueID)
	if err != nil {
		return "", err
	}
	if i.State == store.IssueClosed || i.AuditID == nil {
		return "Nothing of it is found any more; there is nothing to accept.", nil
	}
	reason := fmt.Sprintf("%s, asked as %s, says that it is meant so.", *q.AnsweredBy, q.Code)
	if *q.Note != "" {
		reason += " " + *q.Note
	}
	if i.Subject == "lead" { // its rows have no key; so many of them are accepted
		scope = &waiver.Scope{Count: max(i.Rows, 1), Of: max(i.Rows, 1)}
	}
	a, err := store.FindAudit(ctx, tx, *i.AuditID)
	if err != nil {
		return "", err
	}
	accepted, done, err := s.accepted(ctx, a)
	if err != nil {
		return "", err
	}
	defer done()
	err = s.accept(ctx, tx, i, a, accepted, scope, store.NewWaiver{Reason: reason})
	if errors.Is(err, errNothing) {
		return "None of the rows that are found now is so; there is nothing to accept.", nil
	}
	return "A waiver for " + scope.String() + ".", err
}

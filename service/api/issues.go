package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

type issueAnswer struct {
	ETag string `header:"ETag"`
	Body records.IssueShown
}

// IssueChanged is what a person changes about an issue.
type IssueChanged struct {
	State    *string `json:"state,omitempty" enum:"open,asked" doc:"An issue is closed by an audit or with a reason, and waived by a waiver. Opening one that is waived ends its waivers"`
	Assignee *string `json:"assignee,omitempty" doc:"A person's name; empty for nobody"`
	Owner    *string `json:"owner,omitempty" maxLength:"200" doc:"Who can tell what is right: a person's name, with or without an account; empty for nobody"`
	Due      *string `json:"due,omitempty" maxLength:"10" doc:"Until when it is to be settled, yyyy-MM-dd; empty for no day"`
}

type issueChange struct {
	ByID
	IfMatch string `header:"If-Match" doc:"The ETag of the issue as it was seen; needed"`
	Body    IssueChanged
}

// Closing says how an issue ended, and why.
type Closing struct {
	Ended  string `json:"ended" enum:"corrected,put_right,accepted,withdrawn" doc:"How it ended: corrected by who delivers, put right here, accepted as it is, or withdrawn"`
	Reason string `json:"reason" minLength:"3" maxLength:"2000"`
}

func (s *Server) issues() {
	type listed struct {
		Paging
		Dataset  string `query:"dataset"`
		State    string `query:"state" enum:"open,asked,waived,closed,unsettled" doc:"unsettled: open or asked"`
		Assignee string `query:"assignee" doc:"A person's name; - for issues that are assigned to nobody"`
		Owner    string `query:"owner" maxLength:"200" doc:"Who can tell what is right, by name"`
		Overdue  bool   `query:"overdue" doc:"Only those whose day is over"`
		Severity string `query:"severity" enum:"major,minor,note"`
		Text     string `query:"text" maxLength:"200" doc:"Only issues with this in their title, rule or dataset"`
		Order    string `query:"order" enum:"newest,changed,rows,gravest,due" doc:"What comes first: the newest where it is left out"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-issues", Method: http.MethodGet, Path: "/issues",
		Summary: "Issues, the newest first or in another order",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Issue]], error) {
		return answer(store.Issues(seen(ctx), s.Store.DB, store.IssueFilter{Dataset: in.Dataset, State: in.State,
			Assignee: in.Assignee, Severity: in.Severity, Text: in.Text, Order: in.Order, Owner: in.Owner, Overdue: in.Overdue}, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-issue", Method: http.MethodGet, Path: "/issues/{id}",
		Summary: "One issue with all that happened to it",
	}, func(ctx context.Context, in *ByID) (*issueAnswer, error) {
		return s.issue(ctx, in.ID)
	})
	type comment struct {
		ByID
		Body struct {
			Text string `json:"text" minLength:"1" maxLength:"10000"`
		}
	}
	register(s, operation{
		Right: access.Discuss, ID: "comment-issue", Method: http.MethodPost, Path: "/issues/{id}/comments",
		Summary: "Say something about an issue",
	}, func(ctx context.Context, in *comment) (*issueAnswer, error) {
		if _, err := store.FindIssue(ctx, s.Store.DB, in.ID); err != nil {
			return nil, err
		}
		if err := store.AddIssueEntry(ctx, s.Store.DB, in.ID, caller(ctx).ID, "comment", in.Body.Text,
			nil); err != nil {
			return nil, err
		}
		return s.issue(ctx, in.ID)
	})
	register(s, operation{
		Right: access.Discuss, ID: "change-issue", Method: http.MethodPatch, Path: "/issues/{id}",
		Summary: "Assign an issue, say who owns its data and until when it is due, or that the owner was asked",
	}, func(ctx context.Context, in *issueChange) (*issueAnswer, error) {
		return s.edit(ctx, in.ID, in.IfMatch, func(tx *sqlx.Tx, i *records.Issue) error { return s.changeIssue(ctx, tx, i, in.Body, "") })
	})
	type closing struct {
		ByID
		IfMatch string `header:"If-Match" doc:"The ETag of the issue as it was seen; needed"`
		Body    Closing
	}
	register(s, operation{
		Right: access.Discuss, ID: "close-issue", Method: http.MethodPost, Path: "/issues/{id}/closing",
		Summary: "Close an issue with a reason, of which nothing is found any more or which no rule asks for",
	}, func(ctx context.Context, in *closing) (*issueAnswer, error) {
		return s.edit(ctx, in.ID, in.IfMatch, func(tx *sqlx.Tx, i *records.Issue) error { return s.closeIssue(ctx, tx, i, in.Body) })
	})
	s.waivers()
	s.severalIssues()
}

// severalIssues adds what is done with several issues at once.
func (s *Server) severalIssues() {
	type several struct {
		Body struct {
			Issues []int64       `json:"issues" minItems:"1" maxItems:"500" minimum:"1" maximum:"9007199254740991"`
			Change *IssueChanged `json:"change,omitempty"`
			Waiver *Waived       `json:"waiver,omitempty"`
			Close  *Closing      `json:"close,omitempty"`
			Reason string        `json:"reason,omitempty" maxLength:"2000" doc:"What is said of each of them, in its record"`
		}
	}
	register(s, operation{
		Right: access.Discuss, ID: "change-issues", Method: http.MethodPost, Path: "/issues/several",
		Summary: "Assign, ask, waive or close several issues with one reason: all of them, or none where one cannot be",
	}, func(ctx context.Context, in *several) (*body[[]records.Issue], error) {
		b := in.Body
		ways := 0
		for _, given := range []bool{b.Change != nil, b.Waiver != nil, b.Close != nil} {
			if given {
				ways++
			}
		}
		if ways != 1 {
			return nil, invalid("Say one thing that is to be done with them: change, waiver or close.")
		}
		slices.Sort(b.Issues)
		done := []records.Issue{}
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			var wrong []error
			for _, id := range slices.Compact(b.Issues) {
				i, err := store.FindIssue(ctx, tx, id)
				if err == nil {
					err = mayIn(caller(ctx), access.Discuss, i.DatasetID)
				}
				if err == nil {
					switch {
					case b.Change != nil:
						err = s.changeIssue(ctx, tx, i, *b.Change, b.Reason)
					case b.Waiver != nil:
						err = s.waive(ctx, tx, i, *b.Waiver)
					default:
						err = s.closeIssue(ctx, tx, i, *b.Close)
					}
				}
				var told huma.StatusError
				switch {
				case errors.As(err, &told) && told.GetStatus() < http.StatusInternalServerError, errors.Is(err, store.ErrNotFound):
					wrong = append(wrong, &huma.ErrorDetail{Message: err.Error(), Location: fmt.Sprintf("issue %d", id)})
					continue
				case err != nil:
					return err
				}
				if i, err = store.FindIssue(ctx, tx, id); err != nil {
					return err
				}
				done = append(done, *i)
			}
			if len(wrong) > 0 {
				return huma.NewError(http.StatusConflict, fmt.Sprintf("Nothing was changed: it cannot be done with %s.", document.Counted(int64(len(wrong)), "issue", "issues")), wrong...)
			}
			return nil
		})
		return answer(&done, err)
	})
}

func (s *Server) issue(ctx context.Context, id int64) (*issueAnswer, error) {
	i, err := store.FindIssue(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	entries, err := store.IssueEntries(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	given, err := store.WaiversOf(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	asked, err := store.QuestionsAbout(ctx, s.Store.DB, id)
	if err == nil {
		err = maskFor(caller(ctx), asked)
	}
	if err != nil {
		return nil, err
	}
	return &issueAnswer{fmt.Sprintf(`"%d"`, i.Version), records.IssueShown{Issue: *i, Given: given, Asked: asked, Entries: entries}}, nil
}

// seenVersion reads the version out of If-Match.
func seenVersion(ifMatch string) (int, error) {
	if ifMatch == "" {
		return 0, huma.NewError(http.StatusPreconditionRequired,
			"Send the ETag of the issue as you saw it in If-Match, so that nobody's change is overwritten.")
	}
	version, err := strconv.Atoi(strings.Trim(ifMatch, `"`))
	if err != nil {
		return 0, huma.NewError(http.StatusPreconditionFailed,
			fmt.Sprintf("If-Match %s is no ETag that was handed out.", ifMatch))
	}
	return version, nil
}

// edit changes an issue that still is as the caller saw it, and returns it.
func (s *Server) edit(ctx context.Context, id int64, ifMatch string, change func(tx *sqlx.Tx, i *records.Issue) error) (*issueAnswer, error) {
	version, err := seenVersion(ifMatch)
	if err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		i, err := store.FindIssue(ctx, tx, id)
		if err != nil {
			return err
		}
		if i.Version != version {
			return huma.NewError(http.StatusPreconditionFailed, fmt.Sprintf("conflict: somebody changed issue %d in the meantime; look at it again", id))
		}
		return change(tx, i)
	})
	if err != nil {
		return nil, err
	}
	return s.issue(ctx, id)
}

// settled changes an issue that still is as it was found, and records who did it.
func (s *Server) settled(ctx context.Context, tx *sqlx.Tx, i *records.Issue, action string, change store.IssueChange) error {
	if err := store.ChangeIssue(ctx, tx, i.ID, i.Version, change); err != nil {
		return huma.NewError(http.StatusPreconditionFailed, err.Error())
	}
	return store.Record(ctx, tx, caller(ctx).ID, action, fmt.Sprintf("issue %d", i.ID), nil)
}

// changeIssue does what a person changes about an issue. What is said of it goes into its record.
func (s *Server) changeIssue(ctx context.Context, tx *sqlx.Tx, i *records.Issue, in IssueChanged, says string) error {
	who := caller(ctx).ID
	change := store.IssueChange{State: in.State, Owner: in.Owner, Due: in.Due}
	type entry struct{ kind, text string }
	var entries []entry
	note := func(kind, text string) { entries = append(entries, entry{kind, text}) }
	if in.Assignee != nil {
		var id int64
		says := "Nobody is assigned."
		if *in.Assignee != "" {
			person, err := store.FindPerson(ctx, tx, *in.Assignee)
			if err != nil {
				return err
			}
			id, says = person.ID, "Assigned to "+person.Name+"."
		}
		change.AssigneeID = &id
		note("assigned", says)
	}
	if in.Owner != nil {
		note("owned", orNobody("The owner of the data is %s.", "Nobody is named as the owner of the data.", *in.Owner))
	}
	if in.Due != nil {
		if _, err := time.Parse(time.DateOnly, *in.Due); *in.Due != "" && err != nil {
			return invalid("%q is no day; write it as yyyy-MM-dd.", *in.Due)
		}
		note("due", orNobody("It is due on %s.", "It is due on no day.", *in.Due))
	}
	if in.State != nil {
		kind := "asked"
		if *in.State == store.IssueOpen {
			kind = "reopened"
			ended, err := store.EndWaivers(ctx, tx, i.ID, 0, who)
			if err != nil {
				return err
			}
			if ended > 0 {
				note("waiver_ended", document.Counted(ended, "waiver was", "waivers were")+" ended.")
			}
		} else if i.State == store.IssueClosed {
			return huma.NewError(http.StatusConflict, fmt.Sprintf("Issue %d is closed; open it again before its owner is asked.", i.ID))
		}
		note(kind, "")
	}
	if says != "" {
		note("comment", says)
	}
	if err := s.settled(ctx, tx, i, "changed an issue", change); err != nil {
		return err
	}
	for _, e := range entries {
		if err := store.AddIssueEntry(ctx, tx, i.ID, who, e.kind, e.text, nil); err != nil {
			return err
		}
	}
	return nil
}

func orNobody(format, none, name string) string {
	if name == "" {
		return none
	}
	return fmt.Sprintf(format, name)
}

// closeIssue closes an issue with a reason. One of a rule that was last found broken, and found to hold nowhere since, is not
// over by saying so.
func (s *Server) closeIssue(ctx context.Context, tx *sqlx.Tx, i *records.Issue, in Closing) error {
	switch {
	case i.State == store.IssueClosed:
		return huma.NewError(http.StatusConflict, fmt.Sprintf("Issue %d is closed already.", i.ID))
	case i.Subject == "rule" && i.HoldsAuditID == nil:
		return huma.NewError(http.StatusConflict, fmt.Sprintf("Issue %d is still found: %s. Put it right or have it corrected, and an audit closes it; or waive it.", i.ID, document.Flat(i.Title)))
	}
	closed := store.IssueClosed
	if err := s.settled(ctx, tx, i, "closed an issue", store.IssueChange{State: &closed, Ended: &in.Ended}); err != nil {
		return err
	}
	return store.AddIssueEntry(ctx, tx, i.ID, caller(ctx).ID, "closed", in.Reason, nil)
}

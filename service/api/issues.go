package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

type issueAnswer struct {
	ETag string `header:"ETag"`
	Body records.IssueShown
}

type issueChange struct {
	ByID
	IfMatch string `header:"If-Match" doc:"The ETag of the issue as it was seen; needed"`
	Body    struct {
		State    *string `json:"state,omitempty" enum:"open,asked" doc:"An issue is closed by an audit, and waived by a waiver"`
		Assignee *string `json:"assignee,omitempty" doc:"A person's name; empty for nobody"`
	}
}

type waiver struct {
	ByID
	IfMatch string `header:"If-Match"`
	Body    struct {
		Reason string `json:"reason" minLength:"3" maxLength:"2000"`
		Until  string `json:"until" format:"date" doc:"The last day on which it holds"`
	}
}

func (s *Server) issues() {
	type listed struct {
		Paging
		Dataset  string `query:"dataset"`
		State    string `query:"state" enum:"open,asked,waived,closed,unsettled" doc:"unsettled: open or asked"`
		Assignee string `query:"assignee" doc:"A person's name; - for issues that are assigned to nobody"`
		Severity string `query:"severity" enum:"major,minor,note"`
		Text     string `query:"text" maxLength:"200" doc:"Only issues with this in their title, rule or dataset"`
		Order    string `query:"order" enum:"newest,changed,rows,gravest" doc:"What comes first: the newest where it is left out"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-issues", Method: http.MethodGet, Path: "/issues",
		Summary: "Issues, the newest first or in another order",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Issue]], error) {
		return answer(store.Issues(ctx, s.Store.DB, store.IssueFilter{Dataset: in.Dataset, State: in.State,
			Assignee: in.Assignee, Severity: in.Severity, Text: in.Text, Order: in.Order}, in.cursor()))
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
		Summary: "Assign an issue, or say that its owner was asked",
	}, func(ctx context.Context, in *issueChange) (*issueAnswer, error) {
		return s.changeIssue(ctx, in)
	})
	register(s, operation{
		Right: access.Discuss, ID: "waive-issue", Method: http.MethodPost, Path: "/issues/{id}/waiver",
		Summary: "Accept what was found, for a reason, until a date. With more rows than there are now the issue opens again",
	}, func(ctx context.Context, in *waiver) (*issueAnswer, error) {
		return s.waive(ctx, in)
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
	return &issueAnswer{fmt.Sprintf(`"%d"`, i.Version), records.IssueShown{Issue: *i, Entries: entries}}, nil
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
func (s *Server) edit(ctx context.Context, id int64, ifMatch, action string, change store.IssueChange,
	entries func(tx *sqlx.Tx) error) (*issueAnswer, error) {
	version, err := seenVersion(ifMatch)
	if err != nil {
		return nil, err
	}
	if _, err := store.FindIssue(ctx, s.Store.DB, id); err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if err := store.ChangeIssue(ctx, tx, id, version, change); err != nil {
			return huma.NewError(http.StatusPreconditionFailed, err.Error())
		}
		if err := entries(tx); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, action, fmt.Sprintf("issue %d", id), nil)
	})
	if err != nil {
		return nil, err
	}
	return s.issue(ctx, id)
}

func (s *Server) changeIssue(ctx context.Context, in *issueChange) (*issueAnswer, error) {
	change := store.IssueChange{State: in.Body.State}
	says := "Nobody is assigned."
	if in.Body.Assignee != nil {
		var id int64
		if *in.Body.Assignee != "" {
			person, err := store.FindPerson(ctx, s.Store.DB, *in.Body.Assignee)
			if err != nil {
				return nil, err
			}
			id, says = person.ID, "Assigned to "+person.Name+"."
		}
		change.AssigneeID = &id
	}
	return s.edit(ctx, in.ID, in.IfMatch, "changed an issue", change, func(tx *sqlx.Tx) error {
		if in.Body.Assignee != nil {
			if err := store.AddIssueEntry(ctx, tx, in.ID, caller(ctx).ID, "assigned", says, nil); err != nil {
				return err
			}
		}
		if in.Body.State == nil {
			return nil
		}
		kind := map[string]string{store.IssueOpen: "reopened", store.IssueAsked: "asked"}[*in.Body.State]
		return store.AddIssueEntry(ctx, tx, in.ID, caller(ctx).ID, kind, "", nil)
	})
}

func (s *Server) waive(ctx context.Context, in *waiver) (*issueAnswer, error) {
	until, err := time.Parse(time.DateOnly, in.Body.Until)
	if err != nil || until.Before(time.Now().UTC().Truncate(24*time.Hour)) {
		return nil, invalid("A waiver ends on a day that is not over; %q is not one.", in.Body.Until)
	}
	issue, err := store.FindIssue(ctx, s.Store.DB, in.ID)
	if err != nil {
		return nil, err
	}
	if issue.State == store.IssueClosed {
		return nil, huma.NewError(http.StatusConflict,
			fmt.Sprintf("Issue %d is closed: its rule holds, and there is nothing to accept.", in.ID))
	}
	state, who := store.IssueWaived, caller(ctx).ID
	change := store.IssueChange{State: &state, WaiverReason: &in.Body.Reason, WaiverUntil: &until, WaiverBy: &who,
		WaiverRows: &issue.Rows}
	return s.edit(ctx, in.ID, in.IfMatch, "waived an issue", change, func(tx *sqlx.Tx) error {
		return store.AddIssueEntry(ctx, tx, in.ID, who, "waived", fmt.Sprintf("%s (for %d rows, until %s)",
			in.Body.Reason, issue.Rows, in.Body.Until), nil)
	})
}

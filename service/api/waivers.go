package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/waiver"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// Waived says what of an issue is accepted, why, and for how long.
type Waived struct {
	Reason string `json:"reason" minLength:"3" maxLength:"2000"`
	// Of says what is accepted.
	Of     string   `json:"of,omitempty" enum:"count,texts,rows" doc:"What is accepted: as many rows as there are now, whichever they are; some texts; or these rows, known by what stands in them. count where it is left out"`
	Column string   `json:"column,omitempty" doc:"Of texts: their column; the rule's where it speaks of one alone"`
	Texts  []string `json:"texts,omitempty" maxItems:"10000" doc:"Of texts: those that are accepted; the empty one stands for a missing value"`
	Rows   []uint32 `json:"rows,omitempty" maxItems:"10000" minimum:"1" maximum:"4294967294" doc:"Of rows: the numbers of those that are accepted; all that were found where none is named"`
	// For says how long.
	For   string `json:"for,omitempty" enum:"day,delivery,good" doc:"How long it holds: until a day, for this delivery alone, or for good. day where it is left out"`
	Until string `json:"until,omitempty" maxLength:"10" doc:"The last day on which it holds, yyyy-MM-dd"`
}

// end returns the last day of a waiver, or the table whose delivery is the only one that it holds for.
func (w *Waived) end(i *records.Issue) (until *time.Time, table *int64, err error) {
	switch {
	case w.For == "delivery":
		return nil, i.TableID, nil
	case w.For == "good":
		return nil, nil, nil
	}
	day, err := time.Parse(time.DateOnly, w.Until)
	if err != nil || day.Before(time.Now().UTC().Truncate(24*time.Hour)) {
		return nil, nil, invalid("A waiver ends on a day that is not over; %q is not one. Or say that it holds for this delivery, or for good.", w.Until)
	}
	return &day, nil, nil
}

// waivers adds the operations on what is accepted of issues.
func (s *Server) waivers() {
	type waived struct {
		ByID
		IfMatch string `header:"If-Match" doc:"The ETag of the issue as it was seen; needed"`
		Body    Waived
	}
	register(s, operation{
		Right: access.Discuss, ID: "waive-issue", Method: http.MethodPost, Path: "/issues/{id}/waiver",
		Summary: "Accept of what was found some texts, some rows or so many of them, for a reason. With anything beyond, the issue opens again",
	}, func(ctx context.Context, in *waived) (*issueAnswer, error) {
		return s.edit(ctx, in.ID, in.IfMatch, func(tx *sqlx.Tx, i *records.Issue) error { return s.waive(ctx, tx, i, in.Body) })
	})
	type ended struct {
		ByID
		Waiver  int64  `path:"waiver" minimum:"1" maximum:"9007199254740991"`
		IfMatch string `header:"If-Match" doc:"The ETag of the issue as it was seen; needed"`
	}
	register(s, operation{
		Right: access.Discuss, ID: "end-waiver", Method: http.MethodDelete, Path: "/issues/{id}/waivers/{waiver}",
		Summary: "End a waiver; the issue opens again where the others do not cover what was found",
	}, func(ctx context.Context, in *ended) (*issueAnswer, error) {
		return s.edit(ctx, in.ID, in.IfMatch, func(tx *sqlx.Tx, i *records.Issue) error { return s.endWaiver(ctx, tx, i, in.Waiver) })
	})
	type inForce struct {
		Waiver  records.Waiver  `json:"waiver"`
		Covered *waiver.Covered `json:"covered" doc:"What this waiver and the others of its issue accept of the finding"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-audit-waivers", Method: http.MethodGet, Path: "/audits/{id}/waivers",
		Summary: "The waivers in force for what an audit found, and how much of each finding they accept",
	}, func(ctx context.Context, in *ByID) (*body[[]inForce], error) {
		a, err := store.FindAudit(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		all, err := store.WaiversFor(ctx, s.Store.DB, a.DatasetID, a.TableID)
		if err != nil {
			return nil, err
		}
		out := []inForce{}
		err = s.acceptedOf(ctx, a, all, func(waivers []records.Waiver, c *waiver.Covered) {
			for _, w := range waivers {
				out = append(out, inForce{w, c})
			}
		})
		return answer(&out, err)
	})
}

// acceptedOf visits, issue by issue, the waivers that are in force for what an audit found, with what they accept of it.
func (s *Server) acceptedOf(ctx context.Context, a *records.Audit, all []records.Waiver, visit func([]records.Waiver, *waiver.Covered)) error {
	if len(all) == 0 {
		return nil
	}
	accepted, done, err := s.accepted(ctx, a)
	if err != nil {
		return err
	}
	defer done()
	by := store.ByIssue(all)
	for _, issue := range slices.Sorted(maps.Keys(by)) {
		c, err := s.covered(ctx, a, accepted, by[issue])
		if err != nil {
			return err
		}
		if c != nil {
			visit(by[issue], c)
		}
	}
	return nil
}

// coveredKept is a coverage that is remembered.
type coveredKept struct{ *waiver.Covered }

func (coveredKept) size() int64 { return 512 }

// covered tells what waivers of one issue accept of what an audit found of it; nil where it found nothing. Neither an audit
// nor a waiver ever changes, so that the answer is remembered.
func (s *Server) covered(ctx context.Context, a *records.Audit, accepted *work.Accepted, waivers []records.Waiver) (*waiver.Covered, error) {
	key := fmt.Sprintf("covered %d", a.ID)
	for _, w := range waivers {
		key += fmt.Sprintf(" %d", w.ID)
	}
	kept, err := recallFor(ctx, &s.remembered, key, 0, func(ctx context.Context) (coveredKept, error) {
		c, err := accepted.Of(ctx, waivers[0].Subject, waivers[0].Rule, waivers[0].About, waivers)
		return coveredKept{c}, err
	})
	return kept.Covered, err
}

// accepted tells what waivers accept of what an audit found; done is called when nothing is asked any more.
func (s *Server) accepted(ctx context.Context, a *records.Audit) (accepted *work.Accepted, done func(), err error) {
	result, err := s.resultOf(ctx, a.ID)
	if err != nil {
		return nil, nil, err
	}
	rows, done, err := s.auditRows(ctx, a)
	if err != nil {
		return nil, nil, err
	}
	return &work.Accepted{Result: result, There: result.There != nil,
		Open: func() (*relation.Table, error) {
			t, err := s.insideBy(ctx, a.TableID, a.ID)
			if err != nil {
				return nil, err
			}
			return t.Table, nil
		},
		Rows: func(rule string) (*table.RowSet, error) { return rows.Where(rule, "", "") }}, done, nil
}

// waive accepts something of an issue.
func (s *Server) waive(ctx context.Context, tx *sqlx.Tx, i *records.Issue, in Waived) error {
	if i.State == store.IssueClosed {
		return huma.NewError(http.StatusConflict,
			fmt.Sprintf("Issue %d is closed: there is nothing to accept.", i.ID))
	}
	until, only, err := in.end(i)
	if err != nil {
		return err
	}
	if i.AuditID == nil {
		return huma.NewError(http.StatusConflict, fmt.Sprintf("Nothing of issue %d is found in any table that counts.", i.ID))
	}
	a, err := store.FindAudit(ctx, tx, *i.AuditID)
	if err != nil {
		return err
	}
	accepted, done, err := s.accepted(ctx, a)
	if err != nil {
		return err
	}
	defer done()
	scope, err := s.scopeOf(ctx, i, a, accepted, in)
	if err != nil {
		return err
	}
	err = s.accept(ctx, tx, i, a, accepted, scope, store.NewWaiver{Reason: in.Reason, Until: until, TableID: only})
	if errors.Is(err, errNothing) {
		return invalid("Issue %d: %v.", i.ID, err)
	}
	return err
}

// accept records a waiver, and what state its issue has then. One that accepts nothing of what was found is errNothing.
func (s *Server) accept(ctx context.Context, tx *sqlx.Tx, i *records.Issue, a *records.Audit, accepted *work.Accepted, scope *waiver.Scope, n store.NewWaiver) error {
	alone, err := accepted.By(ctx, i.Subject, i.Rule, i.About, []waiver.Scope{*scope})
	if err != nil {
		return err
	}
	if alone == nil || alone.Covered == 0 && alone.Rows > 0 || alone.Otherwise {
		return errNothing
	}
	raw, err := json.Marshal(scope)
	if err != nil {
		return err
	}
	n.IssueID, n.Scope, n.Covers, n.PersonID = i.ID, raw, scope.String(), caller(ctx).ID
	w, err := store.AddWaiver(ctx, tx, n)
	if err != nil {
		return err
	}
	state, ended, left, err := s.stateBy(ctx, tx, i, a, accepted)
	if err != nil {
		return err
	}
	if err := s.settled(ctx, tx, i, "waived an issue", store.IssueChange{State: &state, Ended: ended}); err != nil {
		return err
	}
	return store.AddIssueEntry(ctx, tx, i.ID, caller(ctx).ID, "waived", fmt.Sprintf("%s (for %s, %s)%s", n.Reason, scope, howLong(w), left), nil)
}

// errNothing says that a waiver would accept nothing of what is found; nothing was recorded then.
var errNothing = errors.New("none of the rows of the issue is among them; nothing would be accepted")

// howLong says how long a waiver holds.
func howLong(w *records.Waiver) string {
	switch {
	case w.Until != nil:
		return "until " + *w.Until
	case w.TableID != nil:
		return fmt.Sprintf("for the delivery of table %d alone", *w.TableID)
	}
	return "for good"
}

// stateBy says what state an issue has by its waivers in force for the table in which it was last found, and what is left.
func (s *Server) stateBy(ctx context.Context, q store.Querier, i *records.Issue, a *records.Audit, accepted *work.Accepted) (state string, ended *string, left string, err error) {
	all, err := store.WaiversFor(ctx, q, i.DatasetID, a.TableID)
	if err != nil {
		return "", nil, "", err
	}
	all = slices.DeleteFunc(all, func(w records.Waiver) bool { return w.IssueID != i.ID })
	if len(all) == 0 {
		return store.IssueOpen, nil, "", nil
	}
	c, err := accepted.Of(ctx, i.Subject, i.Rule, i.About, all)
	if err != nil {
		return "", nil, "", err
	}
	if c == nil || c.All() {
		how := store.EndedAccepted
		return store.IssueWaived, &how, "", nil
	}
	state = i.State
	if state == store.IssueWaived {
		state = store.IssueOpen
	}
	return state, nil, " " + strings.TrimSpace(store.Beyond(c, "")), nil
}

// scopeOf makes the scope of what somebody accepts.
func (s *Server) scopeOf(ctx context.Context, i *records.Issue, a *records.Audit, accepted *work.Accepted, in Waived) (*waiver.Scope, error) {
	f := accepted.Result.Finding(i.Rule)
	scope := &waiver.Scope{}
	switch {
	case i.Subject == "rule" && f == nil:
		return nil, invalid("Audit %d found nothing of the rule %s.", a.ID, i.Rule)
	case i.Subject == "rule" && f.Rows == 0:
		scope.Says = f.Found
	case in.Of == "texts":
		scope.Column, scope.Texts = in.Column, in.Texts
		if f != nil && scope.Column == "" && len(f.Columns) == 1 {
			scope.Column = f.Columns[0]
		}
		if f == nil || !slices.Contains(f.Columns, scope.Column) {
			return nil, invalid("Texts are accepted of a column that the rule speaks of; %q is none.", scope.Column)
		}
	case in.Of == "rows":
		var err error
		if scope, err = s.rowsScope(ctx, i, accepted, f, in.Rows); err != nil {
			return nil, err
		}
	default:
		scope.Count, scope.Of = i.Rows, max(accepted.Result.Rows, i.Rows)
	}
	if err := scope.Check(); err != nil {
		return nil, invalid("%s", sentence(err))
	}
	return scope, nil
}

// rowsScope names rows of a finding by what stands in them.
func (s *Server) rowsScope(ctx context.Context, i *records.Issue, accepted *work.Accepted, f *audit.Finding, chosen []uint32) (*waiver.Scope, error) {
	if f == nil {
		return nil, invalid("Issue %d is of no rule; accept the number of its rows.", i.ID)
	}
	rows, err := accepted.Rows(i.Rule)
	if err != nil {
		return nil, err
	}
	if len(chosen) > 0 {
		set := table.NewRowSet()
		set.AddMany(chosen)
		rows = both(rows, set)
	}
	t, err := accepted.Open()
	if err != nil {
		return nil, err
	}
	scope, err := waiver.OfRows(ctx, t, rows, t.Book.KeyColumns(), f.Columns)
	return asked(scope, err)
}

// endWaiver ends a waiver before its time.
func (s *Server) endWaiver(ctx context.Context, tx *sqlx.Tx, i *records.Issue, id int64) error {
	w, err := store.FindWaiver(ctx, tx, id)
	if err != nil {
		return err
	}
	if w.IssueID != i.ID {
		return invalid("Waiver %d is not one of issue %d.", id, i.ID)
	}
	n, err := store.EndWaivers(ctx, tx, i.ID, id, caller(ctx).ID)
	if err != nil {
		return err
	}
	if n == 0 {
		return huma.NewError(http.StatusConflict, fmt.Sprintf("Waiver %d is not in force any more.", id))
	}
	state, ended := i.State, i.Ended
	if i.State == store.IssueWaived && i.AuditID != nil {
		a, err := store.FindAudit(ctx, tx, *i.AuditID)
		if err != nil {
			return err
		}
		accepted, done, err := s.accepted(ctx, a)
		if err != nil {
			return err
		}
		defer done()
		if state, ended, _, err = s.stateBy(ctx, tx, i, a, accepted); err != nil {
			return err
		}
	}
	if err := s.settled(ctx, tx, i, "ended a waiver", store.IssueChange{State: &state, Ended: ended}); err != nil {
		return err
	}
	return store.AddIssueEntry(ctx, tx, i.ID, caller(ctx).ID, "waiver_ended", "It was for "+w.Covers+": "+w.Reason, nil)
}

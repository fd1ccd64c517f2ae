package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
	"proudsieve/core/waiver"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// leads adds what becomes of what looks odd: that it is meant so, or an issue.
func (s *Server) leads() {
	type meant struct {
		ByID
		Body struct {
			Lead   string `json:"lead" minLength:"1" doc:"The kind of a lead of the audit"`
			Column string `json:"column,omitempty" doc:"The column of the lead; empty for one of the whole table"`
			Reason string `json:"reason" minLength:"1" maxLength:"1000" doc:"Why it is meant so"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "meant-so", Method: http.MethodPost, Path: "/audits/{id}/meant-so",
		Summary: "Say that what looks odd is meant so: a new version of the rulebook, by which it is told again only if it grows",
	}, func(ctx context.Context, in *meant) (*versioned, error) {
		a, result, err := s.auditWith(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		newest, err := store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, a.DatasetID, a.Dataset)
		if errors.Is(err, store.ErrNotFound) {
			return nil, invalid("%s has no rulebook yet, in which this could be written; declare one first.", a.Dataset)
		}
		if err != nil {
			return nil, err
		}
		source, err := result.MeantSoIn(newest.Source, in.Body.Lead, in.Body.Column, in.Body.Reason)
		if err != nil {
			return nil, invalid("%s", sentence(err))
		}
		saving := &SavingRulebook{IfMatch: strconv.Quote(strconv.Itoa(newest.Version))}
		saving.Body.Source, saving.Body.Reason = source, in.Body.Reason
		return asVersion(s.saveRulebook(ctx, saving))
	})
	type made struct {
		ByID
		Body struct {
			records.IssueSubject
			Title    string `json:"title,omitempty" maxLength:"500" doc:"What it is about; what was found where this is left out"`
			Severity string `json:"severity,omitempty" enum:"major,minor,note" doc:"minor where this is left out, or the rule's"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "make-issue", Method: http.MethodPost, Path: "/audits/{id}/issues",
		Summary: "Make an issue of a lead, of one text of a finding, or of chosen rows",
	}, func(ctx context.Context, in *made) (*body[records.Issue], error) {
		a, result, err := s.auditWith(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		in.Body.Named = nil
		if len(in.Body.Rows) > 0 && in.Body.Lead == "" && in.Body.Text == "" {
			if in.Body.Named, err = s.namedRows(ctx, a, result, in.Body.IssueSubject); err != nil {
				return nil, err
			}
		}
		n, err := issueOf(result, in.Body.IssueSubject)
		if err != nil {
			return nil, err
		}
		if in.Body.Title != "" {
			n.Title = in.Body.Title
		}
		if in.Body.Severity != "" {
			n.Severity = in.Body.Severity
		}
		n.DatasetID, n.AuditID, n.PersonID = a.DatasetID, a.ID, caller(ctx).ID
		var issue *records.Issue
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			id, err := store.AddIssue(ctx, tx, *n)
			if err != nil {
				return err
			}
			if issue, err = store.FindIssue(ctx, tx, id); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "made an issue", fmt.Sprintf("issue %d of %s", id, a.Dataset),
				map[string]any{"subject": n.Subject, "audit": a.ID})
		})
		return answer(issue, err)
	})
}

// namedRows says by what stands in them rows are known again that a person makes an issue of: by a key, and all that the rule
// speaks of, or the whole row where nothing says which columns are in question.
func (s *Server) namedRows(ctx context.Context, a *records.Audit, result *audit.Result, of records.IssueSubject) (json.RawMessage, error) {
	t, err := s.insideBy(ctx, a.TableID, a.ID)
	if err != nil {
		return nil, err
	}
	set := table.NewRowSet()
	set.AddMany(of.Rows)
	named := of.Columns
	if f := result.Finding(of.Rule); f != nil {
		named = f.Columns
	}
	if len(named) == 0 {
		named = t.Source.Columns()
	}
	scope, err := asked(waiver.OfRows(ctx, t.Table, set, t.Book.KeyColumns(), named))
	if err != nil {
		return nil, err
	}
	return json.Marshal(scope)
}

// auditWith finds an audit with what it found.
func (s *Server) auditWith(ctx context.Context, id int64) (*records.Audit, *audit.Result, error) {
	a, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return nil, nil, err
	}
	result, err := s.resultOf(ctx, a.ID)
	return a, result, err
}

// issueOf makes an issue of what an audit found.
func issueOf(r *audit.Result, of records.IssueSubject) (*store.NewIssue, error) {
	n := &store.NewIssue{Severity: "minor"}
	switch {
	case of.Lead != "":
		at := slices.IndexFunc(r.Leads, func(l audit.Lead) bool { return l.Kind == of.Lead && l.Column == of.Column })
		if at < 0 {
			return nil, invalid("The audit tells no lead %q of %q.", of.Lead, of.Column)
		}
		l := r.Leads[at]
		of.Columns, of.Rows = l.Columns, l.FirstRows
		n.Subject, n.Rule, n.Title, n.Rows = "lead", l.Kind, l.Says, l.Rows
	case of.Rule != "" && of.Text != "":
		at := slices.IndexFunc(r.Findings, func(f audit.Finding) bool { return f.Rule == of.Rule })
		if at < 0 {
			return nil, invalid("The audit found nothing of the rule %q.", of.Rule)
		}
		f := r.Findings[at]
		text := slices.IndexFunc(f.Texts, func(t profile.Frequency) bool { return t.Text == of.Text })
		if text < 0 {
			return nil, invalid("%q is none of the texts that are told of the rule %s.", of.Text, of.Rule)
		}
		of.Columns, n.Rows = f.Columns, f.Texts[text].Rows
		n.Subject, n.Rule, n.Severity = "text", f.Rule, string(f.Severity)
		n.Title = fmt.Sprintf("%q stands in %s of %s.", of.Text, document.Counted(n.Rows, "row", "rows"), strings.Join(f.Columns, ", "))
	case len(of.Rows) > 0:
		slices.Sort(of.Rows)
		if of.Rows = slices.Compact(of.Rows); of.Rows[0] == 0 || int64(of.Rows[len(of.Rows)-1]) > r.Rows {
			return nil, invalid("The table has the rows 1 to %d.", r.Rows)
		}
		n.Subject, n.Rule, n.Rows = "rows", of.Rule, int64(len(of.Rows))
		n.Title = document.Counted(n.Rows, "row is", "rows are") + " in question."
	default:
		return nil, invalid("Name a lead and its column, a rule and one of its texts, or rows.")
	}
	about, err := json.Marshal(of)
	n.About = about
	return n, err
}

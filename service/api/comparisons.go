package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/report"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// ComparisonShown is a comparison with the audits that were compared.
type ComparisonShown struct {
	Before records.Audit `json:"before"`
	After  records.Audit `json:"after"`
	audit.Comparison
}

// comparisons adds what says what an audit found: against another one, as a page, as a list.
func (s *Server) comparisons() {
	type comparisonAsked struct {
		ByID
		With int64 `query:"with" minimum:"0" maximum:"9007199254740991" doc:"The earlier audit; 0 for the one before, of a table of the same origin"`
	}
	register(s, operation{
		Right: access.Read, ID: "compare-audits", Method: http.MethodGet, Path: "/audits/{id}/comparison",
		Summary: "What is new, gone, worse and better since an earlier audit",
	}, func(ctx context.Context, in *comparisonAsked) (*body[ComparisonShown], error) {
		return answer(s.compared(ctx, in.ID, in.With))
	})
	type reportAsked struct {
		ByID
		Personal bool `query:"personal" doc:"Show personal data, which are masked otherwise; it needs the right to work on the data"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-report", Method: http.MethodGet, Path: "/audits/{id}/report",
		Summary: "An audit as one HTML page for the owner of the data, who needs no account to read it",
	}, func(ctx context.Context, in *reportAsked) (*huma.StreamResponse, error) {
		if who := caller(ctx); in.Personal && !access.Role(who.Role).May(access.Work) {
			s.recordRefusal(ctx, who, "Show personal data in a report", access.Work)
			return nil, huma.NewError(http.StatusForbidden, forbidden(who, access.Work))
		}
		r, err := s.report(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		r.ShowPersonal = in.Personal
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "text/html; charset=utf-8")
			out.SetHeader("Content-Disposition",
				fmt.Sprintf("inline; filename=%q", fmt.Sprintf("audit_%d.html", in.ID)))
			if err := report.Write(out.BodyWriter(), r); err != nil {
				s.cutOff("a report", in.ID, err)
			}
		}}, nil
	})
	register(s, operation{
		Right: access.Read, ID: "download-findings", Method: http.MethodGet, Path: "/audits/{id}/findings",
		Summary: "Every cell that was caught, as CSV for whoever delivered the table. A text that a spreadsheet would run as a formula gets an apostrophe before it",
	}, func(ctx context.Context, in *findingsAsked) (*huma.StreamResponse, error) {
		return s.findingsFile(ctx, in)
	})
	s.trials()
	s.proposals()
	s.forms()
}

func (s *Server) compared(ctx context.Context, id, with int64) (*ComparisonShown, error) {
	after, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	var before *records.Audit
	if with == 0 {
		before, err = store.AuditBefore(ctx, s.Store.DB, after)
	} else {
		before, err = store.FindAudit(ctx, s.Store.DB, with)
	}
	if err != nil {
		return nil, err
	}
	if before.DatasetID != after.DatasetID {
		return nil,
			invalid("Audit %d is of the dataset %s and audit %d of %s; only audits of one dataset are compared.",
				before.ID, before.Dataset, after.ID, after.Dataset)
	}
	then, err := s.resultOf(ctx, before.ID)
	if err != nil {
		return nil, err
	}
	now, err := s.resultOf(ctx, after.ID)
	if err != nil {
		return nil, err
	}
	return &ComparisonShown{*before, *after, *audit.Compare(then, now)}, nil
}

// auditFile is an audit with its table, opened, and the rulebook it was judged by.
type auditFile struct {
	*records.Audit
	table  *records.Table
	result *audit.Result
	file   *intake.File // nil of a table that lies elsewhere
	there  error        // why that is so
	book   *rulebook.Rulebook
}

// ofAudit opens the table of an audit.
func (s *Server) ofAudit(ctx context.Context, id int64) (*auditFile, error) {
	found, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	a := &auditFile{Audit: found}
	if a.table, err = store.FindTable(ctx, s.Store.DB, a.TableID); err != nil {
		return nil, err
	}
	if a.result, err = s.resultOf(ctx, found.ID); err != nil {
		return nil, err
	}
	if a.RulebookID != nil {
		d, err := store.FindDeclaration(ctx, s.Store.DB, *a.RulebookID)
		if err != nil {
			return nil, err
		}
		if a.book, err = rulebook.Parse([]byte(d.Source)); err != nil {
			return nil, err
		}
	}
	book := a.book
	if a.file, a.book, err = work.OpenTable(ctx, s.Files, a.table, book); errors.Is(err, work.ErrThere) {
		a.book, a.there, err = book, err, nil
	}
	return a, err
}

func (s *Server) report(ctx context.Context, id int64) (*report.Report, error) {
	a, err := s.ofAudit(ctx, id)
	if err != nil {
		return nil, err
	}
	rows, done, err := s.auditRows(ctx, a.Audit)
	defer done()
	if err != nil {
		return nil, err
	}
	examples := map[string][]report.Example{}
	if a.there == nil {
		if examples, err = report.Examples(ctx, a.file, rows.Checkpoints, a.result); err != nil {
			return nil, err
		}
	}
	d, err := store.FindDataset(ctx, s.Store.DB, a.Dataset)
	if err != nil {
		return nil, err
	}
	out := &report.Report{Dataset: a.Dataset, Title: d.Title, FileName: a.FileName, Digest: a.table.Digest,
		When: a.CreatedAt, Result: a.result, Examples: examples, Source: map[string]string{}}
	if a.Rulebook != nil {
		out.Rulebook = fmt.Sprintf("rulebook, version %d", *a.Rulebook)
	}
	if err := json.Unmarshal(a.table.Source, &out.Source); err != nil {
		out.Source = nil // it is told elsewhere
	}
	questions, err := store.QuestionsOf(ctx, s.Store.DB, a.DatasetID)
	if err != nil {
		return nil, err
	}
	for _, q := range questions {
		out.Questions = append(out.Questions, report.Question{About: q.Rule, Text: q.Text,
			Asked: q.At.Format("2 January 2006") + ", by " + q.Person})
	}
	return out, nil
}

// findingsAsked asks for findings as CSV.
type findingsAsked struct {
	ByID
	Exact bool `query:"exact" doc:"Write the texts as they are, also those that a spreadsheet would run"`
}

func (s *Server) findingsFile(ctx context.Context, in *findingsAsked) (*huma.StreamResponse, error) {
	a, err := s.ofAudit(ctx, in.ID)
	if err == nil {
		err = a.there // its cells are not here
	}
	if err != nil {
		return nil, err
	}
	rows, done, err := s.auditRows(ctx, a.Audit)
	if err != nil {
		done()
		return nil, err
	}
	if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "downloaded findings", subject(a.table),
		map[string]any{"audit": a.ID}); err != nil {
		done()
		return nil, err
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer done()
		out.SetHeader("Content-Type", "text/csv; charset=utf-8")
		out.SetHeader("Content-Disposition",
			fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s_findings_%d.csv", a.Dataset, a.ID)))
		of := func(f *audit.Finding) (*table.RowSet, error) { return rows.Where(f.Rule, "", "") }
		if err := audit.WriteFindings(out.Context(), out.BodyWriter(), &audit.Export{Source: a.file, Book: a.book,
			Result: a.result, Rows: of, Workers: s.Pool.Workers, Exact: in.Exact}); err != nil {
			s.cutOff("findings", a.ID, err)
		}
	}}, nil
}

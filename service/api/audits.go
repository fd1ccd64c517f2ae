package api

import (
	"context"
	"net/http"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/question"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// AuditShown is an audit with all it found.
type AuditShown struct {
	records.Audit
	Result audit.Result `json:"result"`
}

func (s *Server) audits() {
	register(s, operation{
		Right: access.Work, ID: "start-audit", Method: http.MethodPost, Path: "/tables/{id}/audits",
		Summary: "Audit a table by the newest rulebook of its dataset",
	}, func(ctx context.Context, in *ByID) (*body[records.Job], error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if t.WithdrawnAt != nil {
			return nil, invalid("Table %d was withdrawn: %s", t.ID, *t.Withdrawn)
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if job, err = s.Pool.AddAudit(ctx, tx, t, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "asked for an audit", subject(t), nil)
		})
		return answer(job, err)
	})
	register(s, operation{
		Right: access.Read, ID: "list-audits", Method: http.MethodGet, Path: "/audits",
		Summary: "All audits, newest first",
	}, func(ctx context.Context, in *Paging) (*body[records.Page[records.Audit]], error) {
		return answer(store.Audits(seen(ctx), s.Store.DB, 0, 0, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-audit", Method: http.MethodGet, Path: "/audits/{id}",
		Summary: "One audit: profile, scores, findings",
	}, func(ctx context.Context, in *ByID) (*body[AuditShown], error) {
		a, err := store.FindAudit(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		result, err := s.resultOf(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		hidden, err := s.hidden(ctx, a.DatasetID)
		if err != nil {
			return nil, err
		}
		shown := AuditShown{Audit: *a, Result: *question.Masked(result, hidden)}
		shown.Result.There = shown.Result.There.Shown(true)
		return answer(&shown, nil)
	})
}

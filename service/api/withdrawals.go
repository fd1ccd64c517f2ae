package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// withdrawals adds what takes deliveries out of the count: one that was a mistake, and those
// that a dataset no longer keeps.
func (s *Server) withdrawals() {
	type withdrawal struct {
		ByID
		Body struct {
			Reason string `json:"reason" minLength:"3" maxLength:"2000"`
			LetGo  bool   `json:"let_go_of_bytes,omitempty" doc:"Remove its bytes, and those of what was made of it, from the file store"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "withdraw-delivery", Method: http.MethodPost, Path: "/tables/{id}/withdrawal",
		Summary: "Withdraw a delivery that was taken in by mistake, with all that was made of it: it leaves scores, issues and newest tables, and its record stays",
	}, func(ctx context.Context, in *withdrawal) (*body[records.Withdrawal], error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if t.Origin != store.OriginDelivery {
			return nil,
				invalid("Table %d is a %s table; withdraw the delivery that it was made of, and it goes with it.", t.ID,
					t.Origin)
		}
		var w *records.Withdrawal
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if w, err = store.Retire(ctx, tx, t.ID, caller(ctx).ID, in.Body.Reason, in.Body.LetGo); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "withdrew a delivery", subject(t),
				map[string]any{"reason": in.Body.Reason, "let_go_of_bytes": in.Body.LetGo, "sha256": t.Digest})
		})
		return answer(w, err)
	})
	type retention struct {
		ByName
		Body struct {
			Keep *int `json:"keep_deliveries" minimum:"1" maximum:"100000" doc:"How many deliveries are kept; null for all"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "set-retention", Method: http.MethodPut, Path: "/datasets/{name}/retention",
		Summary: "Say how many deliveries of a dataset are kept, besides those that something certified rests on. Older ones are withdrawn, and their bytes let go",
	}, func(ctx context.Context, in *retention) (*body[records.Dataset], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		if _, err := s.changeDataset(ctx, d, "set how many deliveries are kept", map[string]any{"keep_deliveries": in.Body.Keep},
			func(tx *sqlx.Tx) error { return store.SetRetention(ctx, tx, d.ID, in.Body.Keep) }); err != nil {
			return nil, err
		}
		if err := s.Pool.Retain(ctx, d.ID, fmt.Sprintf("dataset %s", d.Name)); err != nil {
			return nil, err
		}
		return answer(store.FindDataset(ctx, s.Store.DB, in.Name))
	})
}

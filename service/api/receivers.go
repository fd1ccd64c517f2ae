package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telling"
	"proudsieve/service/work"
)

// NewReceiver is a program that is to be told.
type NewReceiver struct {
	Name    string   `json:"name" minLength:"1" maxLength:"100"`
	Address string   `json:"address" minLength:"1" maxLength:"2000" doc:"A web address that takes events by POST"`
	Kinds   []string `json:"kinds,omitempty" maxItems:"50" enum:"delivery_arrived,delivery_late,fell_short,issue_came_back,question_answered,certificate_signed,certificate_revoked,job_failed" doc:"The kinds of notice that it is told of; all where there is none"`
}

// Tried says what came of a trial.
type Tried struct {
	Took bool   `json:"took" doc:"The receiver took the event"`
	Says string `json:"says"`
}

// receivers adds the operations on the programs that are told, and on what is sent.
func (s *Server) receivers() {
	register(s, operation{
		Right: access.Administer, ID: "list-receivers", Method: http.MethodGet, Path: "/receivers",
		Summary: "The programs that are told of what happens, by name",
	}, func(ctx context.Context, _ *nothing) (*body[[]records.Receiver], error) {
		all, err := store.Receivers(ctx, s.Store.DB)
		return answer(&all, err)
	})
	type adding struct{ Body NewReceiver }
	register(s, operation{
		Right: access.Administer, ID: "add-receiver", Method: http.MethodPost, Path: "/receivers",
		Summary: "Tell a program of what happens: CloudEvents 1.0 in JSON, signed by HMAC with the secret that is shown here, once",
	}, func(ctx context.Context, in *adding) (*body[records.MadeReceiver], error) {
		if err := work.CheckAddress(in.Body.Address); err != nil {
			return nil, invalid("%s", sentence(err))
		}
		var made *records.Receiver
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if made, err = store.AddReceiver(ctx, tx, in.Body.Name, in.Body.Address, in.Body.Kinds, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "added a receiver", made.Name, map[string]any{"address": made.Address})
		})
		return s.secretOf(made, err)
	})
	register(s, operation{
		Right: access.Administer, ID: "renew-receiver", Method: http.MethodPost, Path: "/receivers/{id}/secret",
		Summary: "Make the secret of a receiver another one, which is shown here, once; what is sent from now on is signed with it",
	}, func(ctx context.Context, in *ByID) (*body[records.MadeReceiver], error) {
		var r *records.Receiver
		err := s.changeReceiver(ctx, in.ID, "made a new secret of a receiver", func(tx *sqlx.Tx) error {
			err := store.RenewReceiver(ctx, tx, in.ID)
			if err == nil {
				r, err = store.FindReceiver(ctx, tx, in.ID)
			}
			return err
		})
		return s.secretOf(r, err)
	})
	register(s, operation{
		Right: access.Administer, ID: "remove-receiver", Method: http.MethodDelete, Path: "/receivers/{id}",
		Summary: "Tell a program no more; what waits for it is given up",
	}, func(ctx context.Context, in *ByID) (*struct{}, error) {
		return nil, s.changeReceiver(ctx, in.ID, "removed a receiver", func(tx *sqlx.Tx) error { return store.RemoveReceiver(ctx, tx, in.ID) })
	})
	register(s, operation{
		Right: access.Administer, ID: "try-receiver", Method: http.MethodPost, Path: "/receivers/{id}/trial",
		Summary: "Send a receiver an event that says nothing, and tell whether it took it",
	}, func(ctx context.Context, in *ByID) (*body[Tried], error) {
		r, err := store.FindReceiver(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if err := s.Pool.TryReceiver(ctx, r); err != nil {
			return answer(&Tried{Says: sentence(err)}, nil)
		}
		return answer(&Tried{Took: true, Says: r.Name + " took the event."}, nil)
	})
	s.sendings()
}

// secretOf shows a receiver with its secret.
func (s *Server) secretOf(r *records.Receiver, err error) (*body[records.MadeReceiver], error) {
	if err != nil {
		return nil, err
	}
	return answer(&records.MadeReceiver{Receiver: *r, Secret: telling.Secret(s.Pool.Secret, r.ID, r.Serial)}, nil)
}

func (s *Server) changeReceiver(ctx context.Context, id int64, action string, change func(tx *sqlx.Tx) error) error {
	return s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		r, err := store.FindReceiver(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := change(tx); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, action, r.Name, nil)
	})
}

func (s *Server) sendings() {
	type listed struct {
		Paging
		Receiver int64  `query:"receiver" minimum:"0" maximum:"9007199254740991" doc:"Only what is sent to this receiver"`
		State    string `query:"state" enum:"waiting,sent,given_up"`
	}
	register(s, operation{
		Right: access.Administer, ID: "list-sendings", Method: http.MethodGet, Path: "/sendings",
		Summary: "What is sent to people and programs, newest first, with how often it was tried and what went wrong",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Sending]], error) {
		return answer(store.Sendings(ctx, s.Store.DB, in.Receiver, in.State, in.cursor()))
	})
	register(s, operation{
		Right: access.Administer, ID: "send-again", Method: http.MethodPost, Path: "/sendings/{id}/again",
		Summary: "Try once more to send what was given up",
	}, func(ctx context.Context, in *ByID) (*body[records.Sending], error) {
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			if _, err := store.FindSending(ctx, tx, in.ID); err != nil {
				return err
			}
			ok, err := s.Pool.SendAgain(ctx, tx, in.ID)
			if err == nil && !ok {
				err = huma.NewError(http.StatusConflict, fmt.Sprintf("Sending %d was not given up.", in.ID))
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		return answer(store.FindSending(ctx, s.Store.DB, in.ID))
	})
}

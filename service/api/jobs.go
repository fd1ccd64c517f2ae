package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// lookEvery is how often a job is looked at for those who follow it.
const lookEvery = 300 * time.Millisecond

func subject(t *records.Table) string { return fmt.Sprintf("table %d of %s", t.ID, t.Dataset) }

type planned struct {
	ByID
	Body struct {
		FixPlan string `json:"fix_plan" minLength:"1" doc:"The name of a fix plan of the table's dataset"`
		Version int    `json:"version,omitempty" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
	}
}

func (s *Server) jobs() {
	register(s, operation{
		Right: access.Work, ID: "preview-fix", Method: http.MethodPost, Path: "/tables/{id}/previews",
		Summary: "Work out what a fix plan would do; the job's result is the preview",
	}, func(ctx context.Context, in *planned) (*body[records.Job], error) {
		return answer(s.startPlan(ctx, in, s.Pool.AddPreview, "previewed a fix plan"))
	})
	register(s, operation{
		Right: access.Work, ID: "apply-fix", Method: http.MethodPost, Path: "/tables/{id}/fixes",
		Summary: "Apply a fix plan: the job makes a cleaned table, and the delivery stays as it is",
	}, func(ctx context.Context, in *planned) (*body[records.Job], error) {
		return answer(s.startPlan(ctx, in, s.Pool.AddFix, "asked for a fix plan to be applied"))
	})
	type listed struct {
		Paging
		Table   int64 `query:"table" minimum:"0" maximum:"9007199254740991" doc:"Only jobs on this table"`
		Running bool  `query:"running" doc:"Only jobs that have not ended"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-jobs", Method: http.MethodGet, Path: "/jobs",
		Summary: "Jobs, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Job]], error) {
		return answer(store.Jobs(ctx, s.Store.DB, in.Table, in.Running, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-job", Method: http.MethodGet, Path: "/jobs/{id}",
		Summary: "One job, with how far it is",
	}, func(ctx context.Context, in *ByID) (*body[records.Job], error) {
		return answer(store.FindJob(ctx, s.Store.DB, in.ID))
	})
	register(s, operation{
		Right: access.Work, ID: "stop-job", Method: http.MethodPost, Path: "/jobs/{id}/stop",
		Summary: "Stop a job; nothing of it is kept",
	}, func(ctx context.Context, in *ByID) (*body[records.Job], error) {
		if _, err := store.FindJob(ctx, s.Store.DB, in.ID); err != nil {
			return nil, err
		}
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			ok, err := store.StopJob(ctx, tx, in.ID)
			if err != nil {
				return err
			}
			if !ok {
				return huma.NewError(http.StatusConflict, fmt.Sprintf("Job %d has ended already.", in.ID))
			}
			return store.Record(ctx, tx, caller(ctx).ID, "stopped a job", fmt.Sprintf("job %d", in.ID), nil)
		})
		if err != nil {
			return nil, err
		}
		return answer(store.FindJob(ctx, s.Store.DB, in.ID))
	})
	s.jobEvents()
}

// addJob queues what is to be done with a fix plan.
type addJob func(ctx context.Context, tx *sqlx.Tx, t *records.Table, plan *records.Declaration, person int64) (
	*records.Job, error)

func (s *Server) startPlan(ctx context.Context, in *planned, add addJob, action string) (*records.Job, error) {
	t, err := store.FindTable(ctx, s.Store.DB, in.ID)
	if err != nil {
		return nil, err
	}
	if t.WithdrawnAt != nil {
		return nil, invalid("Table %d was withdrawn: %s", t.ID, *t.Withdrawn)
	}
	if t.Origin != store.OriginDelivery {
		return nil,
			invalid("Table %d is a %s table; fix plans are applied to deliveries. Change the plan and apply it to the delivery again.", t.ID, t.Origin)
	}
	plan, err := s.declaration(ctx, store.KindFixPlan, t.Dataset, in.Body.FixPlan, in.Body.Version)
	if err != nil {
		return nil, err
	}
	var job *records.Job
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if job, err = add(ctx, tx, t, plan, caller(ctx).ID); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, action, subject(t),
			map[string]any{"fix_plan": plan.Name, "version": plan.Version})
	})
	return job, err
}

func (s *Server) jobEvents() {
	sse.Register(s.api, huma.Operation{OperationID: "follow-job", Method: http.MethodGet, Path: "/jobs/{id}/events",
		Summary:     "Follow a job: an event whenever it has got further, the last one when it has ended",
		Middlewares: huma.Middlewares{s.requires(access.Read)}},
		map[string]any{"job": records.Job{}}, func(ctx context.Context, in *ByID, send sse.Sender) {
			var last records.Job
			for {
				job, err := store.FindJob(ctx, s.Store.DB, in.ID)
				if err != nil {
					return
				}
				job.Result = nil // previews are large; they are fetched when the job is done
				if job.State != last.State || job.BytesDone != last.BytesDone || job.Attempt != last.Attempt {
					if send.Data(*job) != nil {
						return
					}
				}
				if last = *job; job.Ended() {
					return
				}
				select {
				case <-ctx.Done():
					return
				case <-time.After(lookEvery):
				}
			}
		})
}

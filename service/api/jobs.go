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

func (s *Server) jobs() {
	type listed struct {
		Paging
		Table   int64 `query:"table" minimum:"0" maximum:"9007199254740991" doc:"Only jobs on this table"`
		Running bool  `query:"running" doc:"Only jobs that have not ended"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-jobs", Method: http.MethodGet, Path: "/jobs",
		Summary: "Jobs, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Job]], error) {
		page, err := store.Jobs(seen(ctx), s.Store.DB, in.Table, in.Running, in.cursor())
		if err != nil {
			return nil, err
		}
		for i := range page.Items {
			if !caller(ctx).SeesPersonal(page.Items[i].DatasetID) {
				page.Items[i].Result = nil // it may tell texts, as show-job does
			}
			if err := s.withoutOthers(ctx, &page.Items[i]); err != nil {
				return nil, err
			}
		}
		return answer(page, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "show-job", Method: http.MethodGet, Path: "/jobs/{id}",
		Summary: "One job, with how far it is",
	}, func(ctx context.Context, in *ByID) (*body[records.Job], error) {
		job, err := store.FindJob(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(job, s.withoutOthers(ctx, job))
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

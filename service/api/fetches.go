package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

func (s *Server) fetches() {
	type added struct {
		ByName
		Body records.NewFetch
	}
	register(s, operation{
		Right: access.Work, ID: "add-fetch", Method: http.MethodPost, Path: "/datasets/{name}/fetches",
		Summary: "Fetch deliveries from a web address: once, or again and again. What has not changed is not fetched again",
	}, func(ctx context.Context, in *added) (*body[records.Fetching], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		if err := work.CheckAddress(in.Body.Address); err != nil {
			return nil, invalid("%s", sentence(err))
		}
		source, err := json.Marshal(in.Body.SourceNotes)
		if err != nil {
			return nil, err
		}
		var out records.Fetching
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			f, err := store.AddFetch(ctx, tx, d.ID, in.Body.Address, in.Body.EveryMinutes, source, caller(ctx).ID)
			if err != nil {
				return err
			}
			out.Fetch = *f
			if out.Job, err = s.Pool.AddFetchJob(ctx, tx, f, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "asked for deliveries from an address", "dataset "+d.Name,
				map[string]any{"address": f.Address})
		})
		return answer(&out, err)
	})
	register(s, operation{
		Right: access.Read, ID: "list-fetches", Method: http.MethodGet, Path: "/datasets/{name}/fetches",
		Summary: "The addresses from which a dataset's deliveries are fetched",
	}, func(ctx context.Context, in *ByName) (*body[[]records.Fetch], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		all, err := store.Fetches(ctx, s.Store.DB, d.ID)
		return answer(&all, err)
	})
	register(s, operation{
		Right: access.Work, ID: "run-fetch", Method: http.MethodPost, Path: "/fetches/{id}/run",
		Summary: "Fetch from an address now",
	}, func(ctx context.Context, in *ByID) (*body[records.Job], error) {
		f, err := store.FindFetch(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if f.EndedAt != nil {
			return nil, invalid("Fetching from %s has ended; add the address anew.", f.Address)
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			job, err = s.Pool.AddFetchJob(ctx, tx, f, caller(ctx).ID)
			return err
		})
		return answer(job, err)
	})
	register(s, operation{
		Right: access.Work, ID: "end-fetch", Method: http.MethodDelete, Path: "/fetches/{id}",
		Summary: "Fetch no more from an address",
	}, func(ctx context.Context, in *ByID) (*body[records.Fetch], error) {
		var f *records.Fetch
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if f, err = store.EndFetch(ctx, tx, in.ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "ended fetching from an address",
				fmt.Sprintf("dataset %s", f.Dataset), map[string]any{"address": f.Address})
		})
		return answer(f, err)
	})
}

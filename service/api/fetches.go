package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/intake/delimited"
	"proudsieve/engine"
	"proudsieve/inplace"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// PlanInPlace is what would be asked of a table that is judged where it lies.
type PlanInPlace = inplace.Plan

func (s *Server) fetches() {
	type added struct {
		ByName
		Body records.NewFetch
	}
	register(s, operation{
		Right: access.Work, ID: "add-fetch", Method: http.MethodPost, Path: "/datasets/{name}/fetches",
		Summary: "Fetch deliveries from a web address, or from a table or query in a database: once, or again and again. What has not changed is not fetched again",
	}, func(ctx context.Context, in *added) (*body[records.Fetching], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		from, err := s.fetchFrom(ctx, &in.Body)
		if err != nil {
			return nil, err
		}
		source, err := json.Marshal(in.Body.SourceNotes)
		if err != nil {
			return nil, err
		}
		var out records.Fetching
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			from.DatasetID, from.Source, from.PersonID = d.ID, source, caller(ctx).ID
			f, err := store.AddFetch(ctx, tx, from)
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
	type foreseen struct {
		ByName
		Body records.Relation
	}
	register(s, operation{
		Right: access.Work, ID: "foresee-in-place", Method: http.MethodPost, Path: "/datasets/{name}/foreseen",
		Summary: "What would be asked of a table or query in a database that is judged where it lies, by its first rows and the newest rulebook; nothing is begun",
	}, func(ctx context.Context, in *foreseen) (*body[PlanInPlace], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		if _, err := s.fetchFrom(ctx, &records.NewFetch{Relation: in.Body}); err != nil {
			return nil, err
		}
		from, err := store.FindDatabase(ctx, s.Store.DB, in.Body.Database)
		if err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(ctx, foreseeWait)
		defer cancel()
		plan, err := s.Pool.ForeseeThere(ctx, d, from, engine.Relation{Schema: in.Body.Schema, Table: in.Body.Table, Query: in.Body.Query})
		if err != nil {
			return nil, invalid("%s", sentence(inTime(ctx, err)))
		}
		return answer(plan, nil)
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

// fetchFrom says where deliveries are to be fetched from, if that can be: a web address, or a database for those who may read it.
func (s *Server) fetchFrom(ctx context.Context, in *records.NewFetch) (*store.NewFetch, error) {
	out := &store.NewFetch{Address: in.Address, EveryMinutes: in.EveryMinutes, Of: in.Relation}
	if in.Database == "" {
		if in.Schema != "" || in.Table != "" || in.Query != "" || in.InPlace {
			return nil, invalid("A table or a query is in a database: say which one.")
		}
		if err := work.CheckAddress(in.Address); err != nil {
			return nil, invalid("%s", sentence(err))
		}
		return out, nil
	}
	switch {
	case caller(ctx).Confined:
		return nil, errNothingThere
	case in.Address != "":
		return nil, invalid("Deliveries come from a web address or from a database, not from both.")
	case (in.Table == "") == (strings.TrimSpace(in.Query) == ""):
		return nil, invalid("Say either a table of the database or a query.")
	case in.Table != "" && in.Schema == "":
		return nil, invalid("Say in which schema the table %s is.", in.Table)
	}
	d, err := store.FindDatabase(ctx, s.Store.DB, in.Database)
	if err != nil {
		return nil, err
	}
	out.DatabaseID = &d.ID
	out.Address = d.Name + ": " + engine.Relation{Schema: in.Schema, Table: in.Table}.String()
	if in.Query != "" {
		out.Address = d.Name + ": " + delimited.Clip(strings.Join(strings.Fields(in.Query), " "))
	}
	return out, nil
}

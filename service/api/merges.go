package api

import (
	"context"
	"net/http"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/merge"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

func (s *Server) merges() {
	type run struct {
		ByName
		Body struct {
			Version int              `json:"version,omitempty" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
			Tables  map[string]int64 `json:"tables,omitempty" doc:"Which table of a dataset takes part; the newest cleaned one where it is not given"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "run-merge", Method: http.MethodPost, Path: "/merges/{name}/runs",
		Summary: "Run a merge on cleaned tables; the job makes the merged table",
	}, func(ctx context.Context, in *run) (*body[records.Job], error) {
		d, err := s.declaration(ctx, store.KindMerge, in.Name, in.Name, in.Body.Version)
		if err != nil {
			return nil, err
		}
		plan, err := merge.Parse([]byte(d.Source))
		if err != nil {
			return nil, err
		}
		inputs, err := s.mergeTables(ctx, plan, in.Body.Tables)
		if err != nil {
			return nil, err
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			job, err = s.Pool.AddMerge(ctx, tx, d, inputs, caller(ctx).ID)
			if err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "asked for a merge", d.Name,
				map[string]any{"version": d.Version, "tables": inputs})
		})
		return answer(job, err)
	})
	register(s, operation{
		Right: access.Read, ID: "list-inputs", Method: http.MethodGet, Path: "/tables/{id}/inputs",
		Summary: "The tables that a merged one was made of",
	}, func(ctx context.Context, in *ByID) (*body[[]records.Table], error) {
		if _, err := store.FindTable(ctx, s.Store.DB, in.ID); err != nil {
			return nil, err
		}
		inputs, err := store.InputsOf(ctx, s.Store.DB, in.ID)
		return answer(&inputs, err)
	})
}

// mergeTables settles which table of each dataset takes part.
func (s *Server) mergeTables(ctx context.Context, plan *merge.Plan, given map[string]int64) (map[string]int64, error) {
	tables := map[string]int64{}
	for _, name := range plan.Datasets() {
		d, err := store.FindDataset(ctx, s.Store.DB, name)
		if err != nil {
			return nil, err
		}
		if id, ok := given[name]; ok {
			t, err := store.FindTable(ctx, s.Store.DB, id)
			if err != nil {
				return nil, err
			}
			if t.WithdrawnAt != nil {
				return nil, invalid("Table %d was withdrawn: %s", id, *t.Withdrawn)
			}
			if t.DatasetID != d.ID || t.Origin == store.OriginDelivery {
				return nil, invalid("Table %d is not a cleaned table of %s.", id, name)
			}
			tables[name] = id
			continue
		}
		t, err := store.NewestCleaned(ctx, s.Store.DB, d.ID, name)
		if err != nil {
			return nil, err
		}
		tables[name] = t.ID
	}
	for name := range given {
		if _, ok := tables[name]; !ok {
			return nil, invalid("The merge %s does not read the dataset %q.", plan.Name, name)
		}
	}
	return tables, nil
}

package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/merge"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// TotalsAsked is a question for totals that should agree.
type TotalsAsked struct {
	ByID
	With       int64    `query:"with" required:"true" minimum:"1" maximum:"9007199254740991" doc:"The table that it is held against"`
	By         []string `query:"by,explode" doc:"What a group has in common: columns, or what is worked out of them; none for one total"`
	ByThere    []string `query:"by_there,explode" doc:"The same in the other table, where it is called otherwise there"`
	Of         string   `query:"of" doc:"A column of numbers, or an expression; nothing for the number of rows"`
	OfThere    string   `query:"of_there" doc:"The same in the other table, where it is called otherwise there"`
	Where      string   `query:"where" doc:"A condition on the rows that count"`
	WhereThere string   `query:"where_there" doc:"A condition on the rows of the other table that count"`
	Factor     string   `query:"factor" doc:"What the totals there are multiplied by; 1 where it is not given"`
	Tolerance  string   `query:"tolerance" doc:"How far two totals may lie apart"`
	Percent    string   `query:"percent" doc:"The same in percent of the total there; the larger one counts"`
}

// totals returns the question.
func (in *TotalsAsked) totals() (q merge.Totals, err error) {
	q.Here = merge.TotalsOf{By: in.By, Of: in.Of, Where: in.Where}
	q.There = merge.TotalsOf{By: in.ByThere, Of: in.OfThere, Where: in.WhereThere}
	if len(in.ByThere) == 0 {
		q.There.By = in.By
	}
	if in.OfThere == "" {
		q.There.Of = in.Of
	}
	if err := q.ParseNumbers(in.Factor, in.Tolerance, in.Percent); err != nil {
		return q, invalid("%s", sentence(err))
	}
	return q, nil
}

// twoTables are two tables that are held against one another.
type twoTables struct {
	here, there   *merge.Input
	first, second *records.Table
	key           string
	workers       int
}

func (s *Server) twoTables(ctx context.Context, id, with int64) (*twoTables, error) {
	out := &twoTables{}
	for _, one := range []struct {
		id   int64
		into **merge.Input
		t    **records.Table
	}{{id, &out.here, &out.first}, {with, &out.there, &out.second}} {
		t, err := store.FindTable(ctx, s.Store.DB, one.id)
		if err != nil {
			return nil, err
		}
		opened, err := s.inside(ctx, one.id)
		if err != nil {
			return nil, err
		}
		*one.t = t
		*one.into = &merge.Input{Dataset: t.Dataset, Table: t.ID, Source: opened.Source, Book: opened.Book}
		out.key, out.workers = out.key+opened.key, opened.Workers
	}
	return out, nil
}

// totalsAsked returns a question for totals with the tables that it is about. Their key is that of the question: each text of it
// in quotes, so that no two questions have the same.
func (s *Server) totalsAsked(ctx context.Context, in *TotalsAsked) (q merge.Totals, two *twoTables, err error) {
	if q, err = in.totals(); err != nil {
		return q, nil, err
	}
	if two, err = s.twoTables(ctx, in.ID, in.With); err != nil {
		return q, nil, err
	}
	two.key += fmt.Sprintf("totals %q %q %q", q.Here, q.There, []string{in.Factor, in.Tolerance, in.Percent})
	return q, two, nil
}

// remembering is a comparison that is remembered.
type remembering struct{ *merge.Revision }

func (r remembering) size() int64 { return r.Bytes() }

// reconciling adds what holds tables against one another, total by total or row by row.
func (s *Server) reconciling() {
	type totalsShown struct {
		TotalsAsked
		Limit int `query:"limit" minimum:"1" maximum:"10000" default:"200" doc:"How many groups that do not agree are told"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-totals", Method: http.MethodGet, Path: "/tables/{id}/totals",
		Summary: "Hold the totals of a table against those of another: which agree, differ, or are on one side only, and what many that differ have in common",
	}, func(ctx context.Context, in *totalsShown) (*body[merge.Reconciled], error) {
		q, two, err := s.totalsAsked(ctx, &in.TotalsAsked)
		if err != nil {
			return nil, err
		}
		q.Shown = in.Limit
		return answer(recall(ctx, &s.remembered, fmt.Sprintf("%s %d", two.key, q.Shown), func(ctx context.Context) (*merge.Reconciled, error) {
			return asked(merge.Reconcile(ctx, q, two.here, two.there, two.workers))
		}))
	})
	type groupAsked struct {
		TotalsAsked
		Group    []string `query:"group,explode" doc:"The values of the group, one for each that totals are by"`
		Key      []string `query:"key,explode" required:"true" doc:"The columns that tell rows apart"`
		KeyThere []string `query:"key_there,explode" doc:"The same in the other table, where they are called otherwise there"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-total-rows", Method: http.MethodGet, Path: "/tables/{id}/totals/rows",
		Summary: "Which rows make up the difference between two totals, by a key that both tables have",
	}, func(ctx context.Context, in *groupAsked) (*body[merge.GroupRows], error) {
		q, two, err := s.totalsAsked(ctx, &in.TotalsAsked)
		if err != nil {
			return nil, err
		}
		there := in.KeyThere
		if len(there) == 0 {
			there = in.Key
		}
		return answer(recall(ctx, &s.remembered, fmt.Sprintf("%s rows %q %q %q", two.key, in.Group, in.Key, there), func(ctx context.Context) (*merge.GroupRows, error) {
			return asked(merge.RowsOfGroup(ctx, q, two.here, two.there, in.Group, in.Key, there, two.workers))
		}))
	})
	s.revisions()
}

// RevisionAsked is a question for what came of the rows of an earlier table.
type RevisionAsked struct {
	ByID
	With int64    `query:"with" minimum:"0" maximum:"9007199254740991" doc:"The earlier table; 0 for the one of the same dataset and origin before"`
	Key  []string `query:"key,explode" doc:"The columns that tell rows apart; the key of the rulebook where none are given"`
}

// RevisionShown is how a table differs from an earlier one.
type RevisionShown struct {
	Before records.Table `json:"before"`
	After  records.Table `json:"after"`
	merge.Revision
}

// RevisedRows are some of the rows that came, went or changed.
type RevisedRows struct {
	Rows   []merge.RowRevised `json:"rows"`
	Of     int64              `json:"of"`
	Offset int                `json:"offset"`
}

func (s *Server) revised(ctx context.Context, in *RevisionAsked) (*twoTables, *merge.Revision, error) {
	t, err := store.FindTable(ctx, s.Store.DB, in.ID)
	if err != nil {
		return nil, nil, err
	}
	with := in.With
	if with == 0 {
		before, err := store.TableBefore(ctx, s.Store.DB, t)
		if err != nil {
			return nil, nil, err
		}
		with = before.ID
	}
	two, err := s.twoTables(ctx, with, in.ID)
	if err != nil {
		return nil, nil, err
	}
	v, err := recall(ctx, &s.remembered, two.key+"revision "+strings.Join(in.Key, "\x00"), func(ctx context.Context) (remembering, error) {
		v, err := asked(merge.Revise(ctx, two.here, two.there, in.Key, two.workers))
		return remembering{v}, err
	})
	return two, v.Revision, err
}

func (s *Server) revisions() {
	register(s, operation{
		Right: access.Read, ID: "show-revision", Method: http.MethodGet, Path: "/tables/{id}/revision",
		Summary: "How the rows of a table differ from those of an earlier one, by a key: what came, went and changed, per column, with the sums",
	}, func(ctx context.Context, in *RevisionAsked) (*body[RevisionShown], error) {
		two, v, err := s.revised(ctx, in)
		if err != nil {
			return nil, err
		}
		return answer(&RevisionShown{*two.first, *two.second, *v}, nil)
	})
	type rowsAsked struct {
		RevisionAsked
		Kind   string `query:"kind" enum:"changed,came,went" default:"changed"`
		Offset int    `query:"offset" minimum:"0" maximum:"4294967294"`
		Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-revised-rows", Method: http.MethodGet, Path: "/tables/{id}/revision/rows",
		Summary: "Rows that came, went or changed since an earlier table, cell by cell",
	}, func(ctx context.Context, in *rowsAsked) (*body[RevisedRows], error) {
		two, v, err := s.revised(ctx, &in.RevisionAsked)
		if err != nil {
			return nil, err
		}
		rows, err := asked(v.Rows(ctx, two.here, two.there, in.Kind, in.Offset, in.Limit, two.workers))
		if err != nil {
			return nil, err
		}
		of := map[string]int64{merge.RowChanged: v.Changed, merge.RowCame: v.Came, merge.RowWent: v.Went}[in.Kind]
		return answer(&RevisedRows{rows, of, in.Offset}, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "download-revision", Method: http.MethodGet, Path: "/tables/{id}/revision/file",
		Summary: "All that came, went and changed since an earlier table, as CSV. A text that a spreadsheet would run as a formula gets an apostrophe before it",
	}, func(ctx context.Context, in *RevisionAsked) (*huma.StreamResponse, error) {
		two, v, err := s.revised(ctx, in)
		if err != nil {
			return nil, err
		}
		if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "downloaded a revision", subject(two.second), map[string]any{"before": two.first.ID}); err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "text/csv; charset=utf-8")
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s_%d_to_%d.csv", two.second.Dataset, two.first.ID, two.second.ID)))
			if err := v.Write(out.Context(), two.here, two.there, out.BodyWriter(), two.workers); err != nil {
				s.cutOff("a revision", two.second.ID, err)
			}
		}}, nil
	})
}

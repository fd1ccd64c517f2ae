package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/service/access"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// RowsPage is some rows of a table with what each cell was caught for.
type RowsPage struct {
	Columns []string   `json:"columns"`
	Rows    []ShownRow `json:"rows"`
	Total   int64      `json:"total" doc:"How many rows there are of those asked for; -1 where no audit has counted them"`
	Next    uint32     `json:"next" doc:"After which row the next page starts; 0 on the last one"`
}

// ShownRow is one row as it stands in the file.
type ShownRow struct {
	Row     uint32         `json:"row"`
	Line    int64          `json:"line"`
	Cells   []string       `json:"cells"`
	Surplus []string       `json:"surplus,omitempty" doc:"Cells beyond the header's"`
	Caught  []audit.Caught `json:"caught"`
}

type rowsAsked struct {
	ByID
	After     uint32 `query:"after" doc:"Rows after this one"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Rule      string `query:"rule" doc:"Only rows that break this rule"`
	Column    string `query:"column" doc:"Only rows caught in this column"`
	Dimension string `query:"dimension" enum:"completeness,validity,uniqueness,consistency" doc:"Only rows caught in this dimension"`
}

func (s *Server) tables() {
	type listed struct {
		ByName
		Paging
		Origin string `query:"origin" enum:"delivery,cleaned,merged" doc:"Only tables of this origin"`
	}
	operation(s, access.Read, http.MethodGet, "/datasets/{name}/tables", "list-tables", "The deliveries, cleaned and merged tables of a dataset, newest first", func(ctx context.Context, in *listed) (*body[store.Page[store.Table]], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(store.Tables(ctx, s.Store.DB, d.ID, in.Origin, in.cursor()))
	})
	operation(s, access.Read, http.MethodGet, "/tables/{id}", "show-table", "One table", func(ctx context.Context, in *ByID) (*body[store.Table], error) {
		return answer(store.FindTable(ctx, s.Store.DB, in.ID))
	})
	operation(s, access.Read, http.MethodGet, "/tables/{id}/rows", "show-rows", "Rows of a table as they stand in the file, with what was caught", func(ctx context.Context, in *rowsAsked) (*body[RowsPage], error) {
		return answer(s.rows(ctx, in))
	})
	operation(s, access.Read, http.MethodGet, "/tables/{id}/path", "show-path", "Where the table is on its way from arrival to certificate, and what holds it up", func(ctx context.Context, in *ByID) (*body[Path], error) {
		return answer(s.path(ctx, in.ID))
	})
	type download struct {
		ByID
		What string `query:"what" enum:"table,change-log" default:"table"`
	}
	operation(s, access.Read, http.MethodGet, "/tables/{id}/bytes", "download-table", "The bytes of a table, or of the change log of a cleaned one", func(ctx context.Context, in *download) (*huma.StreamResponse, error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		digest, name := t.Digest, t.FileName
		if in.What == "change-log" {
			if t.ChangeLog == nil {
				return nil, huma.NewError(http.StatusNotFound, "Only a cleaned table has a change log.")
			}
			digest, name = *t.ChangeLog, t.Dataset+"_changes.jsonl"
		}
		f, err := s.Files.Open(digest)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			defer f.Close()
			out.SetHeader("Content-Type", "application/octet-stream")
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
			out.SetHeader("ETag", `"`+digest+`"`)
			if _, err := io.Copy(out.BodyWriter(), f); err != nil {
				s.Log.Info("a download was cut off", "table", t.ID, "error", err)
			}
		}}, nil
	})
}

// auditRows opens the row sets of a table's newest audit, with the rulebook it went
// by; all are nil where there is none.
func (s *Server) auditRows(ctx context.Context, t *store.Table) (*audit.Rows, *rulebook.Rulebook, *store.Audit, func(), error) {
	nothing := func() {}
	if t.AuditID == nil {
		return nil, nil, nil, nothing, nil
	}
	a, err := store.FindAudit(ctx, s.Store.DB, *t.AuditID)
	if err != nil {
		return nil, nil, nil, nothing, err
	}
	var book *rulebook.Rulebook
	if a.RulebookID != nil {
		d, err := store.FindDeclaration(ctx, s.Store.DB, *a.RulebookID)
		if err != nil {
			return nil, nil, nil, nothing, err
		}
		if book, err = rulebook.Parse([]byte(d.Source)); err != nil {
			return nil, nil, nil, nothing, err
		}
	}
	f, err := s.Files.Open(a.RowsDigest)
	if err != nil {
		return nil, nil, nil, nothing, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, nil, nil, nothing, errors.Join(err, f.Close())
	}
	rows, err := audit.OpenRows(f, info.Size())
	return rows, book, a, func() { _ = f.Close() }, err
}

func (s *Server) rows(ctx context.Context, in *rowsAsked) (*RowsPage, error) {
	t, err := store.FindTable(ctx, s.Store.DB, in.ID)
	if err != nil {
		return nil, err
	}
	known, book, a, done, err := s.auditRows(ctx, t)
	defer done()
	if err != nil {
		return nil, err
	}
	source, _, err := work.OpenTable(ctx, s.Files, t, book)
	if err != nil {
		return nil, err
	}
	out := &RowsPage{Columns: source.Columns(), Rows: []ShownRow{}, Total: -1}
	wanted, err := wantedRows(in, known, a, out)
	if err != nil {
		return nil, err
	}
	var marks []intake.Mark
	if known != nil {
		marks = known.Marks
	}
	picked, err := source.Pick(ctx, marks, wanted)
	if err != nil {
		return nil, err
	}
	if len(picked) > in.Limit {
		picked = picked[:in.Limit]
		out.Next = picked[in.Limit-1].Row
	}
	caught := map[uint32][]audit.Caught{}
	if known != nil {
		numbers := make([]uint32, len(picked))
		for i, p := range picked {
			numbers[i] = p.Row
		}
		if caught, err = known.Of(numbers); err != nil {
			return nil, err
		}
	}
	for _, p := range picked {
		row := ShownRow{Row: p.Row, Line: p.Line, Cells: p.Cells, Surplus: p.Surplus, Caught: caught[p.Row]}
		if row.Caught == nil {
			row.Caught = []audit.Caught{}
		}
		out.Rows = append(out.Rows, row)
	}
	return out, nil
}

// wantedRows lists one row more than a page has, to know whether another follows.
func wantedRows(in *rowsAsked, known *audit.Rows, a *store.Audit, out *RowsPage) ([]uint32, error) {
	limit := in.Limit + 1
	var wanted []uint32
	if known != nil {
		out.Total = a.Rows
		set, err := known.Where(in.Rule, in.Column, rulebook.Dimension(in.Dimension))
		if err != nil {
			return nil, err
		}
		if set != nil {
			out.Total = int64(set.GetCardinality())
			it := set.Iterator()
			it.AdvanceIfNeeded(in.After + 1)
			for it.HasNext() && len(wanted) < limit {
				wanted = append(wanted, it.Next())
			}
			return wanted, nil
		}
	} else if in.Rule != "" || in.Column != "" || in.Dimension != "" {
		return nil, invalid("The table has not been audited yet, so nothing is known to be caught; wait for its audit.")
	}
	for i := range limit {
		wanted = append(wanted, in.After+1+uint32(i))
	}
	return wanted, nil
}

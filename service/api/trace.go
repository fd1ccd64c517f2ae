package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/lineage"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// RowTraced says how a row or cell of a table came about, back to the deliveries.
type RowTraced struct {
	Table   int64  `json:"table"`
	Dataset string `json:"dataset"`
	Origin  string `json:"origin" enum:"delivery,cleaned,merged"`
	File    string `json:"file" doc:"The name of the file"`
	Row     int64  `json:"row"`
	Asked   string `json:"asked,omitempty" doc:"The column of the cell; empty for the whole row"`
	How     string `json:"how,omitempty" doc:"What it has to do with the row that was asked for: stacked, joined, unasked (a row of a joined table that no row asked for), or filled (another row stands for it, whose empty cells were filled from it)"`
	Grain   string `json:"grain,omitempty" doc:"Where its rows became others before the merge: how; the row is one of these"`
	// Of a cleaned table: the steps, the last one first, and the rows of the delivery.
	fix.Traced
	Parent *int64 `json:"parent,omitempty" doc:"The delivery that a cleaned table was made of"`
	// From are, of a merged table, the rows of the tables that it was made of.
	From []RowTraced `json:"from"`
}

// mergesTraced is how many merges, one upon the other, a row is followed through.
const mergesTraced = 20

// traces adds how rows and cells came about.
func (s *Server) traces() {
	type traced struct {
		ByID
		Row    int64  `path:"row" minimum:"1" maximum:"4294967294" doc:"A row of the table, from 1"`
		Column string `query:"column" doc:"One of its cells; the whole row where it is left out"`
	}
	register(s, operation{
		Right: access.Read, ID: "trace-row", Method: http.MethodGet, Path: "/tables/{id}/rows/{row}/trace",
		Summary: "How a row or cell of a table came about: the steps of fix plans, the last one first, the tables that were merged, and the rows that arrived",
	}, func(ctx context.Context, in *traced) (*body[RowTraced], error) {
		return answer(s.trace(ctx, in.ID, in.Row, in.Column, mergesTraced))
	})
}

func (s *Server) trace(ctx context.Context, id, row int64, column string, left int) (*RowTraced, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	out := &RowTraced{Table: t.ID, Dataset: t.Dataset, Origin: t.Origin, File: t.FileName, Row: row, Asked: column, Parent: t.ParentID,
		Traced: fix.Traced{Events: []fix.TracedEvent{}, Rows: []uint32{}}, From: []RowTraced{}}
	switch t.Origin {
	case store.OriginCleaned:
		made, err := s.traceCleaned(ctx, id, row, column)
		if err != nil {
			return nil, err
		}
		out.Traced = *made
		return out, nil
	case store.OriginMerged:
		if left == 0 {
			return nil, invalid("The row was followed through %d merges, and no further.", mergesTraced)
		}
		return out, s.traceMerged(ctx, t, out, left)
	}
	out.Rows, out.Column = []uint32{uint32(row)}, column
	opened, err := s.inside(ctx, id)
	if err != nil {
		return nil, err
	}
	if t.Rows != nil && row > *t.Rows {
		return nil, invalid("Table %d has %d rows, and no row %d.", id, *t.Rows, row)
	}
	return out, hasColumn(t, opened.Source.Columns(), column)
}

func hasColumn(t *records.Table, columns []string, column string) error {
	if column == "" {
		return nil
	}
	for _, name := range columns {
		if name == column {
			return nil
		}
	}
	return invalid("Table %d has no column %q.", t.ID, column)
}

// traceCleaned says what the steps of a fix plan did.
func (s *Server) traceCleaned(ctx context.Context, id, row int64, column string) (*fix.Traced, error) {
	t, ledger, err := s.cleaned(ctx, id)
	if err != nil {
		return nil, err
	}
	if row > ledger.RowsOut {
		return nil, invalid("Table %d has %d rows, and no row %d.", t.ID, ledger.RowsOut, row)
	}
	if err := hasColumn(t, ledger.Columns, column); err != nil {
		return nil, err
	}
	log, err := s.Files.Open(*t.ChangeLog)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	var rows files.File
	if t.RowMap != nil {
		if rows, err = s.Files.Open(*t.RowMap); err != nil {
			return nil, err
		}
		defer rows.Close()
	}
	return ledger.Trace(log, rows, uint32(row), column)
}

// traceMerged follows a row to the tables that a merged one was made of.
func (s *Server) traceMerged(ctx context.Context, t *records.Table, out *RowTraced, left int) error {
	in, a, err := s.sources(t)
	if err != nil {
		return err
	}
	defer in.Close()
	if out.Row > a.Rows {
		return invalid("Table %d has %d rows, and no row %d.", t.ID, a.Rows, out.Row)
	}
	from, err := merge.ReadSourced(in, in.Size(), out.Row)
	if err != nil {
		return err
	}
	opened, err := s.inside(ctx, t.ID)
	if err != nil {
		return err
	}
	if err := hasColumn(t, opened.Source.Columns(), out.Asked); err != nil {
		return err
	}
	for _, origin := range a.Origins(from, out.Asked) {
		one := &RowTraced{Table: origin.Table, Dataset: origin.Dataset, Row: origin.Row, Asked: origin.Column, Grain: origin.Grain,
			Traced: fix.Traced{Events: []fix.TracedEvent{}, Rows: []uint32{}}, From: []RowTraced{}}
		if origin.Grain == "" {
			if one, err = s.trace(ctx, origin.Table, origin.Row, origin.Column, left-1); err != nil {
				return err
			}
		} else if table, err := store.FindTable(ctx, s.Store.DB, origin.Table); err != nil {
			return err
		} else {
			one.Origin, one.File, one.Parent = table.Origin, table.FileName, table.ParentID
		}
		one.How = origin.How
		out.From = append(out.From, *one)
	}
	return nil
}

// sources opens what says where the rows of a merged table are from, and the accounting of its merge.
func (s *Server) sources(t *records.Table) (in files.File, a *merge.Accounting, err error) {
	if t.Origin != store.OriginMerged {
		return nil, nil, invalid("Table %d is no merged one.", t.ID)
	}
	if t.RowMap == nil {
		return nil, nil, huma.NewError(http.StatusNotFound, fmt.Sprintf("Table %d was merged by an earlier version, which did not keep where each row is from; run the merge again.", t.ID))
	}
	a = &merge.Accounting{}
	if err := json.Unmarshal(*t.Accounting, a); err != nil {
		return nil, nil, err
	}
	in, err = s.Files.Open(*t.RowMap)
	return in, a, err
}

// lineages adds what tables were made of, and what was made of them.
func (s *Server) lineages() {
	register(s, operation{
		Right: access.Read, ID: "show-lineage", Method: http.MethodGet, Path: "/tables/{id}/lineage",
		Summary: "What a table was made of and what was made of it, with the certificates of these tables",
	}, func(ctx context.Context, in *ByID) (*body[lineage.Lineage], error) {
		return answer(s.lineageOf(ctx, in.ID))
	})
	register(s, operation{
		Right: access.Read, ID: "download-provenance", Method: http.MethodGet, Path: "/tables/{id}/provenance",
		Summary: "The same as provenance in the words of W3C PROV-O, as JSON-LD",
	}, func(ctx context.Context, in *ByID) (*huma.StreamResponse, error) {
		l, err := s.lineageOf(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "application/ld+json")
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("table_%d_provenance.jsonld", in.ID)))
			if err := l.PROV(out.BodyWriter()); err != nil {
				s.cutOff("provenance", in.ID, err)
			}
		}}, nil
	})
}

package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/export"
	"proudsieve/service/access"
	"proudsieve/service/store"
)

// exportAsked asks for a table as a file for analysis.
type exportAsked struct {
	ByID
	RowChoice
	Format  string   `query:"format" enum:"csv,jsonl,parquet,xlsx" default:"csv"`
	Packing string   `query:"packing" enum:"gz,zst" doc:"How CSV and JSON Lines are packed; not at all where it is left out"`
	Columns []string `query:"columns,explode" doc:"Only these columns, in this order; all of them where none is named"`
	Labels  bool     `query:"labels" doc:"Beside each code, what it stands for"`
	Mixed   bool     `query:"mixed" doc:"Columns with texts that are no values of their type as text, whole; without it they are refused"`
	Check   bool     `query:"check" doc:"Only say whether it can be written so; nothing is sent"`
	Exact   bool     `query:"exact" doc:"Texts of CSV as they are, also those that a spreadsheet would run as a formula"`
}

// exports adds the files by which a table is analysed elsewhere.
func (s *Server) exports() {
	register(s, operation{
		Right: access.Read, ID: "export-table", Method: http.MethodGet, Path: "/tables/{id}/export",
		Summary: "A table, or the rows and columns of it that are chosen, for analysis: dates as dates, decimals as decimals, estimates marked",
	}, func(ctx context.Context, in *exportAsked) (*huma.StreamResponse, error) { return s.export(ctx, in) })
}

func (s *Server) export(ctx context.Context, in *exportAsked) (*huma.StreamResponse, error) {
	format := export.FormatOf(in.Format)
	if in.Packing != "" && format.Packs {
		return nil, invalid("%s is packed already; leave the packing out.", strings.ToUpper(format.Says[:1])+format.Says[1:])
	}
	t, err := s.insideBy(ctx, in.ID, in.Audit)
	if err != nil {
		return nil, err
	}
	known, done, err := s.auditRows(ctx, t.audit)
	defer done()
	if err != nil {
		return nil, err
	}
	set, err := s.chosenRows(ctx, t, &in.RowChoice, known)
	if err != nil {
		return nil, err
	}
	of, err := store.FindTable(ctx, s.Store.DB, in.ID)
	if err != nil {
		return nil, err
	}
	file, err := export.Measure(ctx, t.Source, t.Book, &export.Asked{Format: format, Packing: in.Packing, Columns: in.Columns, Rows: set, Labels: in.Labels, Mixed: in.Mixed, Exact: in.Exact,
		Title: of.FileName, Workers: t.Workers})
	if errors.Is(err, export.ErrMixed) || errors.Is(err, export.ErrUnheld) || errors.Is(err, export.ErrColumns) {
		return nil, invalid("%s.", strings.ToUpper(err.Error()[:1])+err.Error()[1:])
	}
	if err != nil {
		return nil, err
	}
	if in.Check {
		return &huma.StreamResponse{Body: func(out huma.Context) { out.SetStatus(http.StatusNoContent) }}, nil
	}
	if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "exported a table", subject(of), map[string]any{"format": in.Format, "rows": file.Count, "columns": len(file.Columns)}); err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%s_%d.%s", of.Dataset, of.ID, in.Format)
	kind := format.MediaType
	switch in.Packing {
	case "gz":
		kind = "application/gzip"
	case "zst":
		kind = "application/zstd"
	}
	if in.Packing != "" {
		name += "." + in.Packing
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", kind)
		out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
		if err := file.Write(out.Context(), out.BodyWriter()); err != nil {
			s.cutOff("an export", in.ID, err)
		}
	}}, nil
}

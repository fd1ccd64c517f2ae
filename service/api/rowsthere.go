package api

import (
	"context"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/personal"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// rowsThere reads a page of the rows that break a rule of a table that is judged where it lies, from there. They are numbered in the order of
// their texts, since rows of a database have no numbers.
func (s *Server) rowsThere(ctx context.Context, t *records.Table, in *rowsAsked) (*RowsPage, error) {
	other := in.RowChoice
	other.Rule, other.Audit = "", 0
	if in.Rule == "" || other != (RowChoice{}) || in.Sort != "" {
		return nil, invalid("Table %d is judged where it lies: of its rows, those that break one rule can be opened. For other questions take it as a delivery.", t.ID)
	}
	id := in.Audit
	if id == 0 && t.AuditID != nil {
		id = *t.AuditID
	}
	a, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	result, err := s.resultOf(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	out := &RowsPage{Columns: []string{}, Rows: []ShownRow{}, Offset: in.Offset + int64(in.After)}
	for i := range result.Columns {
		out.Columns = append(out.Columns, result.Columns[i].Name)
	}
	f := result.Finding(in.Rule)
	if f == nil || result.There == nil || a.TableID != t.ID {
		return out, nil
	}
	where, known := result.There.Where[in.Rule]
	if !known {
		return nil, invalid("The rows that break %s cannot be opened: too many different texts do, to ask for them again.", in.Rule)
	}
	hidden, err := s.hidden(ctx, t.DatasetID)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, databaseWait)
	defer cancel()
	names, rows, err := s.Pool.RowsThere(ctx, t, where, int(out.Offset), in.Limit+1)
	if err != nil {
		return nil, invalid("%s", sentence(inTime(ctx, err)))
	}
	out.Columns, out.Total = names, f.Rows
	if f.Groups > 0 {
		out.Total = -1 // with each surplus row there are those that it is a copy of
	}
	for i, cells := range rows {
		if i == in.Limit {
			out.Next = uint32(out.Offset) + uint32(in.Limit)
			break
		}
		row := ShownRow{Row: uint32(out.Offset) + uint32(i) + 1, Cells: cells, Caught: []audit.Caught{{Rule: f.Rule, Dimension: f.Dimension, Columns: f.Columns}}}
		for c, name := range names {
			if slices.Contains(hidden, name) {
				row.Cells[c] = personal.Mask(row.Cells[c])
			}
		}
		out.Rows = append(out.Rows, row)
	}
	return out, nil
}

// liesThere finds a table, and says whether it is judged where it lies.
func (s *Server) liesThere(ctx context.Context, id int64) (*records.Table, bool, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, false, err
	}
	return t, work.LiesThere(t) != nil, nil
}

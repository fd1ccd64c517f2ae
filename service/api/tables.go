package api

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/personal"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// RowsPage is some rows of a table with what each cell was caught for.
type RowsPage struct {
	Columns []string   `json:"columns"`
	Rows    []ShownRow `json:"rows"`
	Offset  int64      `json:"offset" doc:"How many of the rows asked for come before the first one here"`
	Total   int64      `json:"total" doc:"How many rows there are of those asked for; -1 where no audit has counted them"`
	Next    uint32     `json:"next" doc:"After which row the next page starts; 0 on the last one, and where rows are sorted"`
}

// ShownRow is one row as it stands in the file.
type ShownRow struct {
	Row     uint32         `json:"row"`
	Line    int64          `json:"line"`
	Cells   []string       `json:"cells"`
	Surplus []string       `json:"surplus,omitempty" doc:"Cells beyond the header's"`
	Caught  []audit.Caught `json:"caught"`
	// Estimated are the columns whose cell is an estimate.
	Estimated []string `json:"estimated,omitempty" doc:"The columns whose cell is an estimate"`
}

// RowChoice chooses rows of a table: those for which all holds that is given.
type RowChoice struct {
	Rule      string `query:"rule" doc:"Only rows that break this rule"`
	Column    string `query:"column" doc:"Only rows caught in this column"`
	Dimension string `query:"dimension" enum:"completeness,validity,uniqueness,consistency" doc:"Only rows caught in this dimension"`
	Where     string `query:"where" doc:"Only rows for which this condition holds"`
	Is        string `query:"is" doc:"Only rows with these texts: a JSON list of pairs of a column and a text; the empty text stands for a missing value"`
	Find      string `query:"find" doc:"Only rows with a cell that contains this text, whatever its case"`
	Marked    bool   `query:"marked" doc:"Only rows with a cell that is missing, or that are caught at all"`
	Estimated string `query:"estimated" doc:"Only rows whose cell in this column is an estimate"`
	Sourced   string `query:"sourced" doc:"Of a merged table: only rows chosen by where they are from, as from:TABLE, met:DATASET, unmet:DATASET, several:DATASET, unasked:DATASET or filled"`
	Audit     int64  `query:"audit" minimum:"0" maximum:"9007199254740991" doc:"The audit of the table that says what is caught and how values are read; the newest where it is left out"`
}

type rowsAsked struct {
	ByID
	RowChoice
	After   uint32 `query:"after" maximum:"4294967294" doc:"Rows after this one"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Sort    string `query:"sort" doc:"The column whose values order the rows; missing ones come last"`
	Falling bool   `query:"falling" doc:"Greatest first"`
	Offset  int64  `query:"offset" minimum:"0" maximum:"4294967294" doc:"How many of the rows asked for come before the page; not together with after"`
}

type rowsFileAsked struct {
	ByID
	RowChoice
	Columns []string `query:"columns,explode" doc:"Only these columns, in this order; all of them where none is named"`
	Exact   bool     `query:"exact" doc:"Write the texts as they are, also those that a spreadsheet would run"`
}

func (s *Server) tables() {
	type listed struct {
		ByName
		Paging
		Origin string `query:"origin" enum:"delivery,cleaned,merged" doc:"Only tables of this origin"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-tables", Method: http.MethodGet, Path: "/datasets/{name}/tables",
		Summary: "The deliveries, cleaned and merged tables of a dataset, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Table]], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(store.Tables(ctx, s.Store.DB, d.ID, in.Origin, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-table", Method: http.MethodGet, Path: "/tables/{id}",
		Summary: "One table",
	}, func(ctx context.Context, in *ByID) (*body[records.Table], error) {
		return answer(store.FindTable(ctx, s.Store.DB, in.ID))
	})
	register(s, operation{
		Right: access.Read, ID: "show-rows", Method: http.MethodGet, Path: "/tables/{id}/rows",
		Summary: "Rows of a table as they stand in the file, with what was caught",
	}, func(ctx context.Context, in *rowsAsked) (*body[RowsPage], error) {
		return answer(s.rows(ctx, in))
	})
	register(s, operation{
		Right: access.Read, ID: "download-rows", Method: http.MethodGet, Path: "/tables/{id}/chosen-rows",
		Summary: "Rows of a table as CSV, all that are chosen, in the order of the file. A text that a spreadsheet would run as a formula gets an apostrophe before it",
	}, func(ctx context.Context, in *rowsFileAsked) (*huma.StreamResponse, error) {
		return s.rowsFile(ctx, in)
	})
	s.exports()
	register(s, operation{
		Right: access.Read, ID: "show-path", Method: http.MethodGet, Path: "/tables/{id}/path",
		Summary: "Where the table is on its way from arrival to certificate, and what holds it up",
	}, func(ctx context.Context, in *ByID) (*body[records.Path], error) {
		return answer(s.path(ctx, in.ID))
	})
	type download struct {
		ByID
		What string `query:"what" enum:"table,change-log,marks,draws,unmet" default:"table"`
	}
	register(s, operation{
		Right: access.Read, ID: "download-table", Method: http.MethodGet, Path: "/tables/{id}/bytes",
		Summary: "The bytes of a table, or of what belongs to it: the change log of a cleaned one, the marks that say which cells are estimates, the draws of these beyond the first, and the rows of a merge that found no partner in a join",
	}, func(ctx context.Context, in *download) (*huma.StreamResponse, error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		digest, name := t.Digest, t.FileName
		if in.What != "table" {
			beside := map[string]struct {
				digest      *string
				name, lacks string
			}{
				"change-log": {t.ChangeLog, "_changes.jsonl", "Only a cleaned table has a change log."},
				"marks":      {t.Marks, "_marks.jsonl", "No cell of the table is an estimate."},
				"draws":      {t.Draws, "_draws.parquet", "No estimate of the table was drawn more than once."},
				"unmet":      {t.Unmet, "_without_partner.csv", "The table is no merge in which a row found no partner."},
			}[in.What]
			if beside.digest == nil {
				return nil, huma.NewError(http.StatusNotFound, beside.lacks)
			}
			digest, name = *beside.digest, t.Dataset+beside.name
		}
		if t.BytesLetGo && in.What == "table" {
			return nil, huma.NewError(http.StatusGone,
				fmt.Sprintf("Table %d was withdrawn, and its bytes were let go: %s", t.ID, *t.Withdrawn))
		}
		f, err := s.Files.Open(digest)
		if err != nil {
			return nil, err
		}
		if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "downloaded "+map[string]string{"table": "a table",
			"change-log": "a change log", "marks": "marks of estimates", "draws": "draws of estimates", "unmet": "the rows of a merge that found no partner"}[in.What], subject(t), map[string]any{"sha256": digest}); err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			defer f.Close()
			out.SetHeader("Content-Type", "application/octet-stream")
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
			out.SetHeader("ETag", `"`+digest+`"`)
			if _, err := io.Copy(out.BodyWriter(), f); err != nil {
				s.cutOff("a download", t.ID, err)
			}
		}}, nil
	})
}

func (s *Server) rows(ctx context.Context, in *rowsAsked) (*RowsPage, error) {
	if elsewhere, there, err := s.liesThere(ctx, in.ID); err != nil || there {
		if err != nil {
			return nil, err
		}
		return s.rowsThere(ctx, elsewhere, in)
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
	out := &RowsPage{Columns: t.Source.Columns(), Rows: []ShownRow{}, Total: -1}
	hidden, err := s.hidden(ctx, t.of)
	if err != nil {
		return nil, err
	}
	if t.audit == nil && !caller(ctx).SeesPersonal(t.of) {
		return nil, errUnaudited
	}
	if len(hidden) > 0 && (in.Where != "" || in.Is != "" || in.Find != "" || slices.Contains(hidden, in.Sort)) {
		return nil, huma.NewError(http.StatusForbidden, "What is asked of the texts of a table would tell personal data, of "+document.Join(hidden)+", which you may not see.")
	}
	wanted, err := s.wantedRows(ctx, t, in, known, out)
	if err != nil {
		return nil, err
	}
	picked, err := t.pick(ctx, known, slices.Sorted(slices.Values(wanted)))
	if err != nil {
		return nil, err
	}
	if len(picked) > in.Limit {
		if picked = picked[:in.Limit]; in.Sort == "" {
			out.Next = picked[in.Limit-1].Row
		}
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
	marks := t.file.Marks()
	marked := marks.Columns(out.Columns)
	for _, p := range picked {
		row := ShownRow{Row: p.Row, Line: p.Line, Cells: p.Cells, Surplus: p.Surplus, Caught: caught[p.Row]}
		if row.Caught == nil {
			row.Caught = []audit.Caught{}
		}
		for _, name := range marked {
			if marks.In(name).Contains(p.Row) {
				row.Estimated = append(row.Estimated, name)
			}
		}
		for i, name := range out.Columns {
			if i < len(row.Cells) && slices.Contains(hidden, name) {
				row.Cells[i] = personal.Mask(row.Cells[i])
			}
		}
		if len(hidden) > 0 {
			row.Surplus = nil // what stands beyond the header is of no column
		}
		out.Rows = append(out.Rows, row)
	}
	if in.Sort != "" {
		place := make(map[uint32]int, len(wanted))
		for i, row := range wanted {
			place[row] = i
		}
		slices.SortFunc(out.Rows, func(a, b ShownRow) int { return place[a.Row] - place[b.Row] })
	}
	return out, nil
}

// pick reads rows, whose numbers ascend, from where the audit knows that they begin.
func (t *inside) pick(ctx context.Context, known *audit.Rows, ascending []uint32) ([]delimited.Picked, error) {
	var checkpoints []delimited.Checkpoint
	if known != nil {
		checkpoints = known.Checkpoints
	}
	return t.file.Pick(ctx, checkpoints, ascending)
}

// rowsRemembered is how large the row sets of an audit may be that are remembered whole.
const rowsRemembered = 8 << 20

// heldRows are row sets that are remembered, with what they take.
type heldRows struct {
	*audit.Rows
	bytes int64
}

func (h heldRows) size() int64 { return h.bytes }

// auditRows opens the row sets of an audit; nil where there is none.
func (s *Server) auditRows(ctx context.Context, a *records.Audit) (*audit.Rows, func(), error) {
	done := func() {}
	if a == nil {
		return nil, done, nil
	}
	key := "rows " + a.RowsDigest
	if known, ok := s.remembered.known(key); ok {
		return known.(heldRows).Rows, done, nil
	}
	f, err := s.Files.Open(a.RowsDigest)
	if err != nil {
		return nil, done, err
	}
	if f.Size() > rowsRemembered {
		rows, err := audit.OpenRows(f, f.Size())
		return rows, func() { _ = f.Close() }, err
	}
	defer f.Close()
	held, err := recallFor(ctx, &s.remembered, key, 0, func(context.Context) (heldRows, error) {
		raw, err := io.ReadAll(f)
		if err != nil {
			return heldRows{}, err
		}
		rows, err := audit.OpenRows(bytes.NewReader(raw), int64(len(raw)))
		return heldRows{rows, 4 * int64(len(raw))}, err // the bytes, the checkpoints, and the sets once they are loaded
	})
	return held.Rows, done, err
}

// chosenRows returns the rows that are chosen; nil for all.
func (s *Server) chosenRows(ctx context.Context, t *inside, in *RowChoice, known *audit.Rows) (*table.RowSet, error) {
	var set *table.RowSet
	if known != nil {
		caught, err := known.Where(in.Rule, in.Column, rulebook.Dimension(in.Dimension))
		if err != nil {
			return nil, err
		}
		set = caught
	} else if in.Rule != "" || in.Column != "" || in.Dimension != "" {
		return nil, invalid("The table has not been audited yet, so nothing is known to be caught; wait for its audit.")
	}
	chosen, err := s.selected(ctx, t, in.Where, in.Is, in.Find)
	if err != nil {
		return nil, err
	}
	marked, err := s.markedRows(ctx, t, in, known)
	if err != nil {
		return nil, err
	}
	if in.Estimated != "" {
		estimated := t.file.Marks().In(in.Estimated)
		if estimated == nil {
			estimated = table.NewRowSet()
		}
		marked = both(marked, estimated)
	}
	if in.Sourced != "" {
		sourced, err := s.sourcedRows(ctx, t, in.Sourced)
		if err != nil {
			return nil, err
		}
		marked = both(marked, sourced)
	}
	return both(both(set, chosen), marked), nil
}

// sourcedRows returns the rows of a merged table that are chosen by where they are from.
func (s *Server) sourcedRows(ctx context.Context, t *inside, chosen string) (*table.RowSet, error) {
	return recall(ctx, &s.remembered, t.key+"sourced "+chosen, func(ctx context.Context) (*table.RowSet, error) {
		merged, err := store.FindTable(ctx, s.Store.DB, t.id)
		if err != nil {
			return nil, err
		}
		in, a, err := s.sources(merged)
		if err != nil {
			return nil, err
		}
		defer in.Close()
		return asked(a.RowsThat(in, in.Size(), chosen))
	})
}

// markedRows returns the rows of which something is missing or caught, where that is asked for.
func (s *Server) markedRows(ctx context.Context, t *inside, in *RowChoice, known *audit.Rows) (*table.RowSet, error) {
	if !in.Marked {
		return nil, nil
	}
	gaps, err := recall(ctx, &s.remembered, t.key+"gaps", func(ctx context.Context) (*table.RowSet, error) {
		return asked(relation.Where(ctx, t.Table, relation.Choice{Gaps: true}))
	})
	if err != nil || known == nil {
		return gaps, err
	}
	marked, err := known.Any()
	if err != nil {
		return nil, err
	}
	marked.Or(gaps)
	return marked, nil
}

// both returns the rows that are in two sets; nil stands for all rows. What is given stays as it is.
func both(a, b *table.RowSet) *table.RowSet {
	if a == nil || b == nil {
		return cmp.Or(a, b)
	}
	out := a.Clone()
	out.And(b)
	return out
}

// rowsFile writes the chosen rows, all of them, as they stand in the file.
func (s *Server) rowsFile(ctx context.Context, in *rowsFileAsked) (*huma.StreamResponse, error) {
	t, err := s.insideBy(ctx, in.ID, in.Audit)
	if err != nil {
		return nil, err
	}
	known, done, err := s.auditRows(ctx, t.audit)
	if err != nil {
		done()
		return nil, err
	}
	set, err := s.chosenRows(ctx, t, &in.RowChoice, known)
	if err == nil {
		for _, name := range in.Columns {
			if !slices.Contains(t.Source.Columns(), name) {
				err = invalid("The table has no column %q.", name)
			}
		}
	}
	var of *records.Table
	if err == nil {
		of, err = store.FindTable(ctx, s.Store.DB, in.ID)
	}
	if err == nil {
		err = store.Record(ctx, s.Store.DB, caller(ctx).ID, "downloaded rows", subject(of), nil)
	}
	if err != nil {
		done()
		return nil, err
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer done()
		out.SetHeader("Content-Type", "text/csv; charset=utf-8")
		out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s_rows_%d.csv", of.Dataset, of.ID)))
		if err := audit.WriteRows(out.Context(), out.BodyWriter(), t.Source, set, in.Columns, t.Workers, in.Exact); err != nil {
			s.cutOff("rows", in.ID, err)
		}
	}}, nil
}

// wantedRows lists the rows of a page, and one more where they come in the order of the
// file, to know whether another page follows.
func (s *Server) wantedRows(ctx context.Context, t *inside, in *rowsAsked, known *audit.Rows,
	out *RowsPage) ([]uint32, error) {
	set, err := s.chosenRows(ctx, t, &in.RowChoice, known)
	if err != nil {
		return nil, err
	}
	if known != nil {
		out.Total = t.audit.Rows
	}
	if set != nil {
		out.Total = int64(set.GetCardinality())
	}
	if in.Sort != "" {
		return s.sortedRows(ctx, t, in, set, out)
	}
	limit := in.Limit + 1
	wanted := make([]uint32, 0, limit)
	if set == nil {
		out.Offset = int64(in.After) + in.Offset
		for row := out.Offset + 1; row <= min(out.Offset+int64(limit), table.MaxRows); row++ {
			wanted = append(wanted, uint32(row))
		}
		return wanted, nil
	}
	it := set.Iterator()
	if out.Offset = in.Offset; in.Offset == 0 {
		out.Offset = int64(set.Rank(in.After))
	}
	if in.Offset > 0 {
		first, err := set.Select(uint32(in.Offset))
		if err != nil {
			return nil, nil // there are not so many
		}
		it.AdvanceIfNeeded(first)
	} else {
		it.AdvanceIfNeeded(in.After + 1)
	}
	for it.HasNext() && len(wanted) < limit {
		wanted = append(wanted, it.Next())
	}
	return wanted, nil
}

// sortedRows lists the rows of a page of an order.
func (s *Server) sortedRows(ctx context.Context, t *inside, in *rowsAsked, set *table.RowSet,
	out *RowsPage) ([]uint32, error) {
	key := strings.Join([]string{"order", in.Sort, fmt.Sprint(in.Falling), in.Where, in.Is, in.Find, in.Rule, in.Column,
		in.Dimension, in.Estimated, in.Sourced, fmt.Sprint(in.Marked, in.Audit)}, "\x00")
	order, err := recall(ctx, &s.remembered, t.key+key, func(ctx context.Context) ([]uint32, error) {
		return asked(relation.Order(ctx, t.Table, in.Sort, in.Falling, set))
	})
	if err != nil {
		return nil, err
	}
	out.Total = int64(len(order))
	from := min(in.Offset, out.Total)
	out.Offset = from
	return order[from:min(from+int64(in.Limit), out.Total)], nil
}

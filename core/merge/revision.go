package merge

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Revision says how a table differs from an earlier one of the same rows, by a key.
type Revision struct {
	Key        []string `json:"key"`
	RowsBefore int64    `json:"rows_before"`
	RowsAfter  int64    `json:"rows_after"`
	Same       int64    `json:"same"`    // rows with the same value in every column that both have
	Changed    int64    `json:"changed"` // rows of one key with another value somewhere
	Came       int64    `json:"came"`
	Went       int64    `json:"went"`
	// Unkeyed are rows without a whole key, which are compared by all their cells, and Repeated the rows beyond the first of each
	// key, which are paired in the order of the tables; both sides together.
	Unkeyed  int64 `json:"unkeyed"`
	Repeated int64 `json:"repeated"`
	// Columns are those that both have, with how many of the changed rows have another value in each, the most first.
	Columns     []ColumnRevised `json:"columns"`
	ColumnsCame []string        `json:"columns_came"`
	ColumnsWent []string        `json:"columns_went"`
	Sums        []SumRevised    `json:"sums"`

	changed    [][2]uint32 // rows before and after, by those after
	came, went *table.RowSet
}

// ColumnRevised is a column with how many rows have another value in it.
type ColumnRevised struct {
	Column  string `json:"column"`
	Rows    int64  `json:"rows"`
	Filled  int64  `json:"filled"`  // of these, those that had none before
	Emptied int64  `json:"emptied"` // and those that have none now
}

// SumRevised is a measure with what came of its sum.
type SumRevised struct {
	Measure string `json:"measure"`
	Before  string `json:"before"`
	Came    string `json:"came"`
	Went    string `json:"went"`
	Changed string `json:"changed"` // After is Before + Came - Went + Changed
	After   string `json:"after"`
}

// Bytes is about how many bytes the comparison takes in memory.
func (v *Revision) Bytes() int64 {
	return 4096 + 8*int64(len(v.changed)) + int64(v.came.GetSizeInBytes()+v.went.GetSizeInBytes())
}

// The kinds of changes.
const (
	RowChanged = "changed"
	RowCame    = "came"
	RowWent    = "went"
)

// RowRevised is a row that came, went or changed, with its cells of every column that differs, or of all of them.
type RowRevised struct {
	Kind      string        `json:"kind"`
	Key       []string      `json:"key"`
	RowBefore uint32        `json:"row_before,omitempty"`
	RowAfter  uint32        `json:"row_after,omitempty"`
	Cells     []CellRevised `json:"cells"`
}

// CellRevised is a cell before and after.
type CellRevised struct {
	Column string `json:"column"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// revising is a comparison under way.
type revising struct {
	before, after *Input
	frames        [2]*frame
	key           [2][]keyPart
	shared        []string // columns that both have
	parts         [2][]keyPart
}

// newRevising fits a key to both tables; the key of the later one's rulebook where none is given.
func newRevising(before, after *Input, key []string) (*revising, error) {
	r := &revising{before: before, after: after, frames: [2]*frame{frameOf(*before), frameOf(*after)}}
	if len(key) == 0 {
		return nil, errors.New("name the columns that tell rows apart; the rulebook declares no key")
	}
	var err error
	if r.key[0], r.key[1], err = (Join{Left: key, Right: key, With: "the later table"}).meeting(r.frames[0], r.frames[1]); err != nil {
		return nil, fmt.Errorf("the key: %w", err)
	}
	for _, name := range after.Source.Columns() {
		if slices.Contains(before.Source.Columns(), name) {
			r.shared = append(r.shared, name)
			for k, in := range []*Input{before, after} {
				r.parts[k] = append(r.parts[k], keyPart{says: name, column: slices.Index(in.Source.Columns(), name), cells: in.Book.Cells(name)})
			}
		}
	}
	return r, nil
}

// gather puts the rows of one table among the records: by key, then side, then row, with what each cell is compared by.
func (r *revising) gather(ctx context.Context, at int, sorter *table.Sorter, out *Revision, workers int) (int64, error) {
	type gathered struct {
		rows, unkeyed int64
		records       []byte
	}
	size := 25 + 9*len(r.shared)
	work := func(b *table.Batch) (gathered, error) {
		g := gathered{rows: int64(b.Len())}
		keys, cells := newKeyReader(b, r.frames[at], r.key[at], false), newKeyReader(b, r.frames[at], r.parts[at], true)
		for i, row := range b.Rows {
			h, whole := keys.hash(i)
			kind := byte(0)
			if !whole {
				g.unkeyed++
				kind = 1
				h, _ = cells.hash(i)
			}
			g.records = append(g.records, kind)
			g.records = binary.BigEndian.AppendUint64(g.records, h.Hi)
			g.records = binary.BigEndian.AppendUint64(g.records, h.Lo)
			g.records = binary.BigEndian.AppendUint32(append(g.records, byte(at)), row)
			g.records = append(g.records, 0, 0, 0) // so that all before the cells is of a length that is easily told
			for k := range cells.parts {
				p := &cells.parts[k]
				token := table.With(table.Hash{}, p.tokens[p.codes[i]])
				g.records = binary.BigEndian.AppendUint64(g.records, token.Hi^token.Lo)
				blank := byte(0)
				if p.blank(p.codes[i]) {
					blank = 1
				}
				g.records = append(g.records, blank)
			}
		}
		return g, nil
	}
	in := r.before
	if at == 1 {
		in = r.after
	}
	var rows int64
	err := table.ScanBatches(ctx, in.Source, workers, work, func(g gathered) error {
		rows += g.rows
		out.Unkeyed += g.unkeyed
		for from := 0; from < len(g.records); from += size {
			record := g.records[from : from+size]
			if err := sorter.Add(record[:22], record[22:]); err != nil {
				return err
			}
		}
		return nil
	})
	return rows, err
}

// Revise holds a table against an earlier one of the same rows, by a key; the key of its rulebook for none.
func Revise(ctx context.Context, before, after *Input, key []string, workers int) (*Revision, error) {
	if len(key) == 0 {
		key = after.Book.KeyColumns()
	}
	r, err := newRevising(before, after, key)
	if err != nil {
		return nil, err
	}
	out := &Revision{Key: key, Columns: []ColumnRevised{}, ColumnsCame: []string{}, ColumnsWent: []string{}, Sums: []SumRevised{}, came: table.NewRowSet(), went: table.NewRowSet()}
	for _, name := range after.Source.Columns() {
		if !slices.Contains(r.shared, name) {
			out.ColumnsCame = append(out.ColumnsCame, name)
		}
	}
	for _, name := range before.Source.Columns() {
		if !slices.Contains(r.shared, name) {
			out.ColumnsWent = append(out.ColumnsWent, name)
		}
	}
	var sorter table.Sorter
	defer sorter.Close()
	if out.RowsBefore, err = r.gather(ctx, 0, &sorter, out, workers); err != nil {
		return nil, err
	}
	if out.RowsAfter, err = r.gather(ctx, 1, &sorter, out, workers); err != nil {
		return nil, err
	}
	columns := make([]ColumnRevised, len(r.shared))
	for k, name := range r.shared {
		columns[k].Column = name
	}
	var now [2][]revisedRow // the rows of one key, those before and those after
	end := func() {
		for k := range max(len(now[0]), len(now[1])) {
			switch {
			case k >= len(now[0]):
				out.Came++
				out.came.Add(now[1][k].row)
			case k >= len(now[1]):
				out.Went++
				out.went.Add(now[0][k].row)
			case bytes.Equal(now[0][k].cells, now[1][k].cells):
				out.Same++
			default:
				out.Changed++
				out.changed = append(out.changed, [2]uint32{now[0][k].row, now[1][k].row})
				for c := range columns {
					columns[c].count(now[0][k].cells[9*c:9*c+9], now[1][k].cells[9*c:9*c+9])
				}
			}
		}
	}
	var current []byte
	err = sorter.Each(ctx, func(key, value []byte) error {
		if !bytes.Equal(key[:17], current) {
			end()
			current, now[0], now[1] = append(current[:0], key[:17]...), now[0][:0], now[1][:0]
		}
		at := key[17]
		if key[0] == 0 && len(now[at]) > 0 {
			out.Repeated++
		}
		now[at] = append(now[at], revisedRow{binary.BigEndian.Uint32(key[18:]), slices.Clone(value[3:])})
		return nil
	})
	if err != nil {
		return nil, err
	}
	end()
	slices.SortFunc(out.changed, func(a, b [2]uint32) int { return int(int64(a[1]) - int64(b[1])) })
	slices.SortStableFunc(columns, func(a, b ColumnRevised) int { return int(b.Rows - a.Rows) })
	out.Columns = append(out.Columns, columns...)
	return out, r.sums(ctx, out, workers)
}

// revisedRow is a row with what its cells are compared by.
type revisedRow struct {
	row   uint32
	cells []byte
}

// count takes up a cell before and after: eight bytes that it is compared by, and whether it is blank.
func (c *ColumnRevised) count(before, after []byte) {
	if bytes.Equal(before, after) {
		return
	}
	c.Rows++
	switch {
	case before[8] == 1 && after[8] == 0:
		c.Filled++
	case before[8] == 0 && after[8] == 1:
		c.Emptied++
	}
}

// sums says what came of the sums of the measures that both tables have.
func (r *revising) sums(ctx context.Context, out *Revision, workers int) error {
	var measures []string
	for _, m := range r.after.Book.Measures {
		if slices.Contains(r.shared, m) && r.before.Book.Cells(m).Type.IsNumber() {
			measures = append(measures, m)
		}
	}
	if len(measures) == 0 {
		return nil
	}
	of := func(in *Input, some *table.RowSet) (all, parts []table.Decimal, err error) {
		all, parts = make([]table.Decimal, len(measures)), make([]table.Decimal, len(measures))
		at, err := positions(in.Source.Columns(), measures, in.label())
		if err != nil {
			return nil, nil, err
		}
		cells := make([]*rulebook.Cells, len(measures))
		for k, m := range measures {
			cells[k] = in.Book.Cells(m)
		}
		type found struct{ all, parts []table.Decimal }
		err = table.ScanBatches(ctx, table.Only(in.Source, at), workers, func(b *table.Batch) (found, error) {
			f := found{make([]table.Decimal, len(measures)), make([]table.Decimal, len(measures))}
			rows := []int{}
			for i, row := range b.Rows {
				if some.Contains(row) {
					rows = append(rows, i)
				}
			}
			for k := range measures {
				f.all[k] = cells[k].Sum(&b.Columns[k], nil)
				if len(rows) > 0 {
					f.parts[k] = cells[k].Sum(&b.Columns[k], rows)
				}
			}
			return f, nil
		}, func(f found) error {
			for k := range measures {
				all[k], parts[k] = all[k].Add(f.all[k]), parts[k].Add(f.parts[k])
			}
			return nil
		})
		return all, parts, err
	}
	before, went, err := of(r.before, out.went)
	if err != nil {
		return err
	}
	after, came, err := of(r.after, out.came)
	if err != nil {
		return err
	}
	for k, m := range measures {
		changed := after[k].Sub(before[k]).Sub(came[k]).Add(went[k])
		out.Sums = append(out.Sums, SumRevised{m, before[k].Shortest(), came[k].Shortest(), went[k].Shortest(), changed.Shortest(), after[k].Shortest()})
	}
	return nil
}

// Rows returns some of the rows of one kind, from an offset on, in the order of the table that they are in; those that changed in
// that of the later one.
func (v *Revision) Rows(ctx context.Context, before, after *Input, kind string, offset, limit, workers int) ([]RowRevised, error) {
	r, err := newRevising(before, after, v.Key)
	if err != nil {
		return nil, err
	}
	out := []RowRevised{}
	switch kind {
	case RowChanged:
		for _, pair := range v.changed[min(offset, len(v.changed)):min(offset+limit, len(v.changed))] {
			out = append(out, RowRevised{Kind: kind, RowBefore: pair[0], RowAfter: pair[1]})
		}
	case RowCame:
		for _, row := range someOf(v.came, offset, limit) {
			out = append(out, RowRevised{Kind: kind, RowAfter: row})
		}
	case RowWent:
		for _, row := range someOf(v.went, offset, limit) {
			out = append(out, RowRevised{Kind: kind, RowBefore: row})
		}
	default:
		return nil, fmt.Errorf("rows %s, %s or %s, not %q%s", RowCame, RowWent, RowChanged, kind, document.Nearest(kind, []string{RowCame, RowWent, RowChanged}))
	}
	return out, r.cellsOf(ctx, out, workers)
}

// someOf are the rows of a set from an offset on.
func someOf(rows *table.RowSet, offset, limit int) []uint32 {
	var out []uint32
	for at := offset; at < offset+limit && uint64(at) < rows.GetCardinality(); at++ {
		row, _ := rows.Select(uint32(at))
		out = append(out, row)
	}
	return out
}

// cellsOf reads the cells of rows: of those that changed the ones that differ.
func (r *revising) cellsOf(ctx context.Context, rows []RowRevised, workers int) error {
	var texts, identities [2]map[uint32][]string
	var keys [2]map[uint32][]string
	for at, in := range []*Input{r.before, r.after} {
		wanted := table.NewRowSet()
		for _, one := range rows {
			if row := []uint32{one.RowBefore, one.RowAfter}[at]; row > 0 {
				wanted.Add(row)
			}
		}
		texts[at], identities[at], keys[at] = map[uint32][]string{}, map[uint32][]string{}, map[uint32][]string{}
		if wanted.IsEmpty() {
			continue
		}
		err := table.ScanBatches(ctx, table.Where(in.Source, wanted), workers, func(b *table.Batch) (func(), error) {
			parts := newKeyReader(b, r.frames[at], r.parts[at], true)
			key := newKeyReader(b, r.frames[at], r.key[at], true)
			return func() {
				for i, row := range b.Rows {
					if !wanted.Contains(row) {
						continue
					}
					cells := make([]string, len(b.Columns))
					for c := range b.Columns {
						cells[c] = b.Columns[c].At(i)
					}
					texts[at][row], identities[at][row], keys[at][row] = cells, parts.identities(i), key.identities(i)
				}
			}, nil
		}, func(take func()) error {
			take()
			return nil
		})
		if err != nil {
			return err
		}
	}
	for i := range rows {
		one := &rows[i]
		one.Cells = []CellRevised{}
		if one.Kind == RowChanged {
			one.Key = keys[1][one.RowAfter]
			for k, name := range r.shared {
				if identities[0][one.RowBefore][k] != identities[1][one.RowAfter][k] {
					one.Cells = append(one.Cells, CellRevised{name, texts[0][one.RowBefore][r.parts[0][k].column], texts[1][one.RowAfter][r.parts[1][k].column]})
				}
			}
			continue
		}
		at, in, row := 1, r.after, one.RowAfter
		if one.Kind == RowWent {
			at, in, row = 0, r.before, one.RowBefore
		}
		one.Key = keys[at][row]
		for c, name := range in.Source.Columns() {
			cell := CellRevised{Column: name, After: texts[at][row][c]}
			if at == 0 {
				cell.Before, cell.After = cell.After, ""
			}
			one.Cells = append(one.Cells, cell)
		}
	}
	return nil
}

// writtenAtOnce is how many rows are read at once for being written.
const writtenAtOnce = 1 << 14

// Write writes all that came, went and changed as CSV: a line for each cell that changed, and for each row that came or went. A text
// that a spreadsheet would run as a formula gets an apostrophe before it.
func (v *Revision) Write(ctx context.Context, before, after *Input, out io.Writer, workers int) error {
	w := csv.NewWriter(out)
	if err := w.Write(append(append([]string{"change", "row_before", "row_after"}, v.Key...), "column", "before", "after")); err != nil {
		return err
	}
	number := func(row uint32) string {
		if row == 0 {
			return ""
		}
		return strconv.FormatUint(uint64(row), 10)
	}
	for _, kind := range []string{RowChanged, RowCame, RowWent} {
		for offset := 0; ; offset += writtenAtOnce {
			rows, err := v.Rows(ctx, before, after, kind, offset, writtenAtOnce, workers)
			if err != nil {
				return err
			}
			if len(rows) == 0 {
				break
			}
			for _, one := range rows {
				cells := one.Cells
				if kind != RowChanged {
					cells = []CellRevised{{}}
				}
				for _, cell := range cells {
					line := append(append([]string{kind, number(one.RowBefore), number(one.RowAfter)}, one.Key...), cell.Column, cell.Before, cell.After)
					for i := range line {
						line[i] = table.Harmless(line[i])
					}
					if err := w.Write(line); err != nil {
						return err
					}
				}
			}
		}
	}
	w.Flush()
	return w.Error()
}

package merge

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"proudsieve/core/budget"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// gathering is what keys, rows and days of the tables of the stack are gathered in.
type gathering struct {
	keys, equal *table.Groups
	unkeyed     *table.RowSet // rows without a whole key
}

// beginShared begins to look for the keys and rows that several tables of the stack have, and for the days that they cover. Where
// something of it has to be settled before rows are written, all tables are read for it; where it is only told, it is gathered
// while they are stacked.
func (m *merger) beginShared(ctx context.Context, workers int) error {
	if len(m.tables) < 2 {
		return nil
	}
	key, err := m.keyOf()
	if err != nil {
		return err
	}
	s := &shared{aside: table.NewRowSet(), beside: table.NewRowSet(), held: rowStore{share: budget.Of(ctx)}, stands: map[uint32][]int{}}
	m.shared = s
	s.result = Shared{Key: append([]string{}, key...), Examples: []SharedKey{}}
	s.result.Equal.Became, s.result.Contradicting.Became = m.plan.EqualRows, m.plan.Contradicting
	for i, name := range m.stacked {
		s.all = append(s.all, keyPart{says: name, column: i, cells: m.frame.cells[i]})
	}
	for _, c := range key {
		s.key = append(s.key, slices.Index(m.stacked, c))
	}
	room := table.NewRoom(1)
	m.gathering = &gathering{table.NewGroups(room), table.NewGroups(room), table.NewRowSet()}
	if m.plan.EqualRows == KeepAll && m.plan.Contradicting == KeepAll {
		return nil
	}
	if err := m.hashAll(ctx, workers); err != nil {
		return err
	}
	return m.endShared(ctx, workers)
}

// endShared finds out what the tables have in common, once all their rows were gathered.
func (m *merger) endShared(ctx context.Context, workers int) error {
	if m.gathering == nil {
		return nil
	}
	g, s := m.gathering, m.shared
	m.gathering = nil
	defer g.close()
	if s.key != nil {
		involved := g.unkeyed.Clone()
		err := g.keys.Repeated(workers, func(_ table.Hash, rows []uint32) error {
			if m.spans(rows) {
				involved.AddMany(rows)
			}
			return nil
		})
		if err != nil || involved.IsEmpty() {
			return err
		}
		if err := m.hashSome(ctx, workers, involved, g.equal); err != nil {
			return err
		}
	}
	if err := s.judge(m, workers, g.keys, g.equal, g.unkeyed); err != nil {
		return err
	}
	return s.hold(ctx, m, workers)
}

func (g *gathering) close() {
	g.keys.Close()
	g.equal.Close()
}

// gathered is what a batch of a table of the stack adds.
type gatheredBatch struct {
	keys    table.HashedRows
	unkeyed []uint32
	days    covered
}

// gather hashes the rows of a batch by some parts of them, and reads its days from a column, -1 for none.
func (m *merger) gather(b *table.Batch, t *stackedTable, parts []keyPart, period int, days *rulebook.Cells) *gatheredBatch {
	out := &gatheredBatch{}
	keyed := m.shared.key != nil
	hashes, whole := hashRows(b, m.frame, parts, !keyed)
	defer table.RecycleHashes(hashes)
	for i, row := range b.Rows {
		if whole[i] {
			out.keys.Add(hashes[i], uint32(t.first)+row)
		} else if keyed {
			out.unkeyed = append(out.unkeyed, uint32(t.first)+row)
		}
	}
	if period >= 0 {
		out.days.add(&b.Columns[period], days)
	}
	return out
}

// take takes up what a batch adds.
func (m *merger) takeGathered(b *gatheredBatch, days *covered) error {
	g := m.gathering
	g.unkeyed.AddMany(b.unkeyed)
	days.merge(&b.days)
	if m.shared.key == nil {
		return g.equal.Take(&b.keys)
	}
	return g.keys.Take(&b.keys)
}

// spans reports whether rows are of several tables.
func (m *merger) spans(rows []uint32) bool { return m.tableAt(rows[0]) != m.tableAt(rows[len(rows)-1]) }

// tableAt is the place of the table that a row of the stack is from.
func (m *merger) tableAt(row uint32) int {
	at, found := slices.BinarySearchFunc(m.tables, int64(row)-1, func(t *stackedTable, row int64) int { return cmp.Compare(t.first, row) })
	if !found {
		return at - 1
	}
	for at+1 < len(m.tables) && m.tables[at+1].first == m.tables[at].first { // tables without a row
		at++
	}
	return at
}

// hashAll gathers the keys and days of every table, and learns how many rows each has.
func (m *merger) hashAll(ctx context.Context, workers int) error {
	s, period := m.shared, m.periodColumn()
	wanted := slices.Clone(s.key)
	if period >= 0 && s.key != nil && !slices.Contains(wanted, period) {
		wanted = append(wanted, period)
	}
	var total int64
	for _, t := range m.tables {
		t.first = total
		days := &covered{}
		source, lays, parts, at := t.Source, t.lays, s.all, period
		if s.key != nil { // which columns these are among those that are read
			var from []int
			parts, at = nil, -1
			for k, c := range wanted {
				if t.from[c] < 0 { // a period that this table does not have
					continue
				}
				if from = append(from, t.from[c]); k < len(s.key) {
					part := s.all[c]
					part.column = len(from) - 1
					parts = append(parts, part)
				}
				if c == period {
					at = len(from) - 1
				}
			}
			source, lays = table.Only(t.Source, from), func(b *table.Batch) *table.Batch { return b }
		} else if period >= 0 && t.from[period] < 0 {
			at = -1
		}
		var cells *rulebook.Cells
		if at >= 0 {
			cells = m.frame.cells[period]
		}
		type found struct {
			rows int64
			*gatheredBatch
		}
		work := func(b *table.Batch) (found, error) {
			return found{int64(b.Len()), m.gather(lays(b), t, parts, at, cells)}, nil
		}
		err := table.ScanBatches(ctx, source, workers, work, func(f found) error {
			if total += f.rows; total > table.MaxRows {
				return errTooManyStacked
			}
			return m.takeGathered(f.gatheredBatch, days)
		})
		if err != nil {
			return fmt.Errorf("looking for keys that %s has in common with others: %w", t.label(), err)
		}
		m.periods = append(m.periods, days)
	}
	return nil
}

var errTooManyStacked = fmt.Errorf("the stack has more than %d rows", int64(table.MaxRows))

// within returns the rows of a set of rows of the stack that are of a table, as it numbers them.
func (t *stackedTable) within(rows *table.RowSet, count int64) *table.RowSet {
	out := table.NewRowSet()
	for it := rows.Iterator(); it.HasNext(); {
		if row := int64(it.Next()); row > t.first && row <= t.first+count {
			out.Add(uint32(row - t.first))
		}
	}
	return out
}

// rowsOf is how many rows a table of the stack has, once all were read.
func (m *merger) rowsOf(at int) int64 {
	if at+1 < len(m.tables) {
		return m.tables[at+1].first - m.tables[at].first
	}
	return int64(table.MaxRows) - m.tables[at].first
}

// hashSome hashes rows by all their cells.
func (m *merger) hashSome(ctx context.Context, workers int, rows *table.RowSet, equal *table.Groups) error {
	return m.each(ctx, workers, rows, func(t *stackedTable, b *table.Batch, wanted *table.RowSet) (func() error, error) {
		r, out := newKeyReader(b, m.frame, m.shared.all, true), &table.HashedRows{}
		for i, row := range b.Rows {
			if !wanted.Contains(row) {
				continue
			}
			if h, whole := r.hash(i); whole {
				out.Add(h, uint32(t.first)+row)
			}
		}
		return func() error { return equal.Take(out) }, nil
	})
}

// each reads the parts of the stack that some rows are in; what work returns is done in the order of the rows.
func (m *merger) each(ctx context.Context, workers int, rows *table.RowSet,
	work func(t *stackedTable, b *table.Batch, wanted *table.RowSet) (func() error, error)) error {
	for at, t := range m.tables {
		wanted := t.within(rows, m.rowsOf(at))
		if wanted.IsEmpty() {
			continue
		}
		err := table.ScanBatches(ctx, table.Where(t.Source, wanted), workers, func(b *table.Batch) (func() error, error) { return work(t, t.lays(b), wanted) },
			func(take func() error) error { return take() })
		if err != nil {
			return err
		}
	}
	return nil
}

package merge

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// What becomes of keys that several of the stacked tables have.
const (
	KeepAll    = "keep"
	RefuseKeys = "refuse"
	// OnceOnly leaves one of rows that are equal in every column: that of the table that is stacked first.
	OnceOnly = "once"
	// NewestWins leaves the rows of the table that is stacked last.
	NewestWins = "newest_wins"
	// CellByCell leaves the row of the table that is stacked last, and fills what it has no value of from those before it.
	CellByCell = "by_cell"
)

var (
	equalWays         = []string{KeepAll, OnceOnly, RefuseKeys}
	contradictingWays = []string{KeepAll, NewestWins, CellByCell, RefuseKeys}
)

// Shared says which keys and rows several of the stacked tables have.
type Shared struct {
	// Key are the columns that tell rows apart; none where neither the merge nor every rulebook declares a key, and rows are
	// compared by all their cells.
	Key []string `json:"key"`
	// Equal are the keys whose rows are equal in every column, or where there is no key the rows that are; those without a whole
	// key are among them.
	Equal SharedKeys `json:"equal"`
	// Contradicting are the keys whose rows are not.
	Contradicting SharedKeys `json:"contradicting"`
	// Examples are the first keys that contradict one another.
	Examples []SharedKey `json:"examples"`
}

// SharedKeys are keys that several tables have.
type SharedKeys struct {
	Keys   int64  `json:"keys"`
	Rows   int64  `json:"rows"`
	Became string `json:"became"` // as it is declared
}

// SharedKey is a key that several tables have, with its rows.
type SharedKey struct {
	Key    string      `json:"key"`
	Rows   []SharedRow `json:"rows"`
	Differ []string    `json:"differ"` // columns in which they do
}

// SharedRow is where a row is, with its cells of the columns that differ.
type SharedRow struct {
	Dataset string   `json:"dataset"`
	Table   int64    `json:"table,omitempty"`
	Row     uint32   `json:"row"`
	Cells   []string `json:"cells"`
}

// shared finds what the stacked tables have in common. Rows are numbered through the stack, from 1.
type shared struct {
	key    []int // columns of the stack; nil where rows are compared by all their cells
	all    []keyPart
	aside  *table.RowSet    // rows for which others stand
	beside *table.RowSet    // rows whose cells are held, in the order of their numbers
	held   rowStore         // and these
	stands map[uint32][]int // of rows that stand for others, where those are among beside, the newest first
	result Shared
}

// parts are what a row is known by.
func (s *shared) parts() []keyPart {
	if s.key == nil {
		return s.all
	}
	out := make([]keyPart, len(s.key))
	for k, c := range s.key {
		out[k] = s.all[c]
	}
	return out
}

// keyOf returns the columns of the stack that tell rows apart: those that are declared, or those that all rulebooks have as their key.
func (m *merger) keyOf() ([]string, error) {
	if len(m.plan.Key) > 0 {
		for _, t := range m.tables {
			for _, c := range m.plan.Key {
				if !slices.Contains(t.names, c) {
					return nil, fmt.Errorf("%s has no column %q, which is in the key of the stack%s", t.label(), c, document.Nearest(c, t.names))
				}
			}
		}
		return m.plan.Key, nil
	}
	var key []string
	for i, t := range m.tables {
		var theirs []string
		for _, own := range t.Book.KeyColumns() {
			at := slices.Index(t.Source.Columns(), own)
			if at < 0 {
				return nil, nil
			}
			theirs = append(theirs, t.names[at])
		}
		slices.Sort(theirs)
		if len(theirs) == 0 || i > 0 && !slices.Equal(key, theirs) {
			return nil, nil
		}
		key = theirs
	}
	return key, nil
}

// judge finds out which keys of several tables are equal and which contradict one another, and what becomes of their rows.
func (s *shared) judge(m *merger, workers int, keys, equal *table.Groups, unkeyed *table.RowSet) error {
	alike := &sameAs{}
	err := equal.Repeated(workers, func(_ table.Hash, rows []uint32) error {
		if s.key != nil {
			for _, row := range rows {
				alike.add(row, rows[0])
			}
			if !unkeyed.Contains(rows[0]) {
				return nil
			}
		}
		if m.spans(rows) {
			s.equal(m, rows)
		}
		return nil
	})
	if err != nil || s.key == nil {
		return err
	}
	alike.sort()
	return keys.Repeated(workers, func(_ table.Hash, rows []uint32) error {
		if !m.spans(rows) {
			return nil
		}
		same := true
		for _, row := range rows[1:] {
			same = same && alike.of(row) == alike.of(rows[0])
		}
		if same && alike.of(rows[0]) > 0 {
			s.equal(m, rows)
			return nil
		}
		return s.contradicting(m, rows)
	})
}

func (s *shared) equal(m *merger, rows []uint32) {
	s.result.Equal.Keys++
	s.result.Equal.Rows += int64(len(rows))
	if m.plan.EqualRows != OnceOnly {
		return
	}
	first := m.tableAt(rows[0])
	for _, row := range rows[1:] {
		if m.tableAt(row) != first {
			s.aside.Add(row)
		}
	}
}

func (s *shared) contradicting(m *merger, rows []uint32) error {
	s.result.Contradicting.Keys++
	s.result.Contradicting.Rows += int64(len(rows))
	s.example(m, rows)
	if m.plan.Contradicting != NewestWins && m.plan.Contradicting != CellByCell {
		return nil
	}
	last := rows[len(rows)-1]
	newest := m.tableAt(last)
	var others []int
	for k := len(rows) - 1; k >= 0; k-- {
		if m.tableAt(rows[k]) == newest {
			continue
		}
		s.aside.Add(rows[k])
		others = append(others, int(rows[k]))
	}
	if m.plan.Contradicting != CellByCell {
		return nil
	}
	for k := range rows[1:] {
		if m.tableAt(rows[k]) == m.tableAt(rows[k+1]) {
			t := m.tables[m.tableAt(rows[k])]
			return fmt.Errorf("rows %d and %d of %s have one key, and %s has it too, so that nobody can say which cells go together; put this right in its fix plan, or declare contradicting: %s",
				int64(rows[k])-t.first, int64(rows[k+1])-t.first, t.label(), m.tables[m.tableAt(last)].label(), NewestWins)
		}
	}
	s.stands[last] = others
	for _, row := range others {
		s.beside.Add(uint32(row))
	}
	return nil
}

// example keeps the rows of the keys that come first.
func (s *shared) example(m *merger, rows []uint32) {
	one := SharedKey{Differ: []string{}}
	for _, row := range rows[:min(len(rows), examplesShown)] {
		t := m.tables[m.tableAt(row)]
		one.Rows = append(one.Rows, SharedRow{Dataset: t.Dataset, Table: t.Table, Row: uint32(int64(row) - t.first)})
	}
	at, _ := slices.BinarySearchFunc(s.result.Examples, one, func(a, b SharedKey) int {
		return cmp.Compare(m.stackRow(a.Rows[0]), m.stackRow(b.Rows[0]))
	})
	if s.result.Examples = slices.Insert(s.result.Examples, at, one); len(s.result.Examples) > examplesShown {
		s.result.Examples = s.result.Examples[:examplesShown]
	}
}

// stackRow is the number of a row in the stack.
func (m *merger) stackRow(r SharedRow) int64 {
	for _, t := range m.tables {
		if t.Dataset == r.Dataset && t.Table == r.Table {
			return t.first + int64(r.Row)
		}
	}
	return 0
}

// hold reads the cells of rows that others are filled from, and those of the examples; and refuses what is to be refused.
func (s *shared) hold(ctx context.Context, m *merger, workers int) error {
	shown := map[int64]*SharedRow{}
	wanted := s.beside.Clone()
	for e := range s.result.Examples {
		for r := range s.result.Examples[e].Rows {
			one := &s.result.Examples[e].Rows[r]
			row := m.stackRow(*one)
			shown[row] = one
			wanted.Add(uint32(row))
		}
	}
	err := m.each(ctx, workers, wanted, func(t *stackedTable, b *table.Batch, of *table.RowSet) (func() error, error) {
		return func() error {
			cells := make([]string, len(b.Columns))
			for i, row := range b.Rows {
				if !of.Contains(row) {
					continue
				}
				for c := range b.Columns {
					cells[c] = b.Columns[c].At(i)
				}
				if one := shown[t.first+int64(row)]; one != nil {
					one.Cells = slices.Clone(cells)
				}
				if s.beside.Contains(uint32(t.first) + row) {
					if err := s.held.add(cells); err != nil {
						return err
					}
				}
			}
			return nil
		}, nil
	})
	if err != nil {
		return err
	}
	if err := s.held.end(); err != nil {
		return err
	}
	for e := range s.result.Examples {
		s.compare(m, &s.result.Examples[e])
	}
	switch equal, not := s.result.Equal, s.result.Contradicting; {
	case not.Keys > 0 && not.Became == RefuseKeys:
		return fmt.Errorf("%s in several of the stacked tables with rows that contradict one another; %s. Put it right in their fix plans, or declare contradicting: %s, %s or %s",
			document.Counted(not.Keys, "key is", "keys are"), s.result.Examples[0].says(), NewestWins, CellByCell, KeepAll)
	case equal.Keys > 0 && equal.Became == RefuseKeys:
		return fmt.Errorf("%s equal in several of the stacked tables, so that rows and sums would be counted twice; declare equal_rows: %s or %s, or leave one of the tables out",
			document.Counted(equal.Rows, "row is", "rows are"), OnceOnly, KeepAll)
	}
	return nil
}

// compare leaves of the cells of an example those of the columns that differ.
func (s *shared) compare(m *merger, e *SharedKey) {
	var key []string
	var differ []int
	for c, p := range s.all {
		if slices.Contains(s.key, c) {
			continue
		}
		for r := range e.Rows[1:] {
			if m.identity(c, e.Rows[r].Cells[c]) != m.identity(c, e.Rows[r+1].Cells[c]) {
				differ = append(differ, c)
				e.Differ = append(e.Differ, p.says)
				break
			}
		}
	}
	for _, c := range s.key {
		key = append(key, e.Rows[0].Cells[c])
	}
	e.Key = strings.Join(key, " / ")
	for r := range e.Rows {
		cells := make([]string, len(differ))
		for k, c := range differ {
			cells[k] = e.Rows[r].Cells[c]
		}
		e.Rows[r].Cells = cells
	}
}

// identity is what a cell of a column of the stack is compared by.
func (m *merger) identity(column int, text string) string { return m.shared.all[column].identity(text) }

func (e *SharedKey) says() string {
	var where []string
	for _, r := range e.Rows {
		of := r.Dataset
		if r.Table > 0 {
			of = fmt.Sprintf("table %d of %s", r.Table, r.Dataset)
		}
		where = append(where, fmt.Sprintf("row %d of %s", r.Row, of))
	}
	says := fmt.Sprintf("%q is in %s", e.Key, strings.Join(where, " and "))
	if len(e.Differ) > 0 {
		texts := make([]string, len(e.Rows))
		for i, r := range e.Rows {
			texts[i] = fmt.Sprintf("%q", r.Cells[0])
		}
		says += fmt.Sprintf(", with %s of %s", strings.Join(slices.Compact(texts), " and "), e.Differ[0])
	}
	return says
}

// fill gives the rows of a batch that stand for others the cells that they have no value of.
func (s *shared) fill(m *merger, out *joinedBatch, t *stackedTable) error {
	if len(s.stands) == 0 {
		return nil
	}
	b := out.out
	var changed map[int]*table.Column
	var rows []int
	for i, row := range b.Rows {
		others, stands := s.stands[uint32(t.first)+row]
		if !stands {
			continue
		}
		for c := range b.Columns {
			if !m.frame.cells[c].Read(b.Columns[c].At(i)).Missing {
				continue
			}
			for _, other := range others {
				cells, err := s.held.row(uint32(s.beside.Rank(uint32(other))-1), len(b.Columns))
				if err != nil {
					return err
				}
				if m.frame.cells[c].Read(cells[c]).Missing {
					continue
				}
				if changed == nil {
					changed, out.filled = map[int]*table.Column{}, map[int]int64{}
				}
				if changed[c] == nil {
					changed[c] = &table.Column{Texts: slices.Clone(b.Columns[c].Texts), Codes: slices.Clone(b.Columns[c].Codes)}
				}
				now := changed[c]
				now.Texts = append(now.Texts, cells[c])
				now.Codes[i] = uint32(len(now.Texts) - 1)
				out.filled[c]++
				rows = append(rows, i)
				m.flagFilled(out.flags, c, i, b.Len(), uint32(other))
				break
			}
		}
	}
	if changed == nil {
		return nil
	}
	slices.Sort(rows)
	rows = slices.Compact(rows)
	before := m.weigh(b, rows)
	for c, now := range changed {
		b.Columns[c] = *now
	}
	out.sumsFilled = m.weigh(b, rows)
	addSums(out.sumsFilled, before, -1)
	out.sumsOut = maps.Clone(out.sumsOut)
	addSums(out.sumsOut, out.sumsFilled, 1)
	return nil
}

// flagFilled has a cell that was filled marked as an estimate where it is one in the row that it is from.
func (m *merger) flagFilled(f flags, column, at, rows int, from uint32) {
	t := m.tables[m.tableAt(from)]
	of := flag(t.origins, t.own(m.stacked[column]), func(int) uint32 { return uint32(int64(from) - t.first) }, 1)
	if of == nil {
		return
	}
	if f[column] == nil {
		f[column] = make([]int32, rows)
	}
	f[column][at] = of[0]
}

// sameAs says of rows which is the first that is equal to them.
type sameAs struct{ rows [][2]uint32 }

func (s *sameAs) add(row, first uint32) { s.rows = append(s.rows, [2]uint32{row, first}) }

func (s *sameAs) sort() {
	slices.SortFunc(s.rows, func(a, b [2]uint32) int { return cmp.Compare(a[0], b[0]) })
}

// of returns the first row that is equal to one, 0 where no other one is.
func (s *sameAs) of(row uint32) uint32 {
	at, found := slices.BinarySearchFunc(s.rows, row, func(one [2]uint32, row uint32) int { return cmp.Compare(one[0], row) })
	if !found {
		return 0
	}
	return s.rows[at][1]
}

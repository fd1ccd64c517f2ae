package fix

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"proudsieve/core/table"
)

// Table is the table as a step finds it that looks at the whole of it. The steps before it are done as it is read for the
// first time.
type Table struct {
	*Frame
	run     *run
	source  table.Source
	pending []int  // steps that are not done yet
	spool   *spool // once it was read
	step    int    // the one that looks; -1 for none
	wanted  []bool // the columns that it looks at; nil for all
	works   []*Work
}

// Workers is how many goroutines may work at once.
func (t *Table) Workers() int { return t.run.workers }

func (t *Table) close() {
	if t.spool != nil {
		t.spool.close()
	}
	if before, ok := t.source.(*spool); ok {
		before.close()
	}
	for _, w := range t.works {
		if w.Close != nil {
			w.Close()
		}
	}
}

func (t *Table) arrived() bool {
	_, spooled := t.source.(*spool)
	return !spooled
}

// frame is that of the rows that are read from the source.
func (t *Table) frame() *Frame {
	if t.arrived() {
		return t.run.arrived
	}
	if len(t.pending) > 0 {
		return t.run.steps[t.pending[0]].before
	}
	return t.Frame
}

// Want says at which columns the next scans look, so that others need not be read.
func (t *Table) Want(columns ...int) {
	t.wanted = make([]bool, len(t.Names))
	looking := []int{t.step}
	if t.spool == nil && t.allSettled() { // these are done again with each scan, and look at columns too
		looking = append(looking, t.pending...)
	}
	for _, i := range looking {
		s := &t.run.steps[i]
		if s.settled && s.work.Reads == nil {
			t.WantAll()
			return
		}
		columns = append(columns, s.work.Reads...)
		if s.where != nil {
			for _, name := range s.where.Names() {
				columns = append(columns, t.At(name))
			}
		}
	}
	for _, c := range columns {
		t.wanted[c] = true
	}
}

// WantAll says that the next scans look at every column.
func (t *Table) WantAll() { t.wanted = nil }

// spooled returns the table where it was taken apart already, and the steps since only change or drop single rows: it is
// read as often as it is asked for then, and these steps are done again each time. Nil for a table that is not.
func (t *Table) spooled() *spool {
	if t.spool != nil {
		return t.spool
	}
	before, ok := t.source.(*spool)
	if !ok || t.run.steps[t.step].work.Make != nil { // what makes other rows is the last to see these
		return nil
	}
	if !t.allSettled() {
		return nil
	}
	return before
}

// allSettled reports whether the steps that are pending only change or drop single rows, which they know.
func (t *Table) allSettled() bool {
	return !slices.ContainsFunc(t.pending, func(i int) bool { return !t.run.steps[i].settled })
}

// Scan hands the rows of the table to work, batch by batch, on several goroutines, and what becomes of them to take in the
// order of the table. only, unless nil, are rows whose batches are enough, where that is known; others may come too.
func Scan[T any](ctx context.Context, t *Table, only *table.RowSet, work func(*Rows) (T, error), take func(T) error) error {
	s := &t.run.steps[t.step]
	type looked struct {
		passed *passed
		told   told
		of     T
	}
	if before := t.spooled(); before != nil {
		frame := t.Frame
		var pending []int
		if t.spool == nil {
			pending = t.pending
		}
		return table.Scan(ctx, table.Where(wanting{before, t.wanted}, only), t.run.workers, func(b *table.Batch) (looked, error) {
			var l looked
			p, err := t.run.through(b, pending, false, frame, true)
			if err != nil {
				return l, err
			}
			l.of, err = work(t.run.lookedAt(t.step, p, pending, frame, s.where, &l.told))
			if t.wanted == nil { // those that are not wanted share their memory
				table.Recycle(b.Columns)
			}
			return l, err
		}, func(l looked) error {
			s.told.add(l.told)
			return take(l.of)
		})
	}
	made, err := newSpool(t.Names)
	if err != nil {
		return err
	}
	frame := t.frame()
	err = scan(ctx, t.source, t.run.workers, func(b *table.Batch) (looked, error) {
		p, err := t.run.through(b, t.pending, t.arrived(), frame, false)
		if err != nil {
			return looked{}, err
		}
		l := looked{passed: p}
		if p.spooled, err = made.write(p.batch); err != nil {
			return looked{}, err
		}
		l.of, err = work(t.run.lookedAt(t.step, p, t.pending, t.Frame, s.where, &l.told))
		table.Recycle(b.Columns)
		return l, err
	}, func(l looked) error {
		if err := t.run.take(l.passed, t.pending); err != nil {
			return err
		}
		s.told.add(l.told)
		if err := made.add(l.passed.batch.Len(), l.passed.spooled); err != nil {
			return err
		}
		return take(l.of)
	})
	if err != nil {
		made.close()
		return err
	}
	t.spool = made
	return nil
}

// scan reads a table batch by batch; those of a spool are large already.
func scan[T any](ctx context.Context, source table.Source, workers int, work func(*table.Batch) (T, error), take func(T) error) error {
	if _, spooled := source.(*spool); spooled {
		return table.Scan(ctx, source, workers, work, take)
	}
	return table.ScanBatches(ctx, source, workers, work, take)
}

// Refuse says that the step that looks must not be done as it is declared.
func (t *Table) Refuse(why string, rows int64, places ...Place) {
	t.run.steps[t.step].told.refuse(why, rows, places...)
}

// Count adds to a number that the note of the step speaks of.
func (t *Table) Count(what string, n int64) { t.run.steps[t.step].told.count(what, n) }

// Undecided puts a cell on the list of those that a person has to decide.
func (t *Table) Undecided(u Undecided) {
	told := &t.run.steps[t.step].told
	if told.open++; len(told.undecided) < undecidedKept {
		told.undecided = append(told.undecided, u)
	}
}

// settle has a step look at the whole table, and returns the table to which it is to be done.
func (t *Table) settle(ctx context.Context, i int) (*Table, error) {
	s := &t.run.steps[i]
	t.step = i
	work, err := s.work.Settle(ctx, t)
	if err != nil {
		return t, err
	}
	work.Frame, work.From, work.Estimates = s.work.Frame, s.work.From, s.work.Estimates
	if work.Note == nil {
		work.Note = s.work.Note
	}
	if work.Judge == nil {
		work.Judge = s.work.Judge
	}
	if work.Close != nil {
		s.kept = &held{free: work.Close}
		work.Close = s.kept.share()
	}
	s.work, s.settled = work, work.Frame == nil
	next := &Table{run: t.run, source: t.source, Frame: s.after, pending: append(t.pending, i), step: -1, works: append(t.works, work)}
	t.works = nil
	if t.spool != nil {
		if before, ok := t.source.(*spool); ok {
			before.close()
		}
		next.source, next.pending = t.spool, []int{i}
	}
	return next, nil
}

// make has a step make other rows of the table.
func (t *Table) make(ctx context.Context, i int, maps *bufio.Writer) (*Table, error) {
	s := &t.run.steps[i]
	t.step = i
	made, err := newSpool(s.after.Names)
	if err != nil {
		return t, err
	}
	out := &Maker{run: t.run, frame: s.after, step: i + 1, spool: made, maps: maps, sums: make([]table.Decimal, len(t.run.measures))}
	out.begin()
	if err = s.work.Make(ctx, t, out); err == nil {
		err = out.end()
	}
	if err != nil {
		made.close()
		return t, err
	}
	before, after := t.run.rows, made.rows
	s.before0, s.made = &before, &after
	t.run.rows = after
	for m := range out.sums {
		s.sums[m] = out.sums[m].Sub(t.run.sums[m])
		t.run.sums[m] = out.sums[m]
	}
	t.close()
	return &Table{run: t.run, source: made, Frame: s.after, step: -1}, nil
}

// last takes the table through the last steps and writes it.
func (t *Table) last(ctx context.Context, out *table.Writer) error {
	frame := t.frame()
	return scan(ctx, t.source, t.run.workers, func(b *table.Batch) (*passed, error) {
		p, err := t.run.through(b, t.pending, t.arrived(), frame, false)
		if err == nil {
			p.rows = table.AppendRows(table.BytesRoom(), p.batch)
			table.Recycle(b.Columns)
		}
		return p, err
	}, func(p *passed) error {
		defer table.RecycleBytes(p.rows)
		if err := t.run.take(p, t.pending); err != nil {
			return err
		}
		t.run.keepMarks(p.batch.Rows)
		return out.WriteRows(p.rows)
	})
}

// makerRows is how many rows a Maker puts in a batch.
const makerRows = 4096

// Maker takes the rows that a step makes of others, in their order.
type Maker struct {
	run   *run
	frame *Frame
	step  int
	spool *spool
	maps  *bufio.Writer
	sums  []table.Decimal
	row   uint32
	batch *table.Batch
	codes []map[string]uint32
}

func (m *Maker) begin() {
	m.batch = &table.Batch{Columns: make([]table.Column, len(m.frame.Names))}
	m.codes = make([]map[string]uint32, len(m.frame.Names))
	for c := range m.codes {
		m.codes[c] = map[string]uint32{}
	}
}

// Add takes a row, with the rows that it was made of.
func (m *Maker) Add(cells []string, from ...uint32) error {
	if int64(m.row) >= table.MaxRows {
		return fmt.Errorf("the table would have more than %d rows", int64(table.MaxRows))
	}
	m.row++
	for c, text := range cells {
		code, known := m.codes[c][text]
		if !known {
			code = uint32(len(m.batch.Columns[c].Texts))
			m.codes[c][text] = code
			m.batch.Columns[c].Texts = append(m.batch.Columns[c].Texts, text)
		}
		m.batch.Columns[c].Codes = append(m.batch.Columns[c].Codes, code)
	}
	m.batch.Rows, m.batch.Lines = append(m.batch.Rows, m.row), append(m.batch.Lines, 0)
	line, err := json.Marshal(RowMade{m.step, m.row, spans(from)})
	if err == nil {
		_, err = m.maps.Write(append(line, '\n'))
	}
	if err == nil && m.batch.Len() == makerRows {
		err = m.end()
		m.begin()
	}
	return err
}

// end keeps the batch that is being filled.
func (m *Maker) end() error {
	addAll(m.sums, m.run.sumsOf(m.frame, m.batch, nil))
	part, err := m.spool.write(m.batch)
	if err == nil {
		err = m.spool.add(m.batch.Len(), part)
	}
	return err
}

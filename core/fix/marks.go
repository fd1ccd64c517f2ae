package fix

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"slices"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/condition"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/table"
)

// Estimated says what a step estimated, and what that means for the column.
type Estimated struct {
	Column string `json:"column"`
	Method string `json:"method"`
	Seed   uint64 `json:"seed"`
	Draws  int    `json:"draws"`
	// Observed counts the cells with a value among the rows that are meant, and Donors those of them that estimates are
	// drawn from; 0 where they are worked out from all.
	Observed int64 `json:"observed"`
	Donors   int   `json:"donors,omitempty"`
	Filled   int64 `json:"filled"`
	Open     int64 `json:"open"` // gaps that stay, since there was nothing to go by
	// MeanObserved is the mean of what was there, MeanThen that of the column with the first draw, and MeanFrom to MeanTo
	// hold the true mean with a confidence of 95 %, by all draws together; nil of codes, and of a single draw.
	MeanObserved *float64 `json:"mean_observed,omitempty"`
	MeanThen     *float64 `json:"mean_then,omitempty"`
	MeanFrom     *float64 `json:"mean_from,omitempty"`
	MeanTo       *float64 `json:"mean_to,omitempty"`
	// Warnings say what speaks against trusting the estimates.
	Warnings []string `json:"warnings,omitempty"`

	There estimate.Moments `json:"-"` // of the numbers that are there
}

// estimated returns what a step estimated; nil of one that does not.
func (s *bound) estimated() *Estimated {
	if s.work == nil || s.work.Estimated == nil {
		return nil
	}
	e := *s.work.Estimated
	e.Filled, e.Open = s.cells, s.told.counts[LeftOpen]
	if len(s.moments) == 0 || e.There.N == 0 {
		return &e
	}
	then := e.There
	then.Join(s.moments[0])
	e.MeanObserved, e.MeanThen = &e.There.Mean, &then.Mean
	if pooled, err := estimate.PoolMeans(e.There, s.moments); err == nil { // one draw does not say how unsure it is
		from, to := pooled.Interval(0.95)
		e.MeanFrom, e.MeanTo = &from, &to
	}
	return &e
}

// LeftOpen is what steps count gaps as that they have no estimate for.
const LeftOpen = "left open"

// losesMarks says that a step would hand on estimates without their marks.
type losesMarks struct{ kind string }

// Error implements error.
func (e *losesMarks) Error() string {
	return fmt.Sprintf("a step %q could hand on estimates as if they had been observed, so it does not follow on a step that estimates, nor go over a table with estimates; put it before the step that estimates", e.kind)
}

// marked are estimates that a run carries along: cells of one column.
type marked struct {
	how    table.Mark    // its rows are numbered as they were when it was estimated
	step   int           // that estimated; -1 where the table arrived with them
	column int           // its place after that step
	stay   *table.RowSet // those that are in the cleaned table
	now    *table.RowSet // the same, as that numbers them
}

func newMarked(how table.Mark, step, column int) *marked {
	how.Rows = table.NewRowSet()
	return &marked{how: how, step: step, column: column, stay: table.NewRowSet(), now: table.NewRowSet()}
}

// arrivedMarks takes up what was estimated before.
func (r *run) arrivedMarks(source table.Source) {
	marks := table.MarksOf(source)
	if marks == nil {
		return
	}
	for _, how := range marks.All {
		if at := r.arrived.At(how.Column); at >= 0 && !how.Rows.IsEmpty() {
			m := newMarked(how, -1, at)
			m.how.Rows = how.Rows
			r.marks = append(r.marks, m)
		}
	}
}

// place returns where the column of some marks stands before a step; -1 where it left.
func (r *run) place(m *marked, before int) int {
	at := m.column
	for i := m.step + 1; i < before && at >= 0; i++ {
		s := &r.steps[i]
		if s.off || s.work.Frame == nil {
			continue
		}
		was := at
		at = -1
		for c := range s.work.Frame.Names {
			if s.work.source(c) == was && (s.work.From != nil || c < len(s.before.Names)) {
				at = c
				break
			}
		}
	}
	return at
}

// lookedAt gives a step that looks at the whole table the rows of a batch that went through the steps before it.
func (r *run) lookedAt(step int, p *passed, pending []int, frame *Frame, where *condition.Condition, told *told) *Rows {
	rows := rowsOf(frame, p.batch, where, told)
	rows.estimated = func(column int) func(at int) bool {
		var settled []*table.RowSet
		var fresh [][]uint32
		for _, m := range r.marks {
			if m.step >= step || r.place(m, step) != column {
				continue
			}
			// What is estimated in this very pass is not among the marks yet, or another goroutine adds it to them.
			if k := slices.Index(pending, m.step); k >= 0 {
				fresh = append(fresh, p.steps[k].estimated)
			} else {
				settled = append(settled, m.how.Rows)
			}
		}
		return func(at int) bool {
			row := p.batch.Rows[at]
			for _, set := range settled {
				if set.Contains(row) {
					return true
				}
			}
			for _, rows := range fresh {
				if _, there := slices.BinarySearch(rows, row); there {
					return true
				}
			}
			return false
		}
	}
	return rows
}

// estimates notes which cells a step estimated in a batch, with their draws.
func (did *passedStep) estimates(s *bound, b *table.Batch, e Edit, was *table.Column, look bool) {
	now, cells := &b.Columns[e.Column], s.after.Cells[e.Column]
	for at, row := range b.Rows {
		if was.At(at) == now.At(at) {
			continue
		}
		if did.estimated = append(did.estimated, row); look {
			continue
		}
		draws := []table.Value{cells.Read(now.At(at)).Value}
		if e.Draws != nil {
			draws = e.Draws(at)
		}
		if did.moments == nil {
			did.moments = make([]estimate.Moments, len(draws))
		}
		for i, v := range draws {
			if v.Kind == table.Number {
				did.moments[i].Add(v.Number.Float())
			}
		}
		if len(draws) > 1 {
			did.drawn = binary.LittleEndian.AppendUint32(did.drawn, row)
			for _, v := range draws[1:] {
				text := v.Standard()
				did.drawn = append(binary.AppendUvarint(did.drawn, uint64(len(text))), text...)
			}
		}
	}
}

// takeEstimates accounts for the cells that a step estimated in a batch.
func (r *run) takeEstimates(step int, did *passedStep) error {
	s := &r.steps[step]
	at := slices.IndexFunc(r.marks, func(m *marked) bool { return m.step == step })
	r.marks[at].how.Rows.AddMany(did.estimated)
	if s.moments == nil {
		s.moments = make([]estimate.Moments, len(did.moments))
	}
	for i, m := range did.moments {
		s.moments[i].Join(m)
	}
	return r.drawn.add(step, did.drawn)
}

// keepMarks takes the rows of a batch that go into the cleaned table, after as many as went before.
func (r *run) keepMarks(rows []uint32) {
	if len(rows) == 0 {
		return
	}
	for _, m := range r.marks {
		it := m.how.Rows.Iterator()
		it.AdvanceIfNeeded(rows[0])
		for it.HasNext() && it.PeekNext() <= rows[len(rows)-1] {
			row := it.Next()
			if at, there := slices.BinarySearch(rows, row); there {
				m.stay.Add(row)
				m.now.Add(r.written + uint32(at) + 1)
			}
		}
	}
	r.written += uint32(len(rows))
}

// Draw is one draw of an estimate beyond the first, which the table has.
type Draw struct {
	Column string `parquet:"column,dict"`
	Row    int64  `parquet:"row,delta"` // of the cleaned table, from 1
	Draw   int32  `parquet:"draw"`      // from 2
	Value  string `parquet:"value"`     // in standard form
}

// drawsInGroup is how many draws a row group of the Parquet file has.
const drawsInGroup = 1 << 17

// writeMarks writes which cells of the cleaned table are estimates, and their draws beyond the first.
func (r *run) writeMarks(frame *Frame, out Outputs) error {
	marks := &table.Marks{}
	var draws *parquet.GenericWriter[Draw]
	for _, m := range r.marks {
		at := r.place(m, len(r.steps))
		if at < 0 || m.now.IsEmpty() {
			continue
		}
		how := m.how
		how.Column, how.Rows = frame.Names[at], m.now
		marks.All = append(marks.All, how)
		if m.step < 0 || how.Draws < 2 {
			continue
		}
		if draws == nil {
			draws = parquet.NewGenericWriter[Draw](out.Draws, parquet.Compression(&parquet.Zstd), parquet.MaxRowsPerRowGroup(drawsInGroup))
		}
		if err := r.writeDraws(draws, m, how); err != nil {
			return err
		}
	}
	r.kept = marks
	if draws != nil {
		if err := draws.Close(); err != nil {
			return err
		}
	}
	return marks.Write(out.Marks)
}

// writeDraws writes the draws of the cells that stay.
func (r *run) writeDraws(out *parquet.GenericWriter[Draw], m *marked, how table.Mark) error {
	in, err := r.drawn.read(m.step)
	if err != nil {
		return err
	}
	from := bufio.NewReaderSize(in, 1<<16)
	stay, now := m.stay.Iterator(), m.now.Iterator()
	rows := make([]Draw, how.Draws-1)
	for stay.HasNext() {
		var raw [4]byte
		if _, err := io.ReadFull(from, raw[:]); err != nil {
			return fmt.Errorf("reading draws: %w", err)
		}
		for i := range rows {
			length, err := binary.ReadUvarint(from)
			if err != nil {
				return fmt.Errorf("reading draws: %w", err)
			}
			text := make([]byte, length)
			if _, err := io.ReadFull(from, text); err != nil {
				return fmt.Errorf("reading draws: %w", err)
			}
			rows[i] = Draw{Column: how.Column, Draw: int32(i) + 2, Value: string(text)}
		}
		switch row := binary.LittleEndian.Uint32(raw[:]); cmp.Compare(row, stay.PeekNext()) {
		case -1: // its row left the table
		case 0:
			stay.Next()
			written := int64(now.Next())
			for i := range rows {
				rows[i].Row = written
			}
			r.draws += int64(len(rows))
			if _, err := out.Write(rows); err != nil {
				return err
			}
		default:
			return fmt.Errorf("row %d was estimated, and its draws are not there", stay.PeekNext())
		}
	}
	return nil
}

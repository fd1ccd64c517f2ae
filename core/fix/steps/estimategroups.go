package steps

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"math"
	"os"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// What a group's centre or a line in time gives to a gap is worked out from all values of the group, not from some donors:
// the rows are put in order, and passed through once.

var notANumber = math.NaN()

// Where a row stands among those of its group, or of its group and time: values before gaps.
const (
	valueThere = iota
	valueGap
)

// settleGroups estimates gaps by what stands in their group.
func (g *gapFilling) settleGroups(ctx context.Context, t *fix.Table) (*fix.Work, error) {
	var sorter, members table.Sorter
	defer sorter.Close()
	defer members.Close()
	addRows, addMembers := addRecords(&sorter), addRecords(&members)
	whole, err := g.gather(ctx, t, g.layOut, func(part *evidence) error {
		if err := addRows(part.records); err != nil {
			return err
		}
		return addMembers(part.members)
	})
	if err != nil {
		return nil, err
	}
	if g.decimals < 0 {
		g.decimals = whole.places
	}
	edits := newCellEdits([]int{g.at})
	if g.method == inTime {
		err = g.alongTime(ctx, t, &sorter, edits)
	} else {
		err = g.centres(ctx, t, &sorter, &members, edits)
	}
	if err != nil {
		edits.close()
		return nil, err
	}
	work, err := edits.work(ctx)
	if err == nil {
		work.Estimated = g.estimated(whole)
	}
	return work, err
}

// layOut lays out the rows of a batch to be put in order: by group, then time, then values before gaps, then size, then row.
func (g *gapFilling) layOut(part *evidence, rows *fix.Rows) {
	lay := func(at int, kind byte, cell rulebook.Cell) {
		var key []byte
		for _, c := range g.group {
			key = appendIdentity(key, rows, c, at)
		}
		length := len(key)
		if kind == valueThere && g.method == groupMedian {
			part.members = append(part.members, record{key: append([]byte(nil), key...)})
		}
		for _, c := range g.order {
			v := rows.Cell(c, at).Value
			if v.Kind == table.Missing {
				if kind == valueGap {
					rows.Count(fix.LeftOpen, 1)
				}
				return
			}
			key = table.AppendOrdered(key, v, "", false)
		}
		key = append(key, kind)
		var value []byte
		if kind == valueThere {
			key = table.AppendOrdered(key, cell.Value, "", false)
			value = []byte(cell.Value.Number.String())
		}
		value = appendSized(nil, string(value))
		for _, c := range g.order {
			value = append(value, exactly(rows.Cell(c, at).Value).String()...)
		}
		key = binary.BigEndian.AppendUint32(appendRow(key, rows.Rows[at]), uint32(length))
		part.records = append(part.records, record{key, value})
	}
	g.visit(rows, func(at int, cell rulebook.Cell) { lay(at, valueThere, cell) }, func(at int) { lay(at, valueGap, rulebook.Cell{}) })
}

// ordered is a row as it comes in order.
type ordered struct {
	group string
	gap   bool
	row   uint32
	value table.Decimal // of what is there
	time  table.Decimal
}

// exactly returns a value as a number: a date in days, a datetime in microseconds.
func exactly(v table.Value) table.Decimal {
	if v.Kind == table.Number {
		return v.Number
	}
	return table.DecimalOf(v.When, 0)
}

// inOrder visits the rows in order.
func (g *gapFilling) inOrder(ctx context.Context, sorter *table.Sorter, visit func(ordered) error) error {
	return sorter.Each(ctx, func(key, value []byte) error {
		n := len(key) - 4
		length := int(binary.BigEndian.Uint32(key[n:]))
		o := ordered{group: string(key[:length]), row: rowIn(key[:n])}
		size, used := binary.Uvarint(value)
		if o.gap = size == 0; !o.gap {
			o.value, _ = table.ParseDecimal(string(value[used : used+int(size)]))
		}
		if time := value[used+int(size):]; len(time) > 0 {
			o.time, _ = table.ParseDecimal(string(time))
		}
		return visit(o)
	})
}

// put gives a gap a number with its decimals, as the cells of the column are written.
func (g *gapFilling) put(t *fix.Table, edits *cellEdits, row uint32, number table.Decimal) error {
	text, ok := g.cells[g.at].Write(table.NumberValue(number))
	if !ok {
		t.Refuse("the estimates cannot be written as "+g.column+" is read; a step standard_form before this one would let them", 1,
			fix.Place{Row: row, Column: g.column, Text: number.String()})
		return nil
	}
	return edits.set(row, 0, text)
}

// centres gives every gap the mean or the median of its group.
func (g *gapFilling) centres(ctx context.Context, t *fix.Table, sorter, members *table.Sorter, edits *cellEdits) error {
	sizes, err := sizesOf(ctx, members)
	if err != nil {
		return err
	}
	defer sizes.close()
	var now struct {
		group     string
		begun     bool
		n, middle int64
		sum       table.Decimal // of the values; for a median, of those in the middle
		centre    table.Decimal
		known     bool // the centre
	}
	return g.inOrder(ctx, sorter, func(o ordered) error {
		if !now.begun || o.group != now.group {
			now.group, now.begun, now.n, now.middle, now.sum, now.known = o.group, true, 0, 0, table.Decimal{}, false
			if g.method == groupMedian && !o.gap {
				var err error
				if now.middle, err = sizes.next(); err != nil {
					return err
				}
			}
		}
		if !o.gap {
			now.n++
			if size := now.middle; g.method == groupMean || now.n == (size+1)/2 || now.n == size/2+1 {
				now.sum = now.sum.Add(o.value)
			}
			return nil
		}
		if now.n == 0 {
			t.Count(fix.LeftOpen, 1)
			return nil
		}
		if !now.known {
			now.known = true
			of := now.n
			if g.method == groupMedian {
				of = 2 - now.n%2 // how many stand in the middle
			}
			now.centre, _ = now.sum.DivTo(table.DecimalOf(of, 0), g.decimals)
		}
		return g.put(t, edits, o.row, now.centre)
	})
}

// sizes are how many values groups have, in their order, on disk.
type sizes struct {
	file *os.File
	in   *bufio.Reader
}

func (s *sizes) close() { _ = s.file.Close() }

func (s *sizes) next() (int64, error) {
	var raw [8]byte
	_, err := io.ReadFull(s.in, raw[:])
	return int64(binary.LittleEndian.Uint64(raw[:])), err
}

// sizesOf counts the members of groups.
func sizesOf(ctx context.Context, members *table.Sorter) (*sizes, error) {
	f, err := scratch.File("sizes")
	if err != nil {
		return nil, err
	}
	out := bufio.NewWriter(f)
	group, n := "", int64(0)
	end := func() error {
		if n == 0 {
			return nil
		}
		_, err := out.Write(binary.LittleEndian.AppendUint64(nil, uint64(n)))
		return err
	}
	err = members.Each(ctx, func(key, _ []byte) error {
		if n > 0 && string(key) != group {
			if err := end(); err != nil {
				return err
			}
			n = 0
		}
		group = string(key)
		n++
		return nil
	})
	if err == nil {
		err = end()
	}
	if err == nil {
		err = out.Flush()
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &sizes{f, bufio.NewReader(f)}, nil
}

// point is the mean of the values of one time.
type point struct {
	time table.Decimal
	n    int64
	sum  table.Decimal
}

// mean returns the value, to so many decimals.
func (p *point) mean(decimals int) table.Decimal {
	mean, _ := p.sum.DivTo(table.DecimalOf(p.n, 0), decimals)
	return mean
}

// alongTime gives every gap the value on the straight line from the values before it to those after it.
func (g *gapFilling) alongTime(ctx context.Context, t *fix.Table, sorter *table.Sorter, edits *cellEdits) error {
	waiting := &gapQueue{}
	defer waiting.close()
	var before, now point // the last two times with values; now may get more of them
	group, begun := "", false
	open := func(n int64) { t.Count(fix.LeftOpen, n) }
	// settle ends the time that is being gathered, and gives the gaps before it their values.
	settle := func() error {
		if now.n == 0 {
			return nil
		}
		err := waiting.drain(func(row uint32, time table.Decimal) error {
			return g.put(t, edits, row, between(&before, &now, time, g.decimals))
		})
		before, now = now, point{}
		return err
	}
	err := g.inOrder(ctx, sorter, func(o ordered) error {
		if !begun || o.group != group {
			if err := settle(); err != nil {
				return err
			}
			open(waiting.forget())
			group, begun, before = o.group, true, point{}
		}
		if !o.gap {
			if now.n > 0 && now.time.Cmp(o.time) != 0 {
				if err := settle(); err != nil {
					return err
				}
			}
			now.time, now.n, now.sum = o.time, now.n+1, now.sum.Add(o.value)
			return nil
		}
		if err := settle(); err != nil {
			return err
		}
		switch {
		case before.n == 0:
			open(1)
			return nil
		case before.time.Cmp(o.time) == 0:
			return g.put(t, edits, o.row, before.mean(g.decimals))
		}
		return waiting.add(o.row, o.time)
	})
	if err == nil {
		err = settle()
	}
	open(waiting.forget())
	return err
}

// between returns the value on the line between two points, to so many decimals. All is put over one denominator, so that
// it is rounded once.
func between(before, after *point, time table.Decimal, decimals int) table.Decimal {
	n, m, since, span := table.DecimalOf(before.n, 0), table.DecimalOf(after.n, 0), time.Sub(before.time), after.time.Sub(before.time)
	rise := after.sum.Mul(n).Sub(before.sum.Mul(m)).Mul(since)
	value, _ := before.sum.Mul(m).Mul(span).Add(rise).DivTo(n.Mul(m).Mul(span), decimals)
	return value
}

// gapQueue are gaps that wait for the value after them; more than fit are on disk.
type gapQueue struct {
	held []byte
	file *os.File
	n    int64
}

// GapsHeld is how many bytes of gaps are held in memory. Tests lower it.
var GapsHeld = 1 << 20

func (q *gapQueue) add(row uint32, time table.Decimal) error {
	q.held = appendSized(binary.LittleEndian.AppendUint32(q.held, row), time.String())
	q.n++
	if len(q.held) < GapsHeld {
		return nil
	}
	if q.file == nil {
		f, err := scratch.File("gaps")
		if err != nil {
			return err
		}
		q.file = f
	}
	_, err := q.file.Write(q.held)
	q.held = q.held[:0]
	return err
}

// drain hands out the gaps in the order in which they came, and has none then.
func (q *gapQueue) drain(visit func(row uint32, time table.Decimal) error) error {
	parts := []io.Reader{bytes.NewReader(q.held)}
	if q.file != nil {
		if _, err := q.file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		parts = []io.Reader{q.file, parts[0]}
	}
	in := bufio.NewReader(io.MultiReader(parts...))
	for range q.n {
		var row [4]byte
		if _, err := io.ReadFull(in, row[:]); err != nil {
			return err
		}
		size, err := binary.ReadUvarint(in)
		if err != nil {
			return err
		}
		text := make([]byte, size)
		if _, err := io.ReadFull(in, text); err != nil {
			return err
		}
		time, _ := table.ParseDecimal(string(text))
		if err := visit(binary.LittleEndian.Uint32(row[:]), time); err != nil {
			return err
		}
	}
	q.forget()
	return nil
}

// forget drops the gaps and says how many there were.
func (q *gapQueue) forget() (n int64) {
	n, q.n, q.held = q.n, 0, q.held[:0]
	q.close()
	return n
}

func (q *gapQueue) close() {
	if q.file != nil {
		_ = q.file.Close()
		q.file = nil
	}
}

package table

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"

	"proudsieve/core/scratch"
)

// SortedBytes is how many bytes of records a Sorter holds before it puts them on disk. Tests lower it.
var SortedBytes = 24 << 20

// recordBytes is what a record takes beside its own bytes.
const recordBytes = 16

// Sorter puts records, each a key with what belongs to it, in the order of their keys' bytes; those with equal keys stay
// in the order in which they came. Its memory is bounded: what is beyond goes to files of the temporary directory that have
// no name. The zero value is ready for use, by one goroutine.
type Sorter struct {
	bytes   []byte
	records []record
	runs    []*os.File
	n       int64
}

type record struct {
	at         int
	key, value uint32 // lengths
}

func (s *Sorter) key(r record) []byte { return s.bytes[r.at : r.at+int(r.key)] }

func (s *Sorter) value(r record) []byte {
	from := r.at + int(r.key)
	return s.bytes[from : from+int(r.value)]
}

// Len returns how many records there are.
func (s *Sorter) Len() int64 { return s.n }

// Add takes a record in.
func (s *Sorter) Add(key, value []byte) error {
	if len(s.bytes)+len(s.records)*recordBytes+len(key)+len(value) > SortedBytes && len(s.records) > 0 {
		if err := s.spill(); err != nil {
			return fmt.Errorf("putting rows in order: %w", err)
		}
	}
	s.records = append(s.records, record{len(s.bytes), uint32(len(key)), uint32(len(value))})
	s.bytes = append(append(s.bytes, key...), value...)
	s.n++
	return nil
}

// sort puts the records in order. Where they stand keeps equal ones in the order in which they came: a stable sort takes longer.
func (s *Sorter) sort() {
	slices.SortFunc(s.records, func(a, b record) int {
		return cmp.Or(bytes.Compare(s.key(a), s.key(b)), cmp.Compare(a.at, b.at))
	})
}

func (s *Sorter) spill() error {
	s.sort()
	f, err := scratch.File("order")
	if err != nil {
		return err
	}
	s.runs = append(s.runs, f)
	out := bufio.NewWriterSize(f, 256<<10)
	for _, r := range s.records {
		if err := writeRecord(out, s.key(r), s.value(r)); err != nil {
			return err
		}
	}
	s.records, s.bytes = s.records[:0], s.bytes[:0]
	return out.Flush()
}

func writeRecord(out *bufio.Writer, key, value []byte) error {
	var lengths [8]byte
	binary.LittleEndian.PutUint32(lengths[:], uint32(len(key)))
	binary.LittleEndian.PutUint32(lengths[4:], uint32(len(value)))
	_, err := out.Write(lengths[:])
	for _, part := range [][]byte{key, value} {
		if err == nil {
			_, err = out.Write(part)
		}
	}
	return err
}

// Each visits the records in order, once; no more can be added. What visit is given is good during the call.
func (s *Sorter) Each(ctx context.Context, visit func(key, value []byte) error) error {
	s.sort()
	n := 0
	each := func(key, value []byte) error {
		if n++; n%(1<<12) == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		return visit(key, value)
	}
	if len(s.runs) == 0 {
		for _, r := range s.records {
			if err := each(s.key(r), s.value(r)); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	m := &sortedRuns{}
	add := func(r *sortedRun) error {
		r.order = len(m.runs)
		more, err := r.next()
		if err == nil && more {
			m.runs = append(m.runs, r)
		}
		return err
	}
	for _, f := range s.runs {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
		if err := add(&sortedRun{in: bufio.NewReaderSize(f, 64<<10)}); err != nil {
			return err
		}
	}
	if err := add(&sortedRun{held: s, left: s.records}); err != nil {
		return err
	}
	for heap.Init(m); m.Len() > 0; {
		r := m.runs[0]
		if err := each(r.key, r.value); err != nil {
			return err
		}
		more, err := r.next()
		switch {
		case err != nil:
			return fmt.Errorf("putting rows in order: %w", err)
		case more:
			heap.Fix(m, 0)
		default:
			heap.Pop(m)
		}
	}
	return ctx.Err()
}

// Close gives the files back.
func (s *Sorter) Close() {
	for _, f := range s.runs {
		_ = f.Close()
	}
	*s = Sorter{}
}

// sortedRun is records in order, of a file or at hand, with the one that comes next.
type sortedRun struct {
	in         *bufio.Reader
	held       *Sorter
	left       []record
	order      int
	key, value []byte
}

func (r *sortedRun) next() (more bool, err error) {
	if r.in == nil {
		if len(r.left) == 0 {
			return false, nil
		}
		r.key, r.value, r.left = r.held.key(r.left[0]), r.held.value(r.left[0]), r.left[1:]
		return true, nil
	}
	var lengths [8]byte
	if _, err := io.ReadFull(r.in, lengths[:]); err != nil {
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		return false, err
	}
	r.key = slices.Grow(r.key[:0], int(binary.LittleEndian.Uint32(lengths[:])))[:binary.LittleEndian.Uint32(lengths[:])]
	r.value = slices.Grow(r.value[:0], int(binary.LittleEndian.Uint32(lengths[4:])))[:binary.LittleEndian.Uint32(lengths[4:])]
	if _, err = io.ReadFull(r.in, r.key); err == nil {
		_, err = io.ReadFull(r.in, r.value)
	}
	return true, err
}

// sortedRuns is a heap of runs by what comes next in each; of equal keys the earlier run's.
type sortedRuns struct{ runs []*sortedRun }

// Len implements heap.Interface.
func (m *sortedRuns) Len() int { return len(m.runs) }

// Less implements heap.Interface.
func (m *sortedRuns) Less(i, j int) bool {
	order := bytes.Compare(m.runs[i].key, m.runs[j].key)
	return order < 0 || order == 0 && m.runs[i].order < m.runs[j].order
}

// Swap implements heap.Interface.
func (m *sortedRuns) Swap(i, j int) { m.runs[i], m.runs[j] = m.runs[j], m.runs[i] }

// Push implements heap.Interface.
func (m *sortedRuns) Push(x any) { m.runs = append(m.runs, x.(*sortedRun)) }

// Pop implements heap.Interface.
func (m *sortedRuns) Pop() any {
	last := m.runs[len(m.runs)-1]
	m.runs = m.runs[:len(m.runs)-1]
	return last
}

// RowValues keeps something for some rows of a table, on disk, to be looked up by rows again.
type RowValues struct {
	sorter Sorter
	file   *os.File
	marks  []rowMark
	size   int64
	rows   *RowSet
}

type rowMark struct {
	row    uint32
	offset int64
}

// rowsPerMark is how many records lie between two that can be gone to at once.
const rowsPerMark = 256

// Add records a value of a row; a row may have several, which stay in their order.
func (v *RowValues) Add(row uint32, value []byte) error {
	return v.sorter.Add(binary.BigEndian.AppendUint32(nil, row), value)
}

// Settle makes what was added ready to be looked up.
func (v *RowValues) Settle(ctx context.Context) (err error) {
	defer v.sorter.Close()
	v.rows = NewRowSet()
	if v.file, err = scratch.File("rows"); err != nil {
		return err
	}
	out := bufio.NewWriterSize(v.file, 256<<10)
	n := 0
	err = v.sorter.Each(ctx, func(key, value []byte) error {
		row := binary.BigEndian.Uint32(key)
		if n%rowsPerMark == 0 {
			v.marks = append(v.marks, rowMark{row, v.size})
		}
		n++
		v.rows.Add(row)
		v.size += int64(8 + len(key) + len(value))
		return writeRecord(out, key, value)
	})
	if err == nil {
		err = out.Flush()
	}
	return err
}

// Rows returns the rows that have a value.
func (v *RowValues) Rows() *RowSet { return v.rows }

// Between visits the values of the rows from first to last, in their order. It may be called by many goroutines at once.
func (v *RowValues) Between(first, last uint32, visit func(row uint32, value []byte) error) error {
	if v.rows.IsEmpty() || first > last || v.rows.Rank(last) == v.rows.Rank(max(first, 1)-1) {
		return nil
	}
	at := max(sort.Search(len(v.marks), func(i int) bool { return v.marks[i].row >= first })-1, 0)
	run := sortedRun{in: bufio.NewReaderSize(io.NewSectionReader(v.file, v.marks[at].offset, v.size-v.marks[at].offset), 16<<10)}
	for {
		more, err := run.next()
		if err != nil || !more {
			return err
		}
		switch row := binary.BigEndian.Uint32(run.key); {
		case row > last:
			return nil
		case row >= first:
			if err := visit(row, run.value); err != nil {
				return err
			}
		}
	}
}

// Close gives the file back.
func (v *RowValues) Close() {
	v.sorter.Close()
	if v.file != nil {
		_ = v.file.Close()
	}
}

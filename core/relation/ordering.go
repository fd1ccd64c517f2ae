package relation

import (
	"bufio"
	"container/heap"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"

	"proudsieve/core/budget"
)

// OrderedAtOnce is how many keys, of some 48 bytes, are sorted in memory; more of them go to
// disk as runs, which are merged. Tests lower it.
var OrderedAtOnce = 1 << 19

// keyBytes is how many bytes a key takes in a run.
const keyBytes = 8 + orderedBytes + 4 + 1

// ordering sorts keys in a bounded amount of memory.
type ordering struct {
	compare func(a, b *sortKey) int
	held    []sortKey
	runs    []*os.File
	n       int
}

// take takes keys in.
func (o *ordering) take(keys []sortKey) error {
	o.n += len(keys)
	for len(keys) > 0 {
		if o.held == nil {
			o.held = make([]sortKey, 0, min(OrderedAtOnce, max(len(keys), 1024)))
		}
		some := keys[:min(len(keys), OrderedAtOnce-len(o.held))]
		o.held, keys = append(o.held, some...), keys[len(some):]
		if len(o.held) == OrderedAtOnce {
			if err := o.spill(); err != nil {
				return fmt.Errorf("putting rows in order: %w", err)
			}
		}
	}
	return nil
}

func (o *ordering) sort() {
	slices.SortFunc(o.held, func(a, b sortKey) int { return o.compare(&a, &b) })
}

// spill writes the keys at hand as a run.
func (o *ordering) spill() error {
	o.sort()
	f, err := os.CreateTemp("", "proudsieve-order-*")
	if err != nil {
		return err
	}
	o.runs = append(o.runs, f)
	_ = os.Remove(f.Name()) // it is gone when it is closed
	out := bufio.NewWriterSize(f, 256<<10)
	var raw [keyBytes]byte
	for i := range o.held {
		k := &o.held[i]
		binary.LittleEndian.PutUint64(raw[:], math.Float64bits(k.number))
		copy(raw[8:], k.text[:])
		binary.LittleEndian.PutUint32(raw[8+orderedBytes:], k.row)
		raw[keyBytes-1] = k.class
		if _, err := out.Write(raw[:]); err != nil {
			return err
		}
	}
	o.held = o.held[:0]
	return out.Flush()
}

// rows returns the rows of all keys in order. They take four bytes each, which must be there.
func (o *ordering) rows(ctx context.Context) ([]uint32, error) {
	share := budget.Of(ctx)
	if !share.Grow(int64(o.n) * 4) {
		return nil, fmt.Errorf("%w: %d rows in order take %d MiB", budget.ErrBusy, o.n, o.n>>18)
	}
	o.sort()
	out := make([]uint32, 0, o.n)
	if len(o.runs) == 0 {
		for i := range o.held {
			out = append(out, o.held[i].row)
		}
		return out, nil
	}
	m := &merging{compare: o.compare}
	add := func(r *run) error {
		more, err := r.next()
		if err == nil && more {
			m.runs = append(m.runs, r)
		}
		return err
	}
	for _, f := range o.runs {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		if err := add(&run{in: bufio.NewReaderSize(f, 64<<10)}); err != nil {
			return nil, err
		}
	}
	if err := add(&run{held: o.held}); err != nil {
		return nil, err
	}
	for heap.Init(m); m.Len() > 0; {
		r := m.runs[0]
		if out = append(out, r.key.row); len(out)%(1<<16) == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		more, err := r.next()
		if err != nil {
			return nil, fmt.Errorf("putting rows in order: %w", err)
		}
		if more {
			heap.Fix(m, 0)
		} else {
			heap.Pop(m)
		}
	}
	return out, nil
}

func (o *ordering) close() {
	for _, f := range o.runs {
		_ = f.Close()
	}
}

// run is keys in order, of a file or at hand, with the one that comes next.
type run struct {
	in   *bufio.Reader
	held []sortKey
	key  sortKey
}

func (r *run) next() (bool, error) {
	if r.in == nil {
		if len(r.held) == 0 {
			return false, nil
		}
		r.key, r.held = r.held[0], r.held[1:]
		return true, nil
	}
	var raw [keyBytes]byte
	if _, err := io.ReadFull(r.in, raw[:]); err != nil {
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		return false, err
	}
	r.key.number = math.Float64frombits(binary.LittleEndian.Uint64(raw[:]))
	copy(r.key.text[:], raw[8:])
	r.key.row = binary.LittleEndian.Uint32(raw[8+orderedBytes:])
	r.key.class = raw[keyBytes-1]
	return true, nil
}

// merging is a heap of runs by what comes next in each.
type merging struct {
	compare func(a, b *sortKey) int
	runs    []*run
}

// Len implements heap.Interface.
func (m *merging) Len() int { return len(m.runs) }

// Less implements heap.Interface.
func (m *merging) Less(i, j int) bool { return m.compare(&m.runs[i].key, &m.runs[j].key) < 0 }

// Swap implements heap.Interface.
func (m *merging) Swap(i, j int) { m.runs[i], m.runs[j] = m.runs[j], m.runs[i] }

// Push implements heap.Interface.
func (m *merging) Push(x any) { m.runs = append(m.runs, x.(*run)) }

// Pop implements heap.Interface.
func (m *merging) Pop() any {
	last := m.runs[len(m.runs)-1]
	m.runs = m.runs[:len(m.runs)-1]
	return last
}

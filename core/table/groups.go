package table

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"os"
	"slices"
	"sync"

	"github.com/zeebo/xxh3"
)

const (
	groupPartitions = 64
	entryBytes      = 20
	// groupsInMemory is how many rows a Groups holds before it spills to disk: 24 bytes each.
	groupsInMemory = 6 << 20
	groupBlock     = 4096
)

// Hash is a 128-bit hash of a row's key. Two different keys share one with a
// probability of less than 1e-18 for a table of a billion rows.
type Hash = xxh3.Uint128

// HashedRow is a row with the hash of its key.
type HashedRow struct {
	Hash Hash
	Row  uint32
}

// Groups finds the rows that share a hash. Memory is bounded: beyond a fixed
// number of rows it spills to files in the temporary directory, which Close removes.
type Groups struct {
	partitions [groupPartitions]partition
	held       int
	limit      int
	free       [][]HashedRow
}

// partition holds the rows whose hashes start alike, in blocks, and in a file those spilled.
type partition struct {
	blocks [][]HashedRow
	file   *os.File
}

// NewGroups returns an empty Groups.
func NewGroups() *Groups { return &Groups{limit: groupsInMemory} }

// Add records a row under its hash.
func (g *Groups) Add(h Hash, row uint32) error {
	p := &g.partitions[h.Hi>>58]
	last := len(p.blocks) - 1
	if last < 0 || len(p.blocks[last]) == groupBlock {
		p.blocks = append(p.blocks, g.block())
		last++
	}
	p.blocks[last] = append(p.blocks[last], HashedRow{h, row})
	if g.held++; g.held < g.limit {
		return nil
	}
	return g.spill()
}

func (g *Groups) block() []HashedRow {
	if n := len(g.free); n > 0 {
		b := g.free[n-1]
		g.free = g.free[:n-1]
		return b[:0]
	}
	return make([]HashedRow, 0, groupBlock)
}

// AddAll records many rows.
func (g *Groups) AddAll(rows []HashedRow) error {
	for _, one := range rows {
		if err := g.Add(one.Hash, one.Row); err != nil {
			return fmt.Errorf("looking for repeated rows: %w", err)
		}
	}
	return nil
}

func (g *Groups) spill() error {
	var buffer []byte
	for i := range g.partitions {
		p := &g.partitions[i]
		if p.file == nil {
			f, err := os.CreateTemp("", "proudsieve-groups-*")
			if err != nil {
				return err
			}
			p.file = f
		}
		for _, b := range p.blocks {
			buffer = buffer[:0]
			for _, e := range b {
				buffer = binary.LittleEndian.AppendUint64(buffer, e.Hash.Hi)
				buffer = binary.LittleEndian.AppendUint64(buffer, e.Hash.Lo)
				buffer = binary.LittleEndian.AppendUint32(buffer, e.Row)
			}
			if _, err := p.file.Write(buffer); err != nil {
				return err
			}
			g.free = append(g.free, b)
		}
		p.blocks = p.blocks[:0]
	}
	g.held = 0
	return nil
}

// Repeated calls found for every group of two or more rows, in the order of their
// hashes, rows ascending. The slice is only good during the call. Up to workers
// partitions are searched at once.
func (g *Groups) Repeated(workers int, found func(h Hash, rows []uint32) error) error {
	type searched struct {
		rows []HashedRow
		err  error
	}
	results := make([]chan searched, groupPartitions)
	for i := range results {
		results[i] = make(chan searched, 1)
	}
	next := make(chan int, groupPartitions)
	for i := range groupPartitions {
		next <- i
	}
	close(next)
	var group sync.WaitGroup
	defer group.Wait()
	for range max(workers, 1) {
		group.Go(func() {
			var s search
			for i := range next {
				rows, err := s.repeated(&g.partitions[i])
				results[i] <- searched{rows, err}
			}
		})
	}
	var rows []uint32
	for i := range results {
		r := <-results[i]
		if r.err != nil {
			return r.err
		}
		for at := 0; at < len(r.rows); {
			rows = rows[:0]
			h := r.rows[at].Hash
			for ; at < len(r.rows) && r.rows[at].Hash == h; at++ {
				rows = append(rows, r.rows[at].Row)
			}
			if err := found(h, rows); err != nil {
				return err
			}
		}
	}
	return nil
}

// search finds repeated hashes with a table of its own.
type search struct {
	entries []HashedRow
	slots   []uint32 // index of an entry + 1; 0 is free
}

// repeated returns the rows of a partition that share their hash with another, sorted by hash and row.
func (s *search) repeated(p *partition) ([]HashedRow, error) {
	s.entries = s.entries[:0]
	if err := s.load(p); err != nil {
		return nil, err
	}
	for _, b := range p.blocks {
		s.entries = append(s.entries, b...)
	}
	size := 1 << bits.Len(uint(2*len(s.entries)))
	if cap(s.slots) < size {
		s.slots = make([]uint32, size)
	}
	s.slots = s.slots[:size]
	clear(s.slots)
	mask := uint64(size - 1)
	var out []HashedRow
	first := map[uint32]bool{} // entries already in out as the first of their group
	for i, e := range s.entries {
		at := e.Hash.Lo & mask
		for s.slots[at] != 0 && s.entries[s.slots[at]-1].Hash != e.Hash {
			at = (at + 1) & mask
		}
		if s.slots[at] == 0 {
			s.slots[at] = uint32(i) + 1
			continue
		}
		if !first[s.slots[at]] {
			first[s.slots[at]] = true
			out = append(out, s.entries[s.slots[at]-1])
		}
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b HashedRow) int {
		return cmp.Or(cmp.Compare(a.Hash.Hi, b.Hash.Hi), cmp.Compare(a.Hash.Lo, b.Hash.Lo), cmp.Compare(a.Row, b.Row))
	})
	return out, nil
}

func (s *search) load(p *partition) error {
	if p.file == nil {
		return nil
	}
	if _, err := p.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	in := bufio.NewReaderSize(p.file, 1<<16)
	var raw [entryBytes]byte
	for {
		if _, err := io.ReadFull(in, raw[:]); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		s.entries = append(s.entries, HashedRow{
			Hash{Hi: binary.LittleEndian.Uint64(raw[:]), Lo: binary.LittleEndian.Uint64(raw[8:])},
			binary.LittleEndian.Uint32(raw[16:]),
		})
	}
}

// Close removes the spilled files.
func (g *Groups) Close() {
	for i := range g.partitions {
		if f := g.partitions[i].file; f != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
			g.partitions[i].file = nil
		}
	}
}

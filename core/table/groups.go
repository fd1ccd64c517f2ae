package table

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"fmt"
	"math/bits"
	"os"
	"slices"

	"github.com/zeebo/xxh3"

	"proudsieve/core/guard"
	"proudsieve/core/scratch"
)

const (
	// PartitionBits is how many of the first bits of their hashes name the partitions that hashed rows are gathered in.
	PartitionBits   = 6
	groupPartitions = 1 << PartitionBits
	entryBytes      = 20
	groupBlock      = 128 // rows
)

// RowsHeld is how many rows the Groups of one Room hold in memory together, 24 bytes each,
// before they spill to disk. Tests lower it.
var RowsHeld = 6 << 20

// Room is shared by Groups that are filled at the same time, by one goroutine.
type Room struct {
	limit, held int
	groups      []*Groups
}

// NewRoom returns room for RowsHeld rows, or one in so many of them.
func NewRoom(share int) *Room { return &Room{limit: RowsHeld / share} }

// Hash is a 128-bit hash of a row's key. Two different keys share one with a
// probability of less than 1e-18 for a table of a billion rows.
type Hash = xxh3.Uint128

// HashedRow is a row with the hash of its key.
type HashedRow struct {
	Hash Hash
	Row  uint32
}

// HashedRows gathers the hashed rows of a stretch, sorted by the first bits of their hashes,
// for a Groups to take over. The zero value is empty.
type HashedRows struct {
	partitions [groupPartitions]struct {
		open []HashedRow // the block that is being filled
		full [][]HashedRow
	}
	rows  int
	spare []HashedRow // for blocks to come
}

// Add records a row under its hash.
func (r *HashedRows) Add(h Hash, row uint32) {
	p := &r.partitions[h.Hi>>(64-PartitionBits)]
	if len(p.open) == cap(p.open) {
		if len(p.open) > 0 {
			p.full = append(p.full, p.open)
		}
		if len(r.spare) == 0 {
			r.spare = make([]HashedRow, groupPartitions*groupBlock)
		}
		p.open, r.spare = r.spare[:0:groupBlock], r.spare[groupBlock:]
	}
	p.open = append(p.open, HashedRow{h, row})
	r.rows++
}

// Len returns how many rows there are.
func (r *HashedRows) Len() int { return r.rows }

// Merge takes the rows of another one over, which is empty afterwards.
func (r *HashedRows) Merge(o *HashedRows) {
	for i := range o.partitions {
		from, to := &o.partitions[i], &r.partitions[i]
		to.full = append(to.full, o.blocks(i)...)
		from.open, from.full = nil, from.full[:0]
	}
	r.rows += o.rows
	o.rows = 0
}

// Release returns the rows of a partition in the order in which they came, and lets go of them. Several goroutines may each
// release others.
func (r *HashedRows) Release(partition int) []HashedRow {
	p := &r.partitions[partition]
	n := len(p.open)
	for _, b := range p.full {
		n += len(b)
	}
	out := make([]HashedRow, 0, n)
	for i, b := range p.full {
		out = append(out, b...)
		p.full[i] = nil
	}
	out = append(out, p.open...)
	p.open, p.full = nil, nil
	return out
}

// blocks returns the rows of a partition.
func (r *HashedRows) blocks(partition int) [][]HashedRow {
	p := &r.partitions[partition]
	if len(p.open) == 0 {
		return p.full
	}
	return append(p.full[:len(p.full):len(p.full)], p.open)
}

// Groups finds the rows that share a hash. Memory is bounded: beyond a fixed
// number of rows it spills to a file of the temporary directory that has no name, and is gone with Close or the
// process.
type Groups struct {
	held    HashedRows // those in memory
	spilled *os.File   // nil where none are
	written int64      // bytes of it
	parts   [groupPartitions][]spilledPart
	room    *Room
	all     int // rows, in memory or not
}

// spilledPart is where rows of a partition stand in the file.
type spilledPart struct{ offset, bytes int64 }

// NewGroups returns an empty Groups that shares a room with others.
func NewGroups(room *Room) *Groups {
	g := &Groups{room: room}
	room.groups = append(room.groups, g)
	return g
}

// Len returns how many rows were recorded.
func (g *Groups) Len() int { return g.all }

// Take records the rows of a stretch, which is empty afterwards.
func (g *Groups) Take(rows *HashedRows) error {
	g.room.held += rows.rows
	g.all += rows.rows
	g.held.Merge(rows)
	return g.spillBeyond()
}

// AddAll records rows.
func (g *Groups) AddAll(rows []HashedRow) error {
	for _, one := range rows {
		g.held.Add(one.Hash, one.Row)
	}
	g.room.held += len(rows)
	g.all += len(rows)
	return g.spillBeyond()
}

// spillBeyond writes rows to files where there are too many in the room: those of the Groups with the most of them.
func (g *Groups) spillBeyond() error {
	if g.room.held < g.room.limit {
		return nil
	}
	most := g
	for _, other := range g.room.groups {
		if other.held.rows > most.held.rows {
			most = other
		}
	}
	if err := most.spill(); err != nil {
		return fmt.Errorf("looking for repeated rows: %w", err)
	}
	return nil
}

func (g *Groups) spill() error {
	if g.spilled == nil {
		f, err := scratch.File("groups")
		if err != nil {
			return err
		}
		g.spilled = f
	}
	out := bufio.NewWriterSize(g.spilled, 1<<18)
	for i := range g.parts {
		start := g.written
		for _, b := range g.held.blocks(i) {
			for _, e := range b {
				var raw [entryBytes]byte
				binary.LittleEndian.PutUint64(raw[:], e.Hash.Hi)
				binary.LittleEndian.PutUint64(raw[8:], e.Hash.Lo)
				binary.LittleEndian.PutUint32(raw[16:], e.Row)
				if _, err := out.Write(raw[:]); err != nil {
					return err
				}
			}
			g.written += int64(len(b)) * entryBytes
		}
		if g.written > start {
			g.parts[i] = append(g.parts[i], spilledPart{start, g.written - start})
		}
		p := &g.held.partitions[i]
		p.open, p.full = nil, p.full[:0]
	}
	g.room.held -= g.held.rows
	g.held.rows = 0
	return out.Flush()
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
	var group guard.Group
	defer group.Wait()
	for range max(workers, 1) {
		group.Go(func() error {
			var s search
			for i := range next {
				rows, err := guard.Value(func() ([]HashedRow, error) { return s.repeated(g, i) })
				results[i] <- searched{rows, err}
			}
			return nil
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

// RepeatedRows counts what Repeated finds: the groups, and the rows beyond the first of each, of which the first ones are returned,
// ascending.
func (g *Groups) RepeatedRows(workers, most int) (groups, surplus int64, first []uint32, err error) {
	type counted struct {
		groups, surplus int64
		first           []uint32
	}
	parts := make([]counted, groupPartitions)
	next := make(chan int, groupPartitions)
	for i := range groupPartitions {
		next <- i
	}
	close(next)
	var group guard.Group
	for range max(workers, 1) {
		group.Go(func() error {
			var s search
			for i := range next {
				if err := s.open(g, i); err != nil {
					return err
				}
				again := make([]uint64, len(s.entries)/64+1) // a bit for each entry that is the first of a group
				one := &parts[i]
				s.each(func(earlier, at uint32) {
					if one.surplus++; len(one.first) < most { // entries are in the order of their rows
						one.first = append(one.first, s.entries[at].Row)
					}
					if again[earlier/64]>>(earlier%64)&1 == 0 {
						again[earlier/64] |= 1 << (earlier % 64)
						one.groups++
					}
				})
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return 0, 0, nil, err
	}
	first = []uint32{}
	for i := range parts {
		groups += parts[i].groups
		surplus += parts[i].surplus
		first = append(first, parts[i].first...)
	}
	slices.Sort(first)
	return groups, surplus, first[:min(len(first), most)], nil
}

// search finds repeated hashes with a table of its own.
type search struct {
	entries []HashedRow
	slots   []uint32 // index of an entry + 1; 0 is free
	raw     []byte   // of what was spilled
	fetched uint32   // written so that the loads for it are not thought needless
}

// open takes the rows of a partition.
func (s *search) open(g *Groups, partition int) error {
	s.entries = s.entries[:0]
	if err := s.load(g, partition); err != nil {
		return err
	}
	for _, b := range g.held.blocks(partition) {
		s.entries = append(s.entries, b...)
	}
	return nil
}

// each calls found for every entry that has the hash of an earlier one, with the first of those.
func (s *search) each(found func(first, at uint32)) {
	size := 1 << bits.Len(uint(2*len(s.entries)))
	if cap(s.slots) < size {
		s.slots = make([]uint32, size)
	}
	s.slots = s.slots[:size]
	clear(s.slots)
	mask := uint64(size - 1)
	for i, e := range s.entries {
		if i%block == 0 { // the places are fetched first, all at once, as Dictionary does
			for _, ahead := range s.entries[i:min(i+block, len(s.entries))] {
				s.fetched |= s.slots[ahead.Hash.Lo&mask]
			}
		}
		at := e.Hash.Lo & mask
		for s.slots[at] != 0 && s.entries[s.slots[at]-1].Hash != e.Hash {
			at = (at + 1) & mask
		}
		if s.slots[at] == 0 {
			s.slots[at] = uint32(i) + 1
			continue
		}
		found(s.slots[at]-1, uint32(i))
	}
}

// repeated returns the rows of a partition that share their hash with another, sorted by hash and row.
func (s *search) repeated(g *Groups, partition int) ([]HashedRow, error) {
	if err := s.open(g, partition); err != nil {
		return nil, err
	}
	var out []HashedRow
	first := map[uint32]bool{} // entries already in out as the first of their group
	s.each(func(earlier, at uint32) {
		if !first[earlier] {
			first[earlier] = true
			out = append(out, s.entries[earlier])
		}
		out = append(out, s.entries[at])
	})
	slices.SortFunc(out, func(a, b HashedRow) int {
		return cmp.Or(cmp.Compare(a.Hash.Hi, b.Hash.Hi), cmp.Compare(a.Hash.Lo, b.Hash.Lo), cmp.Compare(a.Row, b.Row))
	})
	return out, nil
}

// load reads what was spilled of a partition.
func (s *search) load(g *Groups, partition int) error {
	for _, part := range g.parts[partition] {
		s.raw = slices.Grow(s.raw[:0], int(part.bytes))[:part.bytes]
		if _, err := g.spilled.ReadAt(s.raw, part.offset); err != nil {
			return fmt.Errorf("looking for repeated rows: %w", err)
		}
		for raw := s.raw; len(raw) > 0; raw = raw[entryBytes:] {
			s.entries = append(s.entries, HashedRow{
				Hash{Hi: binary.LittleEndian.Uint64(raw), Lo: binary.LittleEndian.Uint64(raw[8:])},
				binary.LittleEndian.Uint32(raw[16:]),
			})
		}
	}
	return nil
}

// Close removes the spilled file.
func (g *Groups) Close() {
	g.room.held -= g.held.rows
	g.held = HashedRows{}
	if g.spilled != nil {
		_ = g.spilled.Close()
	}
	g.spilled, g.written, g.parts = nil, 0, [groupPartitions][]spilledPart{}
}

package table

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/zeebo/xxh3"
)

const (
	groupPartitions = 64
	entryBytes      = 20
	// groupsInMemory is how many rows a Groups holds before it spills to disk: 24 bytes each.
	groupsInMemory = 1 << 20
)

// Hash is a 128-bit hash of a row's key. Two different keys share one with a
// probability of less than 1e-18 for a table of a billion rows.
type Hash = xxh3.Uint128

// HashTexts hashes texts so that no two different lists of texts hash alike by being joined.
func HashTexts(buffer []byte, texts ...string) (Hash, []byte) {
	buffer = buffer[:0]
	for _, t := range texts {
		buffer = AppendHashed(buffer, t)
	}
	return HashOf(buffer), buffer
}

// AppendHashed appends a text to what HashOf is to hash, its length first.
func AppendHashed(buffer []byte, text string) []byte {
	return append(binary.AppendUvarint(buffer, uint64(len(text))), text...)
}

// HashOf hashes a list of texts put together by AppendHashed.
func HashOf(buffer []byte) Hash { return xxh3.Hash128(buffer) }

// HashedRow is a row with the hash of its key.
type HashedRow struct {
	Hash Hash
	Row  uint32
}

// Groups finds the rows that share a hash. Memory is bounded: beyond a fixed
// number of rows it spills to files in the temporary directory, which Close removes.
type Groups struct {
	partitions [groupPartitions][]HashedRow
	files      [groupPartitions]*os.File
	held       int
	limit      int
}

// NewGroups returns an empty Groups.
func NewGroups() *Groups { return &Groups{limit: groupsInMemory} }

// Add records a row under its hash.
func (g *Groups) Add(h Hash, row uint32) error {
	p := h.Hi >> 58
	g.partitions[p] = append(g.partitions[p], HashedRow{h, row})
	if g.held++; g.held < g.limit {
		return nil
	}
	return g.spill()
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
	for p := range g.partitions {
		if len(g.partitions[p]) == 0 {
			continue
		}
		if g.files[p] == nil {
			f, err := os.CreateTemp("", "proudsieve-groups-*")
			if err != nil {
				return err
			}
			g.files[p] = f
		}
		buffer := make([]byte, 0, len(g.partitions[p])*entryBytes)
		for _, e := range g.partitions[p] {
			buffer = binary.LittleEndian.AppendUint64(buffer, e.Hash.Hi)
			buffer = binary.LittleEndian.AppendUint64(buffer, e.Hash.Lo)
			buffer = binary.LittleEndian.AppendUint32(buffer, e.Row)
		}
		if _, err := g.files[p].Write(buffer); err != nil {
			return err
		}
		g.partitions[p] = g.partitions[p][:0]
	}
	g.held = 0
	return nil
}

// Repeated calls found for every group of two or more rows, in the order of their
// hashes, rows ascending. The slice is only good during the call.
func (g *Groups) Repeated(found func(h Hash, rows []uint32) error) error {
	var rows []uint32
	for p := range g.partitions {
		entries := g.partitions[p]
		if g.files[p] != nil {
			spilled, err := g.load(p)
			if err != nil {
				return err
			}
			entries = append(spilled, entries...)
		}
		slices.SortFunc(entries, func(a, b HashedRow) int {
			return cmp.Or(cmp.Compare(a.Hash.Hi, b.Hash.Hi), cmp.Compare(a.Hash.Lo, b.Hash.Lo), cmp.Compare(a.Row, b.Row))
		})
		for i := 0; i < len(entries); {
			end := i + 1
			for end < len(entries) && entries[end].Hash == entries[i].Hash {
				end++
			}
			if end-i > 1 {
				rows = rows[:0]
				for _, e := range entries[i:end] {
					rows = append(rows, e.Row)
				}
				if err := found(entries[i].Hash, rows); err != nil {
					return err
				}
			}
			i = end
		}
	}
	return nil
}

func (g *Groups) load(p int) ([]HashedRow, error) {
	f := g.files[p]
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	var entries []HashedRow
	in := bufio.NewReaderSize(f, 1<<16)
	var raw [entryBytes]byte
	for {
		if _, err := io.ReadFull(in, raw[:]); err != nil {
			if errors.Is(err, io.EOF) {
				return entries, nil
			}
			return nil, err
		}
		entries = append(entries, HashedRow{
			Hash{Hi: binary.LittleEndian.Uint64(raw[:]), Lo: binary.LittleEndian.Uint64(raw[8:])},
			binary.LittleEndian.Uint32(raw[16:]),
		})
	}
}

// Close removes the spilled files.
func (g *Groups) Close() {
	for p, f := range g.files {
		if f != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
			g.files[p] = nil
		}
	}
}

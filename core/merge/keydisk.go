package merge

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"proudsieve/core/budget"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// diskIndex is a keyIndex in a temporary file, for tables whose keys are too many for memory: the rows of each part one after the
// other, in the order of their hashes. Of every so many the first hash is held, so that a key is found by one reading.
type diskIndex struct {
	file  *os.File
	parts []diskPart
}

// diskPart are the rows of one part, by their numbers in the file.
type diskPart struct {
	first, rows int64
	pages       []table.Hash // the first hash of every pageRows rows
}

const (
	keyBytes = 20
	pageRows = 256
	// heldKeyBytes is what a row takes in memory.
	heldKeyBytes = 24
)

func appendKey(to []byte, row table.HashedRow) []byte {
	to = binary.LittleEndian.AppendUint64(to, row.Hash.Hi)
	to = binary.LittleEndian.AppendUint64(to, row.Hash.Lo)
	return binary.LittleEndian.AppendUint32(to, row.Row)
}

func keyAt(raw []byte) table.HashedRow {
	return table.HashedRow{Hash: table.Hash{Hi: binary.LittleEndian.Uint64(raw), Lo: binary.LittleEndian.Uint64(raw[8:])}, Row: binary.LittleEndian.Uint32(raw[16:])}
}

func compareHashes(a, b table.Hash) int {
	return compareKeys(table.HashedRow{Hash: a}, table.HashedRow{Hash: b})
}

// spilledKeys are rows on their way to a diskIndex, a file for each part, in no order.
type spilledKeys struct {
	files [1 << table.PartitionBits]*os.File
	rows  [1 << table.PartitionBits]int64
}

// spill writes the rows that were taken to files, and reports whether there were any.
func (x *keyIndex) spill() (bool, error) {
	if x.taken == 0 {
		return false, nil
	}
	if x.spilled == nil {
		x.spilled = &spilledKeys{}
	}
	for i := range x.spilled.files {
		rows := x.gathered.Release(i)
		if len(rows) == 0 {
			continue
		}
		if x.spilled.files[i] == nil {
			f, err := scratch.File("keys")
			if err != nil {
				return false, fmt.Errorf("holding the keys of the joined table: %w", err)
			}
			x.spilled.files[i] = f
		}
		raw := make([]byte, 0, len(rows)*keyBytes)
		for _, row := range rows {
			raw = appendKey(raw, row)
		}
		if _, err := x.spilled.files[i].Write(raw); err != nil {
			return false, fmt.Errorf("holding the keys of the joined table: %w", err)
		}
		x.spilled.rows[i] += int64(len(rows))
	}
	x.taken = 0
	return true, nil
}

// close removes the files.
func (x *keyIndex) close() {
	if x.spilled != nil {
		for _, f := range x.spilled.files {
			if f != nil {
				_ = f.Close()
			}
		}
	}
	if x.disk != nil {
		_ = x.disk.file.Close()
	}
}

// sortSpilled puts the rows that were spilled, and the others, in order part by part; only one is in memory.
func (x *keyIndex) sortSpilled(share *budget.Share) error {
	d := &diskIndex{}
	w, err := d.begin()
	if err != nil {
		return err
	}
	x.disk = d
	for i, f := range x.spilled.files {
		rows := x.gathered.Release(i)
		size := (x.spilled.rows[i] + int64(len(rows))) * heldKeyBytes
		if !share.Grow(size) {
			return fmt.Errorf("%w: a part of the keys of the joined table, %d bytes, does not fit in memory; give the service more", budget.ErrTooMuch, size)
		}
		if f != nil {
			if _, err := f.Seek(0, io.SeekStart); err != nil {
				return err
			}
			raw, err := io.ReadAll(bufio.NewReaderSize(f, 1<<20))
			if err != nil {
				return fmt.Errorf("holding the keys of the joined table: %w", err)
			}
			for at := 0; at < len(raw); at += keyBytes {
				rows = append(rows, keyAt(raw[at:]))
			}
			_ = f.Close()
			x.spilled.files[i] = nil
		}
		slices.SortFunc(rows, compareKeys)
		for _, row := range rows {
			if err := w.add(i, row); err != nil {
				return err
			}
		}
		share.Shrink(size)
		x.rows += len(rows)
	}
	return w.end()
}

// diskWriter writes a diskIndex.
type diskWriter struct {
	index *diskIndex
	out   *bufio.Writer
	n     int64
	raw   []byte
}

func (d *diskIndex) begin() (*diskWriter, error) {
	f, err := scratch.File("keys")
	if err != nil {
		return nil, fmt.Errorf("holding the keys of the joined table: %w", err)
	}
	d.file, d.parts = f, make([]diskPart, 1<<table.PartitionBits)
	return &diskWriter{index: d, out: bufio.NewWriterSize(f, 1<<20)}, nil
}

// add writes a row of a part; rows come in order.
func (w *diskWriter) add(part int, row table.HashedRow) error {
	p := &w.index.parts[part]
	if p.rows == 0 {
		p.first = w.n
	}
	if p.rows%pageRows == 0 {
		p.pages = append(p.pages, row.Hash)
	}
	p.rows++
	w.n++
	w.raw = appendKey(w.raw[:0], row)
	if _, err := w.out.Write(w.raw); err != nil {
		return fmt.Errorf("holding the keys of the joined table: %w", err)
	}
	return nil
}

func (w *diskWriter) end() error {
	if err := w.out.Flush(); err != nil {
		return fmt.Errorf("holding the keys of the joined table: %w", err)
	}
	return nil
}

// find returns the rows with a hash, ascending.
func (d *diskIndex) find(h table.Hash) ([]table.HashedRow, error) {
	p := &d.parts[h.Hi>>(64-table.PartitionBits)]
	// Rows with one hash may begin in the page before the first that begins with it.
	page, _ := slices.BinarySearchFunc(p.pages, h, compareHashes)
	var found []table.HashedRow
	var raw [pageRows * keyBytes]byte
	for page = max(page-1, 0); page < len(p.pages); page++ {
		from := int64(page) * pageRows
		n := min(p.rows-from, pageRows)
		if _, err := d.file.ReadAt(raw[:n*keyBytes], (p.first+from)*keyBytes); err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("reading the keys of the joined table: %w", err)
		}
		for at := range n {
			row := keyAt(raw[at*keyBytes:])
			switch order := compareHashes(row.Hash, h); {
			case order == 0:
				found = append(found, row)
			case order > 0:
				return found, nil
			}
		}
	}
	return found, nil
}

// groups visits the rows of each key, in the order of their hashes; what visit is given is good during the call.
func (d *diskIndex) groups(visit func(part int, rows []table.HashedRow) (bool, error)) error {
	var raw [keyBytes]byte
	for i := range d.parts {
		p := &d.parts[i]
		in := bufio.NewReaderSize(io.NewSectionReader(d.file, p.first*keyBytes, p.rows*keyBytes), 1<<18)
		var group []table.HashedRow
		for n := int64(0); n <= p.rows; n++ {
			var row table.HashedRow
			if n < p.rows {
				if _, err := io.ReadFull(in, raw[:]); err != nil {
					return fmt.Errorf("reading the keys of the joined table: %w", err)
				}
				row = keyAt(raw[:])
			}
			if len(group) > 0 && (n == p.rows || row.Hash != group[0].Hash) {
				if more, err := visit(i, group); err != nil || !more {
					return err
				}
				group = group[:0]
			}
			group = append(group, row)
		}
	}
	return nil
}

// reduce leaves one row of each key.
func (d *diskIndex) reduce(choose func([]table.HashedRow) table.HashedRow) (*diskIndex, error) {
	out := &diskIndex{}
	w, err := out.begin()
	if err != nil {
		return nil, err
	}
	err = d.groups(func(part int, rows []table.HashedRow) (bool, error) { return true, w.add(part, choose(rows)) })
	if err := errors.Join(err, w.end(), d.file.Close()); err != nil {
		return nil, errors.Join(err, out.file.Close())
	}
	return out, nil
}

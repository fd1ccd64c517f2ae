package merge

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"os"
	"runtime"
	"slices"
	"strings"

	"proudsieve/core/budget"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// storeChunk is how many bytes of rows that come one by one are held together.
const storeChunk = 1 << 20

// rowStore keeps the cells of rows one after the other: in memory for as long as there is some, and in a temporary file from then
// on. Rows are numbered from 0. Once all are added several goroutines may read it.
type rowStore struct {
	share   *budget.Share
	chunks  []storedRows
	rows    uint32
	held    int64      // bytes in memory
	open    storedRows // rows that come one by one
	near    []uint32   // of every nearRows rows the chunk that the first is in, once all were added
	file    *os.File   // nil where all is in memory
	written int64      // of what is in the file
}

// storedRows are consecutive rows: each cell as its length and its text.
type storedRows struct {
	first  uint32   // its number
	rows   uint32   // how many they are
	begins []uint32 // of each row among the bytes, and the end of the last one; nil where both are in the file
	bytes  []byte
	at     int64 // of the begins in the file, which the bytes follow
}

// size is what they take in memory.
func (r *storedRows) size() int64 { return int64(len(r.bytes)) + 4*int64(len(r.begins)) }

// encodeRows makes stored rows of some columns of a batch.
func encodeRows(b *table.Batch, columns []int) storedRows {
	size := 0
	for _, c := range columns {
		column := &b.Columns[c]
		for _, code := range column.Codes {
			size += len(column.Texts[code]) + 1
		}
	}
	out := storedRows{begins: make([]uint32, 0, b.Len()+1), bytes: make([]byte, 0, size+size/64)}
	for i := range b.Rows {
		out.begins = append(out.begins, uint32(len(out.bytes)))
		for _, c := range columns {
			text := b.Columns[c].At(i)
			out.bytes = append(binary.AppendUvarint(out.bytes, uint64(len(text))), text...)
		}
	}
	out.begins = append(out.begins, uint32(len(out.bytes)))
	return out
}

// add appends a row.
func (s *rowStore) add(cells []string) error {
	s.open.begins = append(s.open.begins, uint32(len(s.open.bytes)))
	for _, text := range cells {
		s.open.bytes = append(binary.AppendUvarint(s.open.bytes, uint64(len(text))), text...)
	}
	if len(s.open.bytes) < storeChunk {
		return nil
	}
	return s.flush()
}

// end must be called once all rows are added.
func (s *rowStore) end() error {
	if err := s.flush(); err != nil {
		return err
	}
	at := uint32(0)
	for row := uint32(0); row < s.rows; row += nearRows {
		for row-s.chunks[at].first >= s.chunks[at].rows {
			at++
		}
		s.near = append(s.near, at)
	}
	return nil
}

// flush takes the rows that came one by one.
func (s *rowStore) flush() error {
	if len(s.open.begins) == 0 {
		return nil
	}
	some := s.open
	some.begins = append(some.begins, uint32(len(some.bytes)))
	s.open = storedRows{}
	return s.take(some)
}

// take appends rows, where there is room for them.
func (s *rowStore) take(some storedRows) error {
	some.first, some.rows = s.rows, uint32(len(some.begins)-1)
	s.rows += some.rows
	if size := some.size(); s.file == nil && s.share.Grow(size) {
		s.held += size
	} else if err := s.write(&some); err != nil {
		return err
	}
	s.chunks = append(s.chunks, some)
	return nil
}

// write puts the bytes of rows into the file.
func (s *rowStore) write(some *storedRows) error {
	if s.file == nil {
		f, err := scratch.File("joined")
		if err != nil {
			return fmt.Errorf("holding the joined table: %w", err)
		}
		s.file = f
	}
	raw := make([]byte, 0, some.size())
	for _, begin := range some.begins {
		raw = binary.LittleEndian.AppendUint32(raw, begin)
	}
	raw = append(raw, some.bytes...)
	if _, err := s.file.WriteAt(raw, s.written); err != nil {
		return fmt.Errorf("holding the joined table: %w", err)
	}
	some.at = s.written
	s.written += int64(len(raw))
	some.begins, some.bytes = nil, nil
	return nil
}

// spill gives the memory back that the rows take, and reports whether there was any.
func (s *rowStore) spill() (bool, error) {
	for i := range s.chunks {
		if s.chunks[i].begins == nil {
			continue
		}
		if err := s.write(&s.chunks[i]); err != nil {
			return false, err
		}
	}
	freed := s.held
	s.share.Shrink(freed)
	s.held = 0
	return freed > 0, nil
}

// stretch is where the bytes of a row are.
type stretch struct {
	of       *storedRows
	from, to uint32
}

// nearRows is for how many rows it is known where they begin to be looked for.
const nearRows = 1 << 10

// find returns where a row is.
func (s *rowStore) find(row uint32) (stretch, error) {
	at := s.near[row/nearRows]
	of := &s.chunks[at]
	for row-of.first >= of.rows {
		at++
		of = &s.chunks[at]
	}
	if of.begins != nil {
		return stretch{of, of.begins[row-of.first], of.begins[row-of.first+1]}, nil
	}
	var raw [8]byte
	if err := s.read(raw[:], of.at+4*int64(row-of.first)); err != nil {
		return stretch{}, err
	}
	return stretch{of, binary.LittleEndian.Uint32(raw[:]), binary.LittleEndian.Uint32(raw[4:])}, nil
}

// read reads bytes of the file.
func (s *rowStore) read(into []byte, at int64) error {
	if n, err := s.file.ReadAt(into, at); err != nil && (!errors.Is(err, io.EOF) || n < len(into)) {
		return fmt.Errorf("reading the joined table: %w", err)
	}
	return nil
}

// texts returns the cells of some rows, of which each has so many, by their place and then by row.
func (s *rowStore) texts(rows []uint32, cells int) ([][]string, error) {
	out := make([][]string, cells)
	for k := range out {
		out[k] = make([]string, len(rows))
	}
	// Where rows are is found first, for all of them, and then a byte of each is asked for, so that no row waits for the one before.
	places := make([]stretch, len(rows))
	size, touched := 0, byte(0)
	for i, row := range rows {
		var err error
		if places[i], err = s.find(row); err != nil {
			return nil, err
		}
		size += int(places[i].to - places[i].from)
	}
	for _, p := range places {
		if p.of.begins != nil && p.to > p.from {
			touched ^= p.of.bytes[p.from]
		}
	}
	runtime.KeepAlive(touched) // so that the loads for it are not thought needless
	var all strings.Builder    // one text that all of them are parts of
	all.Grow(size)
	var read []byte
	for _, p := range places {
		if p.of.begins != nil {
			all.Write(p.of.bytes[p.from:p.to])
			continue
		}
		read = slices.Grow(read[:0], int(p.to-p.from))[:p.to-p.from]
		if err := s.read(read, p.of.at+4*int64(p.of.rows+1)+int64(p.from)); err != nil {
			return nil, err
		}
		all.Write(read)
	}
	text, at := all.String(), 0
	for i := range rows {
		end := at + int(places[i].to-places[i].from)
		for k := range cells {
			length, size := uvarint(text[at:end])
			if size <= 0 || end-at-size < length {
				return nil, fmt.Errorf("reading the joined table: a row is cut off")
			}
			out[k][i] = text[at+size : at+size+length]
			at += size + length
		}
	}
	return out, nil
}

// uvarint is binary.Uvarint of a text; most lengths are one byte.
func uvarint(text string) (n, size int) {
	if len(text) > 0 && text[0] < 0x80 {
		return int(text[0]), 1
	}
	wide, size := binary.Uvarint([]byte(text[:min(len(text), binary.MaxVarintLen64)]))
	if wide > 1<<40 {
		return 0, 0
	}
	return int(wide), size
}

// row returns the cells of a row, of which it has so many.
func (s *rowStore) row(row uint32, cells int) ([]string, error) {
	texts, err := s.texts([]uint32{row}, cells)
	if err != nil {
		return nil, err
	}
	out := make([]string, cells)
	for k := range texts {
		out[k] = texts[k][0]
	}
	return out, nil
}

func (s *rowStore) close() {
	if s.file != nil {
		_ = s.file.Close()
	}
}

// rowBits are rows of a joined table, a bit for each from 0.
type rowBits []uint64

func (b rowBits) set(rows []uint32) {
	for _, row := range rows {
		b[row/64] |= 1 << (row % 64)
	}
}

func (b rowBits) has(row uint32) bool { return b[row/64]>>(row%64)&1 == 1 }

func (b rowBits) count() (n int64) {
	for _, word := range b {
		n += int64(bits.OnesCount64(word))
	}
	return n
}

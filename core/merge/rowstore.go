package merge

import (
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"slices"

	"proudsieve/core/budget"
	"proudsieve/core/scratch"
)

// storeChunk is how many bytes of rows are held, or written, together.
const storeChunk = 1 << 20

// rowStore keeps the cells of rows one after the other: in memory for as long as there is
// some, and in a temporary file from then on. Rows are numbered from 0.
type rowStore struct {
	share  *budget.Share
	chunks [][]byte // of the beginning
	begins []int64  // of the chunks
	held   int64    // bytes in the chunks
	all    int64    // bytes in the chunks and the file
	open   []byte   // the chunk that is filled
	file   *os.File // what comes after the chunks, at its own place; nil where there is nothing
	starts []int64  // of each row
}

// add appends a row.
func (s *rowStore) add(cells []string) error {
	s.starts = append(s.starts, s.all+int64(len(s.open)))
	for _, text := range cells {
		s.open = binary.AppendUvarint(s.open, uint64(len(text)))
		s.open = append(s.open, text...)
	}
	if len(s.open) < storeChunk {
		return nil
	}
	return s.flush()
}

// flush puts the open chunk where there is room for it.
func (s *rowStore) flush() error {
	size := int64(len(s.open))
	if s.file == nil && s.share.Grow(size) {
		s.chunks, s.begins = append(s.chunks, s.open), append(s.begins, s.all)
		s.held += size
		s.all += size
		s.open = make([]byte, 0, storeChunk+storeChunk/8)
		return nil
	}
	if err := s.write(s.open, s.all); err != nil {
		return err
	}
	s.all += size
	s.open = s.open[:0]
	return nil
}

func (s *rowStore) write(chunk []byte, at int64) error {
	if s.file == nil {
		f, err := scratch.File("joined")
		if err != nil {
			return fmt.Errorf("holding the joined table: %w", err)
		}
		s.file = f
	}
	if _, err := s.file.WriteAt(chunk, at); err != nil {
		return fmt.Errorf("holding the joined table: %w", err)
	}
	return nil
}

// spill gives the memory back that the rows take, and reports whether there was any.
func (s *rowStore) spill() (bool, error) {
	for i, chunk := range s.chunks {
		if err := s.write(chunk, s.begins[i]); err != nil {
			return false, err
		}
	}
	freed := s.held
	s.share.Shrink(freed)
	s.chunks, s.begins, s.held = nil, nil, 0
	return freed > 0, nil
}

// end must be called once all rows are added.
func (s *rowStore) end() error {
	if len(s.open) == 0 {
		return nil
	}
	return s.flush()
}

// raw appends the bytes of a row. Several goroutines may ask.
func (s *rowStore) raw(row uint32, to []byte) ([]byte, error) {
	at, end := s.starts[row], s.all
	if int(row)+1 < len(s.starts) {
		end = s.starts[row+1]
	}
	if at < s.held {
		chunk := min(int(at/storeChunk), len(s.begins)-1) // chunks are a little longer than that
		for s.begins[chunk] > at {
			chunk--
		}
		return append(to, s.chunks[chunk][at-s.begins[chunk]:end-s.begins[chunk]]...), nil
	}
	from := len(to)
	to = slices.Grow(to, int(end-at))[:from+int(end-at)]
	if n, err := s.file.ReadAt(to[from:], at); err != nil && (err != io.EOF || n < len(to)-from) {
		return nil, fmt.Errorf("reading the joined table: %w", err)
	}
	return to, nil
}

// texts returns the cells of some rows, of which each has so many, by their place and then by row.
func (s *rowStore) texts(rows []uint32, cells int) ([][]string, error) {
	out := make([][]string, cells)
	for k := range out {
		out[k] = make([]string, len(rows))
	}
	raw := make([]byte, 0, len(rows)*8*cells)
	ends := make([]int, len(rows))
	for i, row := range rows {
		var err error
		if raw, err = s.raw(row, raw); err != nil {
			return nil, err
		}
		ends[i] = len(raw)
	}
	all, at := string(raw), 0 // one text that all of them are parts of
	for i := range rows {
		for k := range cells {
			n, size := binary.Uvarint(raw[at:ends[i]])
			if size <= 0 || uint64(ends[i]-at-size) < n {
				return nil, fmt.Errorf("reading the joined table: a row is cut off")
			}
			out[k][i] = all[at+size : at+size+int(n)]
			at += size + int(n)
		}
	}
	return out, nil
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

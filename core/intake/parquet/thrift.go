package parquet

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
)

// What a Parquet file says of itself (Apache Thrift, compact protocol) is walked here before
// the library takes it apart: the library goes down as deep as the file says, and a stack that
// overflows ends the process. Nothing is kept of it.

const (
	thriftDepth  = 24       // structures and lists within one another
	schemaDepth  = 64       // groups of columns within one another
	footerLimit  = 64 << 20 // bytes of what describes a file
	headerLimit  = 16 << 20 // bytes of what describes a page
	schemaFields = 4 * content.ColumnLimit
)

// The types of the compact protocol.
const (
	thriftStop   = 0
	thriftTrue   = 1
	thriftFalse  = 2
	thriftByte   = 3
	thriftI16    = 4
	thriftI32    = 5
	thriftI64    = 6
	thriftDouble = 7
	thriftBinary = 8
	thriftList   = 9
	thriftSet    = 10
	thriftMap    = 11
	thriftStruct = 12
)

var errThrift = errors.New("what describes it is not as its format says")

// thriftWalk walks one structure. number is told every whole number, by the path of field ids
// that leads to it, in which 0 stands for the items of a list.
type thriftWalk struct {
	in     io.ByteReader
	read   int64 // bytes
	most   int64
	path   []int16
	number func(path []int16, n int64) error
	item   func(path []int16) error // nil, or told that an item of a list begins
}

func (w *thriftWalk) byte() (byte, error) {
	if w.read++; w.read > w.most {
		return 0, fmt.Errorf("%w: it is longer than %d bytes", errThrift, w.most)
	}
	b, err := w.in.ReadByte()
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return b, err
}

func (w *thriftWalk) varint() (uint64, error) {
	var n uint64
	for shift := 0; shift < 70; shift += 7 {
		b, err := w.byte()
		if err != nil {
			return 0, err
		}
		if n |= uint64(b&127) << shift; b < 128 {
			return n, nil
		}
	}
	return 0, errThrift
}

func zigzag(n uint64) int64 { return int64(n>>1) ^ -int64(n&1) }

// structure walks the fields of a structure up to its end.
func (w *thriftWalk) structure() error {
	if len(w.path) >= thriftDepth {
		return fmt.Errorf("%w: it stands too deep in itself", errThrift)
	}
	id := int16(0)
	for {
		head, err := w.byte()
		if err != nil {
			return err
		}
		kind := head & 15
		if kind == thriftStop {
			return nil
		}
		if delta := int16(head >> 4); delta > 0 {
			id += delta
		} else {
			n, err := w.varint()
			if err != nil {
				return err
			}
			id = int16(zigzag(n))
		}
		w.path = append(w.path, id)
		if kind != thriftTrue && kind != thriftFalse { // these are their own values
			err = w.value(kind)
		}
		w.path = w.path[:len(w.path)-1]
		if err != nil {
			return err
		}
	}
}

func (w *thriftWalk) value(kind byte) error {
	switch kind {
	case thriftTrue, thriftFalse, thriftByte:
		_, err := w.byte()
		return err
	case thriftI16, thriftI32, thriftI64:
		n, err := w.varint()
		if err != nil || w.number == nil {
			return err
		}
		return w.number(w.path, zigzag(n))
	case thriftDouble:
		return w.skip(8)
	case thriftBinary:
		n, err := w.varint()
		if err != nil {
			return err
		}
		return w.skip(n)
	case thriftList, thriftSet:
		head, err := w.byte()
		if err != nil {
			return err
		}
		n := uint64(head >> 4)
		if n == 15 {
			if n, err = w.varint(); err != nil {
				return err
			}
		}
		return w.items(n, head&15)
	case thriftMap:
		n, err := w.varint()
		if err != nil || n == 0 {
			return err
		}
		kinds, err := w.byte()
		if err != nil {
			return err
		}
		return w.items(n, kinds>>4, kinds&15)
	case thriftStruct:
		return w.structure()
	}
	return errThrift
}

// items walks the items of a list, or of a map, each of which has these kinds.
func (w *thriftWalk) items(n uint64, kinds ...byte) error {
	if len(w.path) >= thriftDepth {
		return fmt.Errorf("%w: it stands too deep in itself", errThrift)
	}
	w.path = append(w.path, 0)
	defer func() { w.path = w.path[:len(w.path)-1] }()
	for ; n > 0; n-- {
		if w.item != nil {
			if err := w.item(w.path); err != nil {
				return err
			}
		}
		for _, kind := range kinds {
			if err := w.value(kind); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *thriftWalk) skip(n uint64) error {
	if n > uint64(w.most) {
		return errThrift
	}
	for ; n > 0; n-- {
		if _, err := w.byte(); err != nil {
			return err
		}
	}
	return nil
}

// soundFooter says what keeps the description of a Parquet file from being taken apart.
func soundFooter(at io.ReaderAt, size int64) error {
	tail := make([]byte, 8)
	if _, err := at.ReadAt(tail, max(size-8, 0)); err != nil || string(tail[4:]) != "PAR1" {
		return errors.New("its end does not describe it")
	}
	length := int64(binary.LittleEndian.Uint32(tail))
	if length+12 > size {
		return errors.New("its end does not describe it")
	}
	if length > footerLimit {
		return fmt.Errorf("what describes it takes %d bytes, of %d at the most", length, footerLimit)
	}
	depth := schemaWalk{}
	w := &thriftWalk{in: bufio.NewReaderSize(io.NewSectionReader(at, size-8-length, length), 64<<10), most: length,
		number: depth.number, item: depth.item}
	if err := w.structure(); err != nil {
		return err
	}
	return depth.end()
}

// schemaWalk keeps account of how deep the groups of a schema stand in one another. The schema
// (field 2) is a list in which each element is followed by its children, whose number it says
// (field 5).
type schemaWalk struct {
	elements int
	children int64   // of the element that is being walked
	left     []int64 // of each open group, how many children are still to come
}

// item is told that an item of a list begins.
func (s *schemaWalk) item(path []int16) error {
	if len(path) != 2 || path[0] != 2 {
		return nil
	}
	if err := s.end(); err != nil {
		return err
	}
	if s.elements++; s.elements > schemaFields {
		return delimited.ErrTooMany
	}
	return nil
}

func (s *schemaWalk) number(path []int16, n int64) error {
	if len(path) == 3 && path[0] == 2 && path[2] == 5 {
		s.children = n
	}
	return nil
}

// end takes the element in that was walked last.
func (s *schemaWalk) end() error {
	if s.elements == 0 {
		return nil
	}
	for len(s.left) > 0 && s.left[len(s.left)-1] == 0 {
		s.left = s.left[:len(s.left)-1]
	}
	if len(s.left) > 0 {
		s.left[len(s.left)-1]--
	}
	if s.children > 0 {
		if s.left = append(s.left, s.children); len(s.left) > schemaDepth {
			return fmt.Errorf("%w: its columns stand too deep in groups", errThrift)
		}
	}
	s.children = 0
	return nil
}

// soundPages says what keeps the pages of a Parquet file from being read.
func soundPages(at io.ReaderAt, file *parquet.File) error {
	for _, group := range file.Metadata().RowGroups {
		for _, column := range group.Columns {
			start := column.MetaData.DataPageOffset
			if first := column.MetaData.DictionaryPageOffset; first > 0 && first < start {
				start = first
			}
			if err := soundChunk(at, start, column.MetaData.TotalCompressedSize); err != nil {
				return err
			}
		}
	}
	return nil
}

// soundChunk walks the headers of the pages of a column chunk.
func soundChunk(at io.ReaderAt, start, length int64) error {
	if start < 0 || length < 0 {
		return errThrift
	}
	for end := start + length; start < end; {
		packed := int64(-1)
		w := &thriftWalk{in: bufio.NewReaderSize(io.NewSectionReader(at, start, end-start), 512), most: headerLimit,
			number: func(path []int16, n int64) error {
				if len(path) == 1 && path[0] == 3 {
					packed = n
				}
				return nil
			}}
		if err := w.structure(); err != nil {
			return err
		}
		if packed < 0 {
			return errThrift
		}
		start += w.read + packed
	}
	return nil
}

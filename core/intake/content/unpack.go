package content

import (
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"proudsieve/core/scratch"
)

// Packing is how the bytes of a file are packed.
type Packing string

// The packings.
const (
	Unpacked  Packing = ""
	Gzip      Packing = "gzip"
	Zstandard Packing = "zstd"
	Zip       Packing = "zip"
)

const (
	packedAlways = 16 << 20 // bytes that may be unpacked whatever their ratio
)

// Unpacking bounds what a packed file may hold, so that a few bytes cannot fill a disk or a day.
type Unpacking struct {
	Ratio int64 // unpacked bytes for each packed one
	Bytes int64 // in all
}

// UsualUnpacking is what is allowed where nobody says otherwise: tables are seldom packed to
// less than a hundredth.
var UsualUnpacking = Unpacking{Ratio: 200, Bytes: 200 << 30}

var unpacking atomic.Pointer[Unpacking]

// SetUnpacking sets what packed files may hold, for the process.
func SetUnpacking(u Unpacking) { unpacking.Store(&u) }

func allowed() Unpacking {
	if u := unpacking.Load(); u != nil {
		return *u
	}
	return UsualUnpacking
}

// TooLargeError says that a packed file holds more than it may.
type TooLargeError struct{ Allowed Unpacking }

// Error implements error.
func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the file unpacks to more than is allowed, %d times its own size or %d bytes, as files made to do harm do; where you trust it, unpack it yourself, or raise what is allowed (--unpack-ratio, --unpack-limit)", e.Allowed.Ratio, e.Allowed.Bytes)
}

// Unwrap makes errors.Is(err, ErrTooLarge) hold.
func (e *TooLargeError) Unwrap() error { return ErrTooLarge }

// Errors that can be told apart with errors.Is.
var (
	ErrTooLarge = errors.New("the file is larger than it may be")
	ErrEntry    = errors.New("the archive has several files")
)

// EntryError says which entries an archive has, when one has to be chosen.
type EntryError struct {
	Wanted  string
	Entries []string
}

// Error implements error.
func (e *EntryError) Error() string {
	list := strings.Join(e.Entries[:min(len(e.Entries), 20)], ", ")
	switch {
	case len(e.Entries) == 0:
		return "the archive has no file in it"
	case e.Wanted != "":
		return fmt.Sprintf("the archive has no file %q; it has %s", e.Wanted, list)
	}
	return fmt.Sprintf("the archive has %d files; name one with entry in the reading, or --entry: %s", len(e.Entries),
		list)
}

// Unwrap makes errors.Is(err, ErrEntry) hold.
func (e *EntryError) Unwrap() error { return ErrEntry }

// OpenZip opens an archive; done closes it.
func OpenZip(ctx context.Context, open Opening) (z *zip.Reader, done func(), err error) {
	at, size, done, err := RandomAccess(ctx, open)
	if err != nil {
		return nil, nil, err
	}
	z, err = zip.NewReader(at, size)
	if err == nil {
		z.RegisterDecompressor(zip.Deflate, flate.NewReader)
	}
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("the archive is damaged: %w; ask its provider to send it again", err)
	}
	return z, done, nil
}

// RandomAccess opens the bytes for reading at any place: where they are, or in a temporary
// file that done removes.
func RandomAccess(ctx context.Context, open Opening) (at io.ReaderAt, size int64, done func(), err error) {
	in, err := open(ctx, 0)
	if err != nil {
		return nil, 0, nil, err
	}
	if f, ok := in.(placed); ok {
		if size, err := f.Seek(0, io.SeekEnd); err == nil {
			return f, size, func() { _ = in.Close() }, nil
		}
	}
	defer in.Close()
	copied, err := scratch.File("unpacked")
	if err != nil {
		return nil, 0, nil, err
	}
	size, err = io.Copy(copied, in)
	if err != nil {
		return nil, 0, nil, errors.Join(err, copied.Close())
	}
	return copied, size, func() { _ = copied.Close() }, nil
}

func unpack(ctx context.Context, open Opening, packing Packing, entry string) (io.ReadCloser, error) {
	if packing == Zip {
		z, done, err := OpenZip(ctx, open)
		if err != nil {
			return nil, err
		}
		f, err := z.Open(entry)
		if err != nil {
			done()
			return nil, fmt.Errorf("the archive is damaged: %w", err)
		}
		packed := int64(0)
		for _, one := range z.File {
			if one.Name == entry {
				packed = int64(one.CompressedSize64)
			}
		}
		return Bounded(f, packed, func() { _ = f.Close(); done() }), nil
	}
	in, err := open(ctx, 0)
	if err != nil {
		return nil, err
	}
	counted := &counting{in: in}
	buffered := bufio.NewReaderSize(counted, 256<<10)
	u := &unpacked{read: func() int64 { return counted.n }}
	switch packing {
	case Gzip:
		g, err := gzip.NewReader(buffered)
		if err != nil {
			return nil, errors.Join(damaged(err), in.Close())
		}
		u.Reader, u.close = g, func() { _ = in.Close() }
	case Zstandard:
		z, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(512<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, errors.Join(damaged(err), in.Close())
		}
		u.Reader, u.close = z, func() { z.Close(); _ = in.Close() }
	}
	return u, nil
}

func damaged(err error) error {
	return fmt.Errorf("the packed file is damaged or cut off: %w; ask its provider to send it again", err)
}

type counting struct {
	in io.Reader
	n  int64
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}

// unpacked reads packed bytes, and stops where they become unreasonably many.
type unpacked struct {
	io.Reader
	read  func() int64 // packed bytes read so far
	n     int64
	close func()
}

// Read implements io.Reader.
func (u *unpacked) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	u.n += int64(n)
	if may := allowed(); u.n > may.Bytes || u.n > packedAlways && u.n/may.Ratio > u.read() {
		return n, &TooLargeError{may}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		err = damaged(err)
	}
	return n, err
}

// Bounded reads what so many packed bytes unpack to, unless it is unreasonably much.
func Bounded(in io.Reader, packed int64, closed func()) io.ReadCloser {
	return &unpacked{Reader: in, read: func() int64 { return packed }, close: closed}
}

// Close implements io.Closer.
func (u *unpacked) Close() error {
	u.close()
	return nil
}

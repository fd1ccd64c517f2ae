package content

import (
	"context"
	"io"
	"math"
	"os"
)

// Opener opens the bytes of a file from an offset on. What it opens should be an io.ReaderAt
// and an io.Seeker where it can be; of formats that are read at any place, the bytes are else
// copied into a temporary file first.
type Opener func(offset int64) (io.ReadCloser, error)

// AtPath opens a file of the file system.
func AtPath(path string) Opener {
	return func(offset int64) (io.ReadCloser, error) {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			_ = f.Close()
			return nil, err
		}
		return f, nil
	}
}

// Of opens a file that is open already, by as many readers as there are at once. It stays open.
func Of(f *os.File) Opener {
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(f, offset, math.MaxInt64-offset)), nil
	}
}

// Opening opens bytes whose reading ends with a context. All that is read here is opened
// through it, so that no loop over input outlives whoever wants it.
type Opening func(ctx context.Context, offset int64) (io.ReadCloser, error)

// ending makes what an Opener opens end with a context.
func ending(open Opener) Opening {
	return func(ctx context.Context, offset int64) (io.ReadCloser, error) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		in, err := open(offset)
		if err != nil {
			return nil, err
		}
		if f, ok := in.(placed); ok {
			return &interruptiblePlaces{interruptible{ctx, in}, f}, nil
		}
		return Ending(ctx, in), nil
	}
}

// Ending makes the reading of in end with a context.
func Ending(ctx context.Context, in io.ReadCloser) io.ReadCloser { return &interruptible{ctx, in} }

// placed is what can be read at any place.
type placed interface {
	io.ReaderAt
	io.Seeker
}

// interruptible ends with its context.
type interruptible struct {
	ctx context.Context
	in  io.ReadCloser
}

// Read implements io.Reader.
func (i *interruptible) Read(p []byte) (int, error) {
	if err := i.ctx.Err(); err != nil {
		return 0, err
	}
	return i.in.Read(p)
}

// Close implements io.Closer.
func (i *interruptible) Close() error { return i.in.Close() }

type interruptiblePlaces struct {
	interruptible
	at placed
}

// ReadAt implements io.ReaderAt.
func (i *interruptiblePlaces) ReadAt(p []byte, offset int64) (int, error) {
	if err := i.ctx.Err(); err != nil {
		return 0, err
	}
	return i.at.ReadAt(p, offset)
}

// Seek implements io.Seeker.
func (i *interruptiblePlaces) Seek(offset int64, whence int) (int64, error) {
	return i.at.Seek(offset, whence)
}

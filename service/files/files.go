// Package files keeps bytes under their SHA-256: deliveries, tables, change logs, row sets.
package files

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"os"
	"regexp"
)

// Errors that can be told apart with errors.Is.
var (
	ErrNotFound = errors.New("there are no bytes with this digest")
	ErrNothing  = errors.New("there is nothing to keep")
	// ErrAway says that the store cannot be reached or does not answer; it may the next time.
	ErrAway = errors.New("the file store does not answer")
)

// Store is where bytes are kept: a Directory, or a Bucket that nodes on several machines share.
type Store interface {
	// Create starts taking bytes in.
	Create() (*Writer, error)
	// Open returns the bytes under a digest; the caller closes them.
	Open(digest string) (File, error)
	// Remove removes the bytes under a digest.
	Remove(digest string) error
	// Each calls f for all bytes of the store, with their number.
	Each(ctx context.Context, f func(digest string, bytes int64) error) error
	// Pause keeps sweeps from removing anything until resume is called or the process ends.
	Pause() (resume func(), err error)
	// Sweep removes parts that nobody writes any more, and bytes that nobody speaks of: recorded says which of some digests have
	// a record.
	Sweep(ctx context.Context, recorded Recorded) (Swept, error)
	// Disk returns the room that this node has to write to.
	Disk() (Disk, error)
	// Close gives back what this node holds beside the store.
	Close() error
}

// AwaySays is what whoever asked for something is told where the store is away.
const AwaySays = "The file store does not answer; try again in a moment."

// Recorded says which of some digests have a record.
type Recorded func(ctx context.Context, digests []string) (map[string]bool, error)

// Swept is what a sweep removed.
type Swept struct {
	Files int
	Bytes int64
	Busy  int   // files that were left because something was kept, or a backup made, at that moment
	Kept  int64 // bytes that stay
}

// File is kept bytes, opened.
type File interface {
	io.Reader
	io.ReaderAt
	io.Seeker
	io.Closer
	Size() int64
}

var digestShape = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Writer takes bytes in, in a file of this machine. Nothing is kept unless Keep is called. The file is locked until
// Discard, so that a sweep on any node leaves it alone, also after Keep: whoever keeps bytes
// records them first and discards the writer then.
type Writer struct {
	file   *os.File
	digest hash.Hash
	bytes  int64
	kept   bool
	// place puts the file under its digest in the store that the writer is of.
	place func(ctx context.Context, file *os.File, digest string, bytes int64) error
}

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	n, err := w.file.Write(p)
	w.digest.Write(p[:n])
	w.bytes += int64(n)
	return n, err
}

// Keep puts the bytes under their digest, which it returns with their number. They are a
// sweep's to take as soon as the writer is discarded, unless a record speaks of them.
func (w *Writer) Keep(ctx context.Context) (digest string, bytes int64, err error) {
	digest = hex.EncodeToString(w.digest.Sum(nil))
	if err := w.place(ctx, w.file, digest, w.bytes); err != nil {
		return "", 0, err
	}
	w.kept = true
	return digest, w.bytes, nil
}

// Discard forgets the bytes, unless they were kept, and gives the file free.
func (w *Writer) Discard() {
	if !w.kept {
		_ = os.Remove(w.file.Name())
	}
	_ = w.file.Close()
}

// Kept is bytes that were taken in and are not recorded yet; it is closed when they are.
type Kept struct {
	Digest string
	Bytes  int64
	writer *Writer
}

// Close gives the bytes free: a sweep may take them if no record speaks of them.
func (k *Kept) Close() { k.writer.Discard() }

// Put takes in everything that in has. Nothing at all is ErrNothing.
func Put(ctx context.Context, s Store, in io.Reader) (*Kept, error) {
	buffered := bufio.NewReader(in)
	if _, err := buffered.Peek(1); errors.Is(err, io.EOF) {
		return nil, ErrNothing
	}
	return Copy(ctx, s, buffered)
}

// Copy takes in everything that in has, which may be nothing: a change log of a plan that changed nothing has no bytes.
func Copy(ctx context.Context, s Store, in io.Reader) (*Kept, error) {
	w, err := s.Create()
	if err != nil {
		return nil, err
	}
	k := &Kept{writer: w}
	if _, err = io.Copy(w, contextReader{ctx, in}); err == nil {
		k.Digest, k.Bytes, err = w.Keep(ctx)
	}
	if err != nil {
		w.Discard()
		return nil, err
	}
	return k, nil
}

type contextReader struct {
	ctx context.Context
	in  io.Reader
}

// Read implements io.Reader.
func (r contextReader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.in.Read(p)
}

// At opens the bytes under a digest from an offset on; it serves as an opener for reading.
func At(s Store, digest string) func(offset int64) (io.ReadCloser, error) {
	return func(offset int64) (io.ReadCloser, error) {
		f, err := s.Open(digest)
		if err != nil {
			return nil, err
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return f, nil
	}
}

// Package files keeps bytes under their SHA-256: deliveries, tables, change logs, row sets.
package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"syscall"

	"proudsieve/durable"
)

// Errors that can be told apart with errors.Is.
var (
	ErrNotFound = errors.New("there are no bytes with this digest")
	ErrNothing  = errors.New("there is nothing to keep")
)

// Directory is a store in a directory of the file system.
type Directory struct{ root string }

// OpenDirectory opens, and where needed makes, a store.
func OpenDirectory(root string) (*Directory, error) {
	d := &Directory{root}
	if err := durable.MakeDirectory(d.incoming(), 0o700); err != nil {
		return nil, err
	}
	return d, nil
}

func (d *Directory) incoming() string { return filepath.Join(d.root, "incoming") }

var digestShape = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (d *Directory) path(digest string) (string, error) {
	if !digestShape.MatchString(digest) {
		return "", fmt.Errorf("%w: %q", ErrNotFound, digest)
	}
	return filepath.Join(d.root, digest[:2], digest[2:4], digest), nil
}

// Writer takes bytes in. Nothing is kept unless Keep is called. The file is locked until
// Discard, so that a sweep on any node leaves it alone, also after Keep: whoever keeps bytes
// records them first and discards the writer then.
type Writer struct {
	directory *Directory
	file      *os.File
	digest    hash.Hash
	bytes     int64
	kept      bool
}

// Create starts taking bytes in.
func (d *Directory) Create() (*Writer, error) {
	for {
		f, err := os.CreateTemp(d.incoming(), "part-*")
		if err != nil {
			return nil, err
		}
		ours, err := taken(f)
		if ours {
			return &Writer{directory: d, file: f, digest: sha256.New()}, nil
		}
		if _ = f.Close(); err != nil {
			return nil, errors.Join(err, os.Remove(f.Name()))
		}
	}
}

// taken locks a new part. It is not ours where a sweep met it before it was locked: nobody seemed to write it, so it
// goes.
func taken(f *os.File) (ours bool, err error) {
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB)
		switch {
		case errors.Is(err, syscall.EINTR):
			continue
		case errors.Is(err, syscall.EWOULDBLOCK):
			return false, nil
		case err != nil:
			return false, err
		}
		break
	}
	mine, err := f.Stat()
	if err != nil {
		return false, err
	}
	named, err := os.Stat(f.Name())
	return err == nil && os.SameFile(mine, named), nil
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
func (w *Writer) Keep() (digest string, bytes int64, err error) {
	digest = hex.EncodeToString(w.digest.Sum(nil))
	path, err := w.directory.path(digest)
	if err != nil {
		return "", 0, err
	}
	if err := errors.Join(w.file.Sync(), w.file.Chmod(0o600)); err != nil {
		return "", 0, err
	}
	if err := durable.MakeDirectory(filepath.Dir(path), 0o700); err != nil {
		return "", 0, err
	}
	// No sweep may be between looking at what has this name and removing it.
	free, err := w.directory.lock(syscall.LOCK_SH)
	if err != nil {
		return "", 0, err
	}
	defer free()
	if err := durable.Rename(w.file.Name(), path); err != nil {
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
func (d *Directory) Put(ctx context.Context, in io.Reader) (*Kept, error) {
	w, err := d.Create()
	if err != nil {
		return nil, err
	}
	k := &Kept{writer: w}
	if _, err = io.Copy(w, contextReader{ctx, in}); err == nil && w.bytes == 0 {
		err = ErrNothing
	}
	if err == nil {
		k.Digest, k.Bytes, err = w.Keep()
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

// Open returns the bytes under a digest; the caller closes them.
func (d *Directory) Open(digest string) (*os.File, error) {
	path, err := d.path(digest)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, digest)
	}
	return f, err
}

// Remove removes the bytes under a digest.
func (d *Directory) Remove(digest string) error {
	path, err := d.path(digest)
	if err != nil {
		return err
	}
	return os.Remove(path)
}

// At opens the bytes under a digest from an offset on; it serves as an opener for reading.
func (d *Directory) At(digest string) func(offset int64) (io.ReadCloser, error) {
	return func(offset int64) (io.ReadCloser, error) {
		f, err := d.Open(digest)
		if err != nil {
			return nil, err
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return f, nil
	}
}

package files

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"proudsieve/durable"
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

func (d *Directory) path(digest string) (string, error) {
	if !digestShape.MatchString(digest) {
		return "", fmt.Errorf("%w: %q", ErrNotFound, digest)
	}
	return filepath.Join(d.root, digest[:2], digest[2:4], digest), nil
}

// Create implements Store.
func (d *Directory) Create() (*Writer, error) {
	for {
		f, err := os.CreateTemp(d.incoming(), "part-*")
		if err != nil {
			return nil, err
		}
		ours, err := taken(f)
		if ours {
			return &Writer{file: f, digest: sha256.New(), place: d.place}, nil
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

// place gives a part its name.
func (d *Directory) place(_ context.Context, file *os.File, digest string, _ int64) error {
	path, err := d.path(digest)
	if err != nil {
		return err
	}
	if err := errors.Join(file.Sync(), file.Chmod(0o600)); err != nil {
		return err
	}
	if err := durable.MakeDirectory(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	// No sweep may be between looking at what has this name and removing it.
	free, err := d.lock(syscall.LOCK_SH)
	if err != nil {
		return err
	}
	defer free()
	return durable.Rename(file.Name(), path)
}

// diskFile is a file of a file system, which does not change.
type diskFile struct {
	*os.File
	size int64
}

// Size implements File.
func (f diskFile) Size() int64 { return f.size }

func openDisk(path string) (File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return diskFile{f, info.Size()}, nil
}

// Open implements Store.
func (d *Directory) Open(digest string) (File, error) {
	path, err := d.path(digest)
	if err != nil {
		return nil, err
	}
	f, err := openDisk(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrNotFound, digest)
	}
	return f, err
}

// Close implements Store.
func (d *Directory) Close() error { return nil }

// Remove implements Store.
func (d *Directory) Remove(digest string) error {
	path, err := d.path(digest)
	if err != nil {
		return err
	}
	return os.Remove(path)
}

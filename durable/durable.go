// Package durable writes files that are there whole or not at all, whatever is cut off when.
// A file is written beside its place, synced, and renamed; then its directory is synced.
package durable

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// temporary is how the names of files begin that are being written.
const temporary = ".writing-"

// WriteFile puts data into a file, in place of what is there.
func WriteFile(path string, data []byte, mode os.FileMode) error {
	return write(path, data, mode, os.Rename)
}

// Create is WriteFile for a file that must not be there yet; else it returns os.ErrExist.
func Create(path string, data []byte, mode os.FileMode) error {
	return write(path, data, mode, os.Link)
}

// Write is WriteFile for what content writes.
func Write(path string, mode os.FileMode, content func(*os.File) error) error {
	return writeWith(path, mode, content, os.Rename)
}

func write(path string, data []byte, mode os.FileMode, place func(from, to string) error) error {
	return writeWith(path, mode, func(f *os.File) error {
		_, err := f.Write(data)
		return err
	}, place)
}

func writeWith(path string, mode os.FileMode, content func(*os.File) error, place func(from, to string) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), temporary+"*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // it is there under its own name by then, or of no use
	if err := content(f); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := errors.Join(f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := place(f.Name(), path); err != nil {
		return err
	}
	return SyncDirectory(filepath.Dir(path))
}

// Rename renames a file or directory whose contents are synced, and syncs where it went.
func Rename(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	return SyncDirectory(filepath.Dir(to))
}

// SyncDirectory makes sure that the names in a directory outlive a loss of power.
func SyncDirectory(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// MakeDirectory makes a directory and those above it, and syncs the names that it made.
func MakeDirectory(path string, mode os.FileMode) error {
	if _, err := os.Stat(path); err == nil || !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if parent := filepath.Dir(path); parent != path {
		if err := MakeDirectory(parent, mode); err != nil {
			return err
		}
	}
	if err := os.Mkdir(path, mode); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return SyncDirectory(filepath.Dir(path))
}

// ReadSecret reads a file that holds a secret. An empty one is an error, as is one that other
// users may read.
func ReadSecret(path string) ([]byte, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(string(raw)) == "" {
		return nil, fmt.Errorf("%s is empty, where a secret should be; put it back from a backup", path)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("other users may read the secret in %s; take that away with: chmod 600 %s", path, path)
	}
	return raw, nil
}

package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// lockFile is locked for sharing while bytes get their name, and for oneself while they lose it.
const lockFile = "sweep-lock"

// lock locks the names of the store; free undoes it.
func (d *Directory) lock(how int) (free func(), err error) {
	f, err := os.OpenFile(filepath.Join(d.root, lockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	for {
		if err = syscall.Flock(int(f.Fd()), how); !errors.Is(err, syscall.EINTR) {
			break
		}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return func() { _ = f.Close() }, nil
}

// Pause implements Store.
func (d *Directory) Pause() (resume func(), err error) { return d.lock(syscall.LOCK_SH) }

// Sweep implements Store. What is being written, by whichever process, is locked and stays; so does everything while a backup is made.
func (d *Directory) Sweep(ctx context.Context, recorded Recorded) (Swept, error) {
	var swept Swept
	if err := d.sweepParts(ctx, &swept); err != nil {
		return swept, err
	}
	var digests []string
	judge := func() error {
		if len(digests) == 0 {
			return nil
		}
		known, err := recorded(ctx, digests)
		if err != nil {
			return err
		}
		for _, digest := range digests {
			if known[digest] {
				continue
			}
			path, err := d.path(digest)
			if err != nil {
				return err
			}
			// What is recorded in the meantime is seen by asking again while nobody else can hold the file.
			again := func() (bool, error) {
				known, err := recorded(ctx, []string{digest})
				return known[digest], err
			}
			if err := d.remove(ctx, path, again, &swept); err != nil {
				return err
			}
		}
		digests = digests[:0]
		return nil
	}
	err := d.Each(ctx, func(digest string, bytes int64) error {
		swept.Kept += bytes
		if digests = append(digests, digest); len(digests) < 500 {
			return nil
		}
		return judge()
	})
	return swept, errors.Join(err, judge())
}

// sweepParts removes what was being taken in by a process that ended.
func (d *Directory) sweepParts(ctx context.Context, swept *Swept) error {
	parts, err := filepath.Glob(filepath.Join(d.incoming(), "part-*"))
	if err != nil {
		return err
	}
	for _, path := range parts {
		if err := d.remove(ctx, path, nil, swept); err != nil {
			return err
		}
	}
	return nil
}

// remove removes a file that nobody has locked, unless stays says otherwise.
func (d *Directory) remove(ctx context.Context, path string, stays func() (bool, error), swept *Swept) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return nil // somebody writes it
	}
	free, err := d.lock(syscall.LOCK_EX | syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		swept.Busy++
		return nil
	}
	if err != nil {
		return err
	}
	defer free()
	mine, err := f.Stat()
	if err != nil {
		return err
	}
	if named, err := os.Stat(path); err != nil || !os.SameFile(mine, named) {
		return nil // the name is that of other bytes by now
	}
	if stays != nil {
		if stay, err := stays(); err != nil || stay {
			return err
		}
	}
	if err := os.Remove(path); err != nil {
		return err
	}
	swept.Files++
	swept.Bytes += mine.Size()
	if stays != nil {
		swept.Kept -= mine.Size()
	}
	return nil
}

// Each implements Store.
func (d *Directory) Each(ctx context.Context, f func(digest string, bytes int64) error) error {
	return filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if e.IsDir() || !digestShape.MatchString(e.Name()) ||
			!strings.HasSuffix(filepath.Dir(path), filepath.Join(e.Name()[:2], e.Name()[2:4])) {
			return nil
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return f(e.Name(), info.Size())
	})
}

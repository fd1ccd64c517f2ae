package files

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"golang.org/x/sync/singleflight"

	"proudsieve/durable"
)

// leastCache is the smallest room for what a node keeps of a bucket: several readers hold a block each and fetch another.
const leastCache = 16 * block

// cache is what a node keeps of a bucket on its disk, in a directory of this process: whole files that it took in, and blocks that
// it read. What was used least lately goes first. It begins empty, so that nothing has to be believed that a crash may have cut off.
type cache struct {
	root  string
	lock  *os.File // of the directory, as long as the process lives
	limit int64

	fetching singleflight.Group
	under    sync.RWMutex // is shared by what is fetched
	closed   bool         // by under
	mutex    sync.Mutex
	entries  map[string]*list.Element // by name: a digest, or a digest and the number of a block
	order    *list.List               // of *entry, what was used last first
	used     int64
	sizes    map[string]int64 // of digests whose objects were looked up
}

type entry struct {
	name  string
	bytes int64
}

// sizesMost is how many sizes are remembered; they are forgotten together.
const sizesMost = 100_000

// openCache makes a directory for this process below root, and removes those of processes that ended.
func openCache(root string, limit int64) (*cache, error) {
	if err := durable.MakeDirectory(root, 0o700); err != nil {
		return nil, err
	}
	earlier, err := filepath.Glob(filepath.Join(root, "node-*"))
	if err != nil {
		return nil, err
	}
	for _, path := range earlier {
		if f, err := alone(path); err == nil {
			err = os.RemoveAll(path)
			if _ = f.Close(); err != nil {
				return nil, err
			}
		}
	}
	c := &cache{limit: limit, entries: map[string]*list.Element{}, order: list.New(), sizes: map[string]int64{}}
	for {
		if c.root, err = os.MkdirTemp(root, "node-*"); err != nil {
			return nil, err
		}
		if c.lock, err = alone(c.root); err == nil {
			return c, nil
		}
		if !errors.Is(err, os.ErrNotExist) && !errors.Is(err, syscall.EWOULDBLOCK) { // else a node that starts took it for left behind
			return nil, err
		}
	}
}

// alone locks a directory that nobody else has locked and that still has its name.
func alone(path string) (*os.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	mine, err := f.Stat()
	if err == nil {
		var named os.FileInfo
		if named, err = os.Stat(path); err == nil && !os.SameFile(mine, named) {
			err = os.ErrNotExist
		}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// close waits for what is fetched, and removes everything.
func (c *cache) close() error {
	c.under.Lock()
	defer c.under.Unlock()
	c.closed = true
	return errors.Join(os.RemoveAll(c.root), c.lock.Close())
}

func (c *cache) path(name string) string { return filepath.Join(c.root, name) }

// whole opens bytes that are there as a whole; nil where they are not.
func (c *cache) whole(digest string) (File, error) {
	if !c.has(digest) {
		return nil, nil
	}
	f, err := openDisk(c.path(digest))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	return f, err
}

// has says that something is there, and that it is used.
func (c *cache) has(name string) bool {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	e := c.entries[name]
	if e != nil {
		c.order.MoveToFront(e)
	}
	return e != nil
}

// take takes over a file that has all of a digest's bytes. One that would fill half of the room goes instead.
func (c *cache) take(path, digest string, bytes int64) error {
	if bytes > c.limit/2 {
		return os.Remove(path)
	}
	if err := os.Rename(path, c.path(digest)); err != nil {
		return err
	}
	c.add(digest, bytes)
	return nil
}

// add counts something that is there by now, and removes what was used least lately where it is too much.
func (c *cache) add(name string, bytes int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if known := c.entries[name]; known != nil {
		c.order.MoveToFront(known)
		return
	}
	c.entries[name] = c.order.PushFront(&entry{name, bytes})
	c.used += bytes
	for c.used > c.limit && c.order.Len() > 1 {
		c.drop(c.order.Back())
	}
}

// drop removes an entry; whoever has it open reads on.
func (c *cache) drop(e *list.Element) {
	gone := e.Value.(*entry)
	c.order.Remove(e)
	delete(c.entries, gone.name)
	c.used -= gone.bytes
	_ = os.Remove(c.path(gone.name))
}

// forget removes what is there of a digest as a whole, and its size.
func (c *cache) forget(digest string) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if e := c.entries[digest]; e != nil {
		c.drop(e)
	}
	delete(c.sizes, digest)
}

// empty removes everything, for a disk that is full.
func (c *cache) empty() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for c.order.Len() > 0 {
		c.drop(c.order.Back())
	}
}

func (c *cache) size(digest string) (bytes int64, known bool) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	bytes, known = c.sizes[digest]
	return bytes, known
}

func (c *cache) sized(digest string, bytes int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if len(c.sizes) >= sizesMost {
		clear(c.sizes)
	}
	c.sizes[digest] = bytes
}

// block opens a block, which fetch writes into a file where it is not there. Those who want the same one wait for one fetch.
func (c *cache) block(digest string, number int64, fetch func(to *os.File) error) (*os.File, error) {
	name := fmt.Sprintf("%s.%d", digest, number)
	for {
		if c.has(name) {
			f, err := os.Open(c.path(name))
			if !errors.Is(err, os.ErrNotExist) { // else it went in between
				return f, err
			}
		}
		_, err, _ := c.fetching.Do(name, func() (any, error) {
			if c.has(name) {
				return nil, nil
			}
			err := c.fetch(name, fetch)
			if Full(err) {
				c.empty()
				err = c.fetch(name, fetch)
			}
			return nil, err
		})
		if err != nil {
			return nil, err
		}
	}
}

func (c *cache) fetch(name string, fetch func(to *os.File) error) error {
	c.under.RLock()
	defer c.under.RUnlock()
	if c.closed {
		return context.Canceled
	}
	f, err := os.CreateTemp(c.root, "part-*")
	if err != nil {
		return err
	}
	err = fetch(f)
	info, statErr := f.Stat()
	if err = errors.Join(err, statErr, f.Close()); err == nil {
		err = os.Rename(f.Name(), c.path(name))
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	c.add(name, info.Size())
	return nil
}

// Package budget hands out the memory of the process. Whatever grows with what comes in from
// outside takes a share before it grows: where there is no room, it spills to disk, waits its
// turn, or says that it cannot be done. There is one budget for the process, so that many
// small questions together are bounded as one large one is.
package budget

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
)

// Errors that can be told apart with errors.Is.
var (
	// ErrBusy says that others have the memory now; it will be there again.
	ErrBusy = errors.New("others need the memory just now")
	// ErrTooMuch says that there will never be so much memory.
	ErrTooMuch = errors.New("more memory is needed than there is")
)

// Budget is an amount of memory that is shared. Those who wait are served in the order in
// which they came.
type Budget struct {
	mutex   sync.Mutex
	limit   int64
	used    int64
	waiting []*waiter
}

type waiter struct {
	bytes int64
	ready chan struct{} // closed when the bytes are taken for the waiter
}

// New returns a budget of so many bytes.
func New(bytes int64) *Budget { return &Budget{limit: bytes} }

// Limit returns how many bytes there are in all.
func (b *Budget) Limit() int64 { return b.limit }

// Used returns how many bytes are taken.
func (b *Budget) Used() int64 {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.used
}

// Share is a part of a budget that somebody has. Its methods may be called by several
// goroutines; the zero value and nil are shares of a budget without a limit.
type Share struct {
	budget *Budget
	mutex  sync.Mutex
	bytes  int64
}

// Take takes bytes, and waits for its turn until ctx ends: then it returns ErrBusy, or the
// context's error where its owner is gone. More than there is at all is ErrTooMuch.
func (b *Budget) Take(ctx context.Context, bytes int64) (*Share, error) {
	if b == nil {
		return nil, nil
	}
	bytes = max(bytes, 0)
	b.mutex.Lock()
	if bytes > b.limit {
		b.mutex.Unlock()
		return nil, fmt.Errorf("%w: %d MiB, of %d MiB in all", ErrTooMuch, bytes>>20, b.limit>>20)
	}
	if len(b.waiting) == 0 && b.used+bytes <= b.limit {
		b.used += bytes
		b.mutex.Unlock()
		return &Share{budget: b, bytes: bytes}, nil
	}
	w := &waiter{bytes: bytes, ready: make(chan struct{})}
	b.waiting = append(b.waiting, w)
	b.mutex.Unlock()
	select {
	case <-w.ready:
		return &Share{budget: b, bytes: bytes}, nil
	case <-ctx.Done():
	}
	b.mutex.Lock()
	defer b.mutex.Unlock()
	for i, one := range b.waiting {
		if one == w {
			b.waiting = append(b.waiting[:i], b.waiting[i+1:]...)
			b.serve() // those behind may be smaller
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil, ErrBusy
			}
			return nil, ctx.Err()
		}
	}
	return &Share{budget: b, bytes: bytes}, nil // it was served at the last moment
}

// serve gives to those who wait, the first one first. The mutex is held.
func (b *Budget) serve() {
	for len(b.waiting) > 0 && b.used+b.waiting[0].bytes <= b.limit {
		b.used += b.waiting[0].bytes
		close(b.waiting[0].ready)
		b.waiting = b.waiting[1:]
	}
}

// Grow takes more bytes if they are there now, and reports whether they were. It never waits:
// who has memory already must not wait for those who wait for it.
func (s *Share) Grow(bytes int64) bool {
	if s == nil || s.budget == nil {
		return true
	}
	s.budget.mutex.Lock()
	defer s.budget.mutex.Unlock()
	if s.budget.used+bytes > s.budget.limit {
		return false
	}
	s.budget.used += bytes
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.bytes += bytes
	return true
}

// Shrink gives bytes back, at most those that the share has.
func (s *Share) Shrink(bytes int64) {
	if s == nil || s.budget == nil {
		return
	}
	s.mutex.Lock()
	bytes = min(bytes, s.bytes)
	s.bytes -= bytes
	s.mutex.Unlock()
	s.budget.mutex.Lock()
	defer s.budget.mutex.Unlock()
	s.budget.used -= bytes
	s.budget.serve()
}

// Free gives all back. Freeing a share twice does nothing.
func (s *Share) Free() { s.Shrink(math.MaxInt64) }

// Bytes returns how many bytes the share has.
func (s *Share) Bytes() int64 {
	if s == nil {
		return 0
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.bytes
}

type shareKey struct{}

// With returns a context that carries the share of who works under it.
func With(ctx context.Context, s *Share) context.Context {
	return context.WithValue(ctx, shareKey{}, s)
}

// Of returns the share that a context carries; nil, which has no limit, where there is none.
func Of(ctx context.Context) *Share {
	s, _ := ctx.Value(shareKey{}).(*Share)
	return s
}

var (
	process     *Budget
	processOnce sync.Once
)

// Process returns the budget of this process: of the memory that Memory says, so much as
// leaves room for what is not counted and for the garbage collector.
func Process() *Budget {
	processOnce.Do(func() { process = New(Memory() * 6 / 10) })
	return process
}

// usual is how much memory the process uses where nothing says otherwise and the machine has more.
const usual = 900 << 20

// Memory is how many bytes the process should use: what GOMEMLIMIT says; else what is usual,
// or three quarters of what the container or the machine has where that is less.
func Memory() int64 {
	if limit := debug.SetMemoryLimit(-1); limit != math.MaxInt64 {
		return limit
	}
	return min(usual, available()*3/4)
}

// available is the memory of the container, else of the machine.
func available() int64 {
	least := int64(math.MaxInt64)
	for _, path := range []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"} {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		if n, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64); err == nil && n > 0 {
			least = min(least, n)
		}
	}
	if raw, err := os.ReadFile("/proc/meminfo"); err == nil {
		for line := range strings.Lines(string(raw)) {
			if fields := strings.Fields(line); len(fields) > 1 && fields[0] == "MemTotal:" {
				if n, err := strconv.ParseInt(fields[1], 10, 64); err == nil {
					least = min(least, n<<10)
				}
			}
		}
	}
	return least
}

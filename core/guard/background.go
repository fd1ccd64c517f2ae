package guard

import (
	"context"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Work that takes long must not keep those waiting who ask for little. It computes in slots,
// of which there are as many as processors while nobody asks for anything else, and one less
// as long as somebody does, so that a processor is free for whoever comes.

// lingers is for how long after somebody asked a processor is kept free.
const lingers = 300 * time.Millisecond

type backgroundKey struct{}

// Background returns a context for work that takes long and makes way for everything else.
func Background(ctx context.Context) context.Context {
	return context.WithValue(ctx, backgroundKey{}, true)
}

// lastAsked is when somebody asked for something last, in nanoseconds since the epoch.
var lastAsked atomic.Int64

// Asked notes that somebody asks for something that should be answered soon.
func Asked() { lastAsked.Store(time.Now().UnixNano()) }

// slots are those that are taken, and who waits for one, in the order in which they came: a
// slot that is given back goes to the first of them, or whoever has one would keep it.
var slots struct {
	mutex   sync.Mutex
	taken   int
	waiting []chan struct{}
}

func slotsNow() int {
	n := runtime.NumCPU()
	if n > 1 && time.Since(time.Unix(0, lastAsked.Load())) < lingers {
		n--
	}
	return n
}

// Slot waits for a slot to compute in, for some milliseconds at a time, and returns what
// gives it back. Under no Background, and where ctx has ended, it does not wait.
func Slot(ctx context.Context) (free func()) {
	if background, _ := ctx.Value(backgroundKey{}).(bool); !background {
		return func() {}
	}
	slots.mutex.Lock()
	if len(slots.waiting) == 0 && slots.taken < slotsNow() {
		slots.taken++
		slots.mutex.Unlock()
		return giveBack
	}
	mine := make(chan struct{})
	slots.waiting = append(slots.waiting, mine)
	slots.mutex.Unlock()
	for {
		select {
		case <-mine:
			return giveBack
		case <-time.After(lingers): // nobody may have asked for so long
			slots.mutex.Lock()
			handOver()
			slots.mutex.Unlock()
		case <-ctx.Done():
			slots.mutex.Lock()
			defer slots.mutex.Unlock()
			if i := slices.Index(slots.waiting, mine); i >= 0 {
				slots.waiting = slices.Delete(slots.waiting, i, i+1)
				return func() {}
			}
			return giveBack // it was handed over at the last moment
		}
	}
}

// handOver gives what is free to those who wait. The mutex is held.
func handOver() {
	for len(slots.waiting) > 0 && slots.taken < slotsNow() {
		slots.taken++
		close(slots.waiting[0])
		slots.waiting = slots.waiting[1:]
	}
}

func giveBack() {
	slots.mutex.Lock()
	defer slots.mutex.Unlock()
	slots.taken--
	handOver()
}

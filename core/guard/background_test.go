package guard

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// most is how many goroutines computed at the same time under a context.
func most(ctx context.Context, each func()) int64 {
	var now, highest atomic.Int64
	var group sync.WaitGroup
	for range 4 * runtime.NumCPU() {
		group.Go(func() {
			for range 5 {
				each()
				free := Slot(ctx)
				highest.Store(max(highest.Load(), now.Add(1)))
				time.Sleep(time.Millisecond)
				now.Add(-1)
				free()
			}
		})
	}
	group.Wait()
	return highest.Load()
}

func TestLongWorkLeavesAProcessorFreeWhileSomebodyAsks(t *testing.T) {
	lastAsked.Store(0)
	quiet := Background(context.Background())
	if got := most(quiet, func() {}); got > int64(runtime.NumCPU()) {
		t.Errorf("%d at the same time on %d processors", got, runtime.NumCPU())
	}
	if got := most(quiet, Asked); runtime.NumCPU() > 1 && got > int64(runtime.NumCPU()-1) {
		t.Errorf("%d at the same time on %d processors while somebody asks", got, runtime.NumCPU())
	}
	if got := most(context.Background(), Asked); got <= int64(runtime.NumCPU()) {
		t.Errorf("other work waits: %d at the same time", got)
	}
}

func TestWhoeverWaitsForASlotEndsWithItsContext(t *testing.T) {
	lastAsked.Store(0)
	ctx, cancel := context.WithCancel(Background(context.Background()))
	var held []func()
	for range runtime.NumCPU() {
		held = append(held, Slot(ctx))
	}
	done := make(chan struct{})
	go func() { Slot(ctx)(); close(done) }()
	cancel()
	<-done
	for _, free := range held {
		free()
	}
}

package guard

import (
	"context"
	"errors"
	"io"
	"runtime"
	"sync/atomic"
)

// InOrder takes apart what comes one after the other: next hands out pieces until io.EOF, work turns each into something, on as many
// goroutines as there are processors (eight at most), and take gets what came of them, in order, on the goroutine of the caller.
// The first error, in the order of the pieces, ends it and is returned; all goroutines have ended by then. The slots of
// Background are heeded.
func InOrder[In, Out any](ctx context.Context, next func() (In, error), work func(In) (Out, error), take func(Out) error) error {
	type outcome struct {
		out Out
		err error
	}
	type piece struct {
		in   In
		done chan outcome
	}
	workers := min(runtime.NumCPU(), 8)
	pieces, order := make(chan piece), make(chan chan outcome, workers)
	var ended atomic.Bool
	var group Group
	group.Go(func() error {
		defer close(order)
		defer close(pieces)
		for !ended.Load() {
			in, err := Value(next)
			done := make(chan outcome, 1)
			if err != nil {
				if !errors.Is(err, io.EOF) {
					done <- outcome{err: err}
					order <- done
				}
				return nil
			}
			order <- done
			pieces <- piece{in, done}
		}
		return nil
	})
	for range workers {
		group.Go(func() error {
			for p := range pieces {
				out, err := Value(func() (Out, error) {
					defer Slot(ctx)()
					return work(p.in)
				})
				p.done <- outcome{out, err}
			}
			return nil
		})
	}
	var failed error
	for done := range order {
		o := <-done
		if failed != nil {
			continue
		}
		if failed = o.err; failed == nil {
			failed = Do(func() error { return take(o.out) })
		}
		if failed != nil {
			ended.Store(true)
		}
	}
	return errors.Join(failed, group.Wait())
}

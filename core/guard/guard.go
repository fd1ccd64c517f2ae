// Package guard starts goroutines whose panics end as errors. A panic on a goroutine that
// nobody guards ends the process, with every other job and request in it; so core/ and
// service/ start none but through here, which a test of this package holds them to.
//
// A stack that overflows cannot be caught. Whatever calls itself on what comes in from
// outside therefore bounds how deep it goes.
package guard

import (
	"fmt"
	"runtime/debug"
	"sync"
)

// Panic is a panic that was caught, as an error. Stack says where it happened and is for
// the log; the error's text is for people.
type Panic struct {
	Value any
	Stack string
}

// Error implements error.
func (p *Panic) Error() string { return fmt.Sprintf("internal error: %v", p.Value) }

// Do calls f and returns its error, or its panic as a *Panic.
func Do(f func() error) (err error) {
	defer func() {
		if value := recover(); value != nil {
			err = caught(value)
		}
	}()
	return f()
}

// Value calls f and returns what it returns, or its panic as a *Panic.
func Value[T any](f func() (T, error)) (value T, err error) {
	err = Do(func() (err error) {
		value, err = f()
		return err
	})
	return value, err
}

// caught keeps the stack of the goroutine that panicked first, where a panic was passed on.
func caught(value any) error {
	if p, ok := value.(*Panic); ok {
		return p
	}
	return &Panic{Value: value, Stack: string(debug.Stack())}
}

// Go calls f on a goroutine of its own, and then done with its error, which is nil where it
// has none. done must not panic.
func Go(f func() error, done func(error)) {
	go func() { done(Do(f)) }()
}

// Group is goroutines that are waited for together. The zero value is ready.
type Group struct {
	wait  sync.WaitGroup
	once  sync.Once
	first error
}

// Go calls f on a goroutine of its own.
func (g *Group) Go(f func() error) {
	g.wait.Add(1)
	Go(f, func(err error) {
		if err != nil {
			g.once.Do(func() { g.first = err })
		}
		g.wait.Done()
	})
}

// Wait waits for all of them and returns the error that came first.
func (g *Group) Wait() error {
	g.wait.Wait()
	return g.first
}

package api

import (
	"context"
	"errors"
	"reflect"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"proudsieve/core/budget"
	"proudsieve/core/guard"
	"proudsieve/core/table"
)

const (
	// rememberedBytes bounds what the remembered answers take, and rememberedMost how many they are.
	rememberedBytes = 48 << 20
	rememberedMost  = 200
	// questionBytes is what a reading of a table takes while a question is being answered.
	questionBytes = 72 << 20
	// questionWaits is how long a question waits for memory before it is refused.
	questionWaits = 8 * time.Second
	// questionsAtOnce is how many questions read a table at the same time, and questionsWaiting how many wait for that.
	questionsAtOnce  = 2
	questionsWaiting = 8
)

// remembered keeps the answers of questions that take a reading of a whole table, the newest
// ones. A table and a rulebook never change, so that answers stay right. Those who ask the
// same thing at the same time share one reading; it stops when all of them are gone.
type remembered struct {
	mutex  sync.Mutex
	order  []string // the one used longest ago first
	held   map[string]answered
	bytes  int64
	flying map[string]*flight
	group  singleflight.Group

	places  chan struct{} // of the questions that are being answered
	waiting atomic.Int64  // questions that wait for a place
}

type answered struct {
	value any
	bytes int64
}

// flight is a question that is being answered.
type flight struct {
	ctx    context.Context
	cancel context.CancelFunc
	askers int
}

// recall returns the answer to a question that reads a table, which is worked out where it is
// not known yet: as soon as there is memory for it.
func recall[T any](ctx context.Context, r *remembered, key string, work func(ctx context.Context) (T, error)) (
	T, error) {
	return recallFor(ctx, r, key, questionBytes, work)
}

// recallFor is recall for a question that takes so many bytes.
func recallFor[T any](ctx context.Context, r *remembered, key string, bytes int64,
	work func(ctx context.Context) (T, error)) (T, error) {
	var none T
	if known, ok := r.known(key); ok {
		return known.(T), nil
	}
	f, leave := r.join(ctx, key)
	defer leave()
	answer := r.group.DoChan(key, func() (any, error) {
		return guard.Value(func() (any, error) {
			if known, ok := r.known(key); ok {
				return known, nil
			}
			waiting, cancel := context.WithTimeout(f.ctx, questionWaits)
			defer cancel()
			if bytes > 0 {
				free, err := r.turn(waiting)
				if err != nil {
					return nil, err
				}
				defer free()
			}
			share, err := budget.Process().Take(waiting, bytes)
			if err != nil {
				return nil, err
			}
			defer share.Free()
			quiet := budget.With(f.ctx, share)
			if bytes > 0 {
				quiet = guard.Background(quiet)
			}
			value, err := work(quiet)
			if err != nil {
				return nil, err
			}
			r.keep(key, value)
			return value, nil
		})
	})
	select {
	case <-ctx.Done():
		return none, ctx.Err()
	case found := <-answer:
		if found.Err != nil {
			if ctx.Err() == nil && f.ctx.Err() != nil { // everybody before had left when this one came
				return recallFor(ctx, r, key, bytes, work)
			}
			return none, found.Err
		}
		return found.Val.(T), nil
	}
}

// turn waits until one of the places for questions that read a table is free. Where as many
// wait as can be answered in time, it says so at once.
func (r *remembered) turn(ctx context.Context) (free func(), err error) {
	r.mutex.Lock()
	if r.places == nil {
		r.places = make(chan struct{}, questionsAtOnce)
	}
	r.mutex.Unlock()
	if r.waiting.Add(1) > questionsWaiting {
		r.waiting.Add(-1)
		return nil, budget.ErrBusy
	}
	defer r.waiting.Add(-1)
	select {
	case r.places <- struct{}{}:
		return func() { <-r.places }, nil
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return nil, budget.ErrBusy
		}
		return nil, ctx.Err()
	}
}

// join adds an asker to those of a question.
func (r *remembered) join(ctx context.Context, key string) (*flight, func()) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.flying == nil {
		r.flying = map[string]*flight{}
	}
	f := r.flying[key]
	if f == nil {
		f = &flight{}
		f.ctx, f.cancel = context.WithCancel(context.WithoutCancel(ctx))
		r.flying[key] = f
	}
	f.askers++
	return f, func() {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		if f.askers--; f.askers == 0 {
			f.cancel()
			delete(r.flying, key)
			r.group.Forget(key)
		}
	}
}

func (r *remembered) known(key string) (any, bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	one, ok := r.held[key]
	if ok {
		for i, k := range r.order {
			if k == key {
				r.order = append(append(r.order[:i:i], r.order[i+1:]...), key)
				break
			}
		}
	}
	return one.value, ok
}

func (r *remembered) keep(key string, value any) {
	one := answered{value, int64(len(key))}
	if known, ok := value.(interface{ size() int64 }); ok {
		one.bytes += known.size()
	} else {
		one.bytes += sizeOfAny(value)
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if _, ok := r.held[key]; ok || one.bytes > rememberedBytes {
		return
	}
	if r.held == nil {
		r.held = map[string]answered{}
	}
	r.held[key] = one
	r.order = append(r.order, key)
	for r.bytes += one.bytes; r.bytes > rememberedBytes || len(r.order) > rememberedMost; {
		oldest := r.order[0]
		r.bytes -= r.held[oldest].bytes
		delete(r.held, oldest)
		r.order = r.order[1:]
	}
}

func sizeOfAny(value any) int64 { return sizeOf(reflect.ValueOf(value), 0) }

// sizeOf is how many bytes a value takes, near enough: what it points to is counted, each time.
func sizeOf(v reflect.Value, depth int) int64 {
	if !v.IsValid() || depth > 24 {
		return 0
	}
	size := int64(v.Type().Size())
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return size
		}
		if v.CanInterface() {
			if set, ok := v.Interface().(*table.RowSet); ok {
				return size + int64(set.GetSizeInBytes())
			}
		}
		return size + sizeOf(v.Elem(), depth+1)
	case reflect.Interface:
		if !v.IsNil() {
			size += sizeOf(v.Elem(), depth+1)
		}
	case reflect.String:
		size += int64(v.Len())
	case reflect.Slice, reflect.Array:
		if v.Kind() == reflect.Slice {
			size += int64(v.Cap()) * int64(v.Type().Elem().Size())
		}
		if plain(v.Type().Elem()) {
			return size
		}
		for i := range v.Len() {
			size += sizeOf(v.Index(i), depth+1) - int64(v.Type().Elem().Size())
		}
	case reflect.Map:
		for each := v.MapRange(); each.Next(); {
			size += sizeOf(each.Key(), depth+1) + sizeOf(each.Value(), depth+1) + 16
		}
	case reflect.Struct:
		for i := range v.NumField() {
			size += sizeOf(v.Field(i), depth+1) - int64(v.Field(i).Type().Size())
		}
	}
	return size
}

// plain reports whether values of a type point to nothing.
func plain(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Pointer, reflect.Interface, reflect.String, reflect.Slice, reflect.Map, reflect.Func, reflect.Chan:
		return false
	case reflect.Array:
		return plain(t.Elem())
	case reflect.Struct:
		for i := range t.NumField() {
			if !plain(t.Field(i).Type) {
				return false
			}
		}
	}
	return true
}

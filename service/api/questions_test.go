package api

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"proudsieve/core/budget"
	"proudsieve/core/guard"
	"proudsieve/core/table"
)

var ctx = context.Background()

func TestAskersOfOneQuestionShareItsAnswer(t *testing.T) {
	var r remembered
	var worked atomic.Int64
	begun, go_ := make(chan struct{}), make(chan struct{})
	var group sync.WaitGroup
	ask := func() {
		got, err := recall(ctx, &r, "question", func(context.Context) (int, error) {
			worked.Add(1)
			close(begun)
			<-go_
			return 7, nil
		})
		if got != 7 || err != nil {
			t.Errorf("%d, %v", got, err)
		}
	}
	group.Go(ask)
	<-begun
	for range 5 {
		group.Go(ask)
	}
	for { // until all of them ask
		r.mutex.Lock()
		askers := r.flying["question"].askers
		r.mutex.Unlock()
		if askers == 6 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	close(go_)
	group.Wait()
	ask()
	if worked.Load() != 1 {
		t.Errorf("it was worked out %d times", worked.Load())
	}
}

func TestAQuestionStopsWithItsLastAsker(t *testing.T) {
	var r remembered
	first, leave := context.WithCancel(ctx)
	second, leaveToo := context.WithCancel(ctx)
	stopped := make(chan struct{})
	work := func(ctx context.Context) (int, error) {
		<-ctx.Done()
		close(stopped)
		return 0, ctx.Err()
	}
	var group sync.WaitGroup
	for _, asker := range []context.Context{first, second} {
		group.Go(func() {
			if _, err := recall(asker, &r, "question", work); !errors.Is(err, context.Canceled) {
				t.Errorf("%v", err)
			}
		})
	}
	for {
		r.mutex.Lock()
		f := r.flying["question"]
		both := f != nil && f.askers == 2
		r.mutex.Unlock()
		if both {
			break
		}
		time.Sleep(time.Millisecond)
	}
	leave()
	select {
	case <-stopped:
		t.Error("it stopped while somebody waited for it")
	case <-time.After(50 * time.Millisecond):
	}
	leaveToo()
	<-stopped
	group.Wait()
	// Asked again, it is worked out anew.
	if got, err := recall(ctx, &r, "question", func(context.Context) (int, error) { return 1, nil }); got != 1 ||
		err != nil {
		t.Errorf("%d, %v", got, err)
	}
}

func TestRememberedAnswersAreBoundedByBytesAndTheOneUsedLongestAgoGoes(t *testing.T) {
	var r remembered
	answer := func(key string) {
		t.Helper()
		if _, err := recall(ctx, &r, key,
			func(context.Context) ([]uint32, error) { return make([]uint32, rememberedBytes/4/4), nil }); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 3 {
		answer(fmt.Sprint(i))
	}
	answer("0") // used again
	answer("3")
	for key, want := range map[string]bool{"0": true, "1": false, "2": true, "3": true} {
		if _, ok := r.known(key); ok != want {
			t.Errorf("%s is known: %v, want %v", key, ok, want)
		}
	}
	if r.bytes > rememberedBytes {
		t.Errorf("%d bytes are remembered", r.bytes)
	}
	if _, err := recall(ctx, &r, "huge",
		func(context.Context) ([]uint32, error) { return make([]uint32, rememberedBytes), nil }); err != nil {
		t.Fatal(err)
	}
	if _, ok := r.known("huge"); ok {
		t.Error("an answer larger than all is remembered")
	}
}

func TestAPanicInAQuestionIsItsError(t *testing.T) {
	var r remembered
	_, err := recall(ctx, &r, "question", func(context.Context) (int, error) { panic("of the test") })
	var caught *guard.Panic
	if !errors.As(err, &caught) {
		t.Errorf("%v", err)
	}
}

func TestQuestionsBeyondThoseThatCanWaitAreRefusedAtOnce(t *testing.T) {
	var r remembered
	var group sync.WaitGroup
	done := make(chan struct{})
	var refused atomic.Int64
	for i := range 40 {
		group.Go(func() {
			_, err := recall(ctx, &r, fmt.Sprint(i), func(context.Context) (int, error) { <-done; return 0, nil })
			if errors.Is(err, budget.ErrBusy) {
				refused.Add(1)
			} else if err != nil {
				t.Error(err)
			}
		})
	}
	for refused.Load() < 40-questionsAtOnce-questionsWaiting {
		time.Sleep(time.Millisecond)
	}
	close(done)
	group.Wait()
	if n := refused.Load(); n != 40-questionsAtOnce-questionsWaiting {
		t.Errorf("%d were refused", n)
	}
}

func TestSizesOfAnswers(t *testing.T) {
	rows := table.NewRowSet()
	for i := range uint32(100_000) {
		rows.Add(i * 3)
	}
	type record struct {
		name  string
		cells []string
		other *record
	}
	for name, c := range map[string]struct {
		value       any
		least, most int64
	}{
		"numbers": {make([]uint32, 1000), 4000, 4100},
		"texts":   {[]string{"abc", "defgh"}, 40, 80},
		"rows":    {rows, 30_000, 300_000},
		"records": {[]record{{"a", []string{"b"}, &record{name: "c"}}}, 130, 300},
		"a map":   {map[string]int64{"a": 1, "b": 2}, 50, 200},
		"nothing": {(*record)(nil), 8, 8},
	} {
		if got := sizeOfAny(c.value); got < c.least || got > c.most {
			t.Errorf("%s: %d bytes, want %d to %d", name, got, c.least, c.most)
		}
	}
}

func FuzzEdge(f *testing.F) {
	for _, s := range []string{"a=b&c=%00", "%", "%zz", "%e9", `{"a":"\\u0000"}`, `"\\\\u0000"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if text, err := unescaped(s); err == nil && len(text) > len(s) {
			t.Errorf("%q became longer: %q", s, text)
		}
		_ = holdsNul([]byte(s))
		_ = site(s)
	})
}

package budget

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"
)

func take(t *testing.T, b *Budget, bytes int64) *Share {
	t.Helper()
	s, err := b.Take(context.Background(), bytes)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func soon(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	t.Cleanup(cancel)
	return ctx
}

func TestWhatIsTakenIsNotThereForOthers(t *testing.T) {
	b := New(100)
	first := take(t, b, 70)
	if _, err := b.Take(soon(t), 40); !errors.Is(err, ErrBusy) {
		t.Errorf("more than is left: %v", err)
	}
	if _, err := b.Take(context.Background(), 101); !errors.Is(err, ErrTooMuch) {
		t.Errorf("more than there is: %v", err)
	}
	if !first.Grow(30) || first.Grow(1) {
		t.Error("a share grows into what is left, and no further")
	}
	first.Shrink(50)
	second := take(t, b, 50)
	if b.Used() != 100 || first.Bytes() != 50 {
		t.Errorf("used %d, the first has %d", b.Used(), first.Bytes())
	}
	first.Free()
	first.Free()
	second.Free()
	if b.Used() != 0 {
		t.Errorf("after all are freed %d are used", b.Used())
	}
}

func TestThoseWhoWaitAreServedInTheirOrder(t *testing.T) {
	b := New(100)
	holder := take(t, b, 100)
	var order []string
	var mutex sync.Mutex
	var group sync.WaitGroup
	for _, one := range []struct {
		name  string
		bytes int64
	}{{"large", 90}, {"small", 20}} {
		group.Go(func() {
			s, err := b.Take(context.Background(), one.bytes)
			if err != nil {
				t.Error(err)
				return
			}
			mutex.Lock()
			order = append(order, one.name)
			mutex.Unlock()
			s.Free()
		})
		for waits := 0; waits < 1000; waits++ { // until it is in the line
			b.mutex.Lock()
			n := len(b.waiting)
			b.mutex.Unlock()
			if n == 1 && one.name == "large" || n == 2 {
				break
			}
			time.Sleep(time.Millisecond)
		}
	}
	holder.Shrink(50) // room for the small one, who does not pass the large one
	holder.Free()
	group.Wait()
	if len(order) != 2 || order[0] != "large" || b.Used() != 0 {
		t.Errorf("%v, %d used", order, b.Used())
	}
}

func TestSomebodyWhoGivesUpIsNotInTheWayOfOthers(t *testing.T) {
	b := New(100)
	holder := take(t, b, 60)
	ctx, cancel := context.WithCancel(context.Background())
	gone := make(chan error)
	go func() {
		_, err := b.Take(ctx, 90)
		gone <- err
	}()
	for {
		b.mutex.Lock()
		n := len(b.waiting)
		b.mutex.Unlock()
		if n == 1 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	served := make(chan *Share)
	go func() {
		s, _ := b.Take(context.Background(), 40)
		served <- s
	}()
	cancel()
	if err := <-gone; !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	(<-served).Free()
	holder.Free()
	if b.Used() != 0 {
		t.Errorf("%d used", b.Used())
	}
}

func TestAShareOfNoBudgetHasNoLimit(t *testing.T) {
	var b *Budget
	s, err := b.Take(context.Background(), 1<<60)
	if err != nil || !s.Grow(1<<60) {
		t.Errorf("%v", err)
	}
	s.Free()
}

func TestTheProcessHasMemory(t *testing.T) {
	if m := Memory(); m < 64<<20 || m > usual {
		t.Errorf("%d MiB", m>>20)
	}
	if first := Process(); Process() != first || first.Limit() <= 0 {
		t.Error("there is one budget")
	}
}

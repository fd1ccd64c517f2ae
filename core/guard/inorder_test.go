package guard

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"
)

// counted hands out the numbers up to n, and then an error.
func counted(n int, then error) func() (int, error) {
	at := 0
	return func() (int, error) {
		if at == n {
			return 0, then
		}
		at++
		return at, nil
	}
}

func TestPiecesAreTakenInOrder(t *testing.T) {
	var taken []int
	err := InOrder(t.Context(), counted(200, io.EOF), func(n int) (int, error) {
		time.Sleep(time.Duration(n*7%5) * 100 * time.Microsecond) // later ones are often done first
		return n * n, nil
	}, func(square int) error {
		taken = append(taken, square)
		return nil
	})
	if err != nil || len(taken) != 200 || !slices.IsSorted(taken) || taken[199] != 40_000 {
		t.Fatalf("%d taken, the last ones %v, %v", len(taken), taken[max(0, len(taken)-3):], err)
	}
}

func TestTheFirstErrorInOrderEndsIt(t *testing.T) {
	bad, gone := errors.New("bad"), errors.New("gone")
	for name, c := range map[string]struct {
		next func() (int, error)
		work func(int) (int, error)
		take func(int) error
		want error
		took int
	}{
		"of handing out":       {counted(30, gone), nil, nil, gone, 30},
		"of work":              {counted(1000, gone), func(n int) (int, error) { return n, map[bool]error{true: bad}[n >= 20] }, nil, bad, 19},
		"of taking":            {counted(1000, gone), nil, func(n int) error { return map[bool]error{true: bad}[n == 5] }, bad, 5},
		"a panic in the work":  {counted(1000, gone), func(n int) (int, error) { return 1 / (n - 7), nil }, nil, &Panic{}, 6},
		"a panic when handing": {func() (int, error) { panic("no") }, nil, nil, &Panic{}, 0},
	} {
		took := 0
		if c.work == nil {
			c.work = func(n int) (int, error) { return n, nil }
		}
		err := InOrder(context.Background(), c.next, c.work, func(n int) error {
			took++
			if c.take != nil {
				return c.take(n)
			}
			return nil
		})
		var panicked *Panic
		_, wantsPanic := c.want.(*Panic)
		if took != c.took || wantsPanic != errors.As(err, &panicked) || !wantsPanic && !errors.Is(err, c.want) {
			t.Errorf("an error %s: %d taken, %v", name, took, err)
		}
		if err != nil && strings.Count(err.Error(), "\n") > 0 {
			t.Errorf("an error %s is told twice: %v", name, err)
		}
	}
}

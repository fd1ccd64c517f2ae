package table

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"
)

// numbers is a table of one column in many parts; the text of row n is "n".
type numbers struct {
	parts, rowsEach int
	failAt          int // part whose Next fails; -1 for none
}

func (n numbers) Columns() []string { return []string{"n"} }

func (n numbers) Open(context.Context) (Parts, error) { return &numberParts{of: n}, nil }

type numberParts struct {
	of   numbers
	next int
}

func (p *numberParts) Close() error { return nil }

var errBrokenDisk = errors.New("the disk is broken")

func (p *numberParts) Next() (Part, error) {
	if p.next == p.of.failAt {
		return nil, errBrokenDisk
	}
	if p.next == p.of.parts {
		return nil, io.EOF
	}
	p.next++
	return numberPart{first: uint32((p.next-1)*p.of.rowsEach) + 1, rows: p.of.rowsEach}, nil
}

type numberPart struct {
	first uint32
	rows  int
}

func (p numberPart) Span() (uint32, int) { return p.first, p.rows }

func (p numberPart) Batch([]*Dictionary) (*Batch, error) {
	time.Sleep(time.Duration(rand.IntN(300)) * time.Microsecond) // so that workers finish out of order
	b := &Batch{Columns: make([]Column, 1)}
	for i := range p.rows {
		b.Rows = append(b.Rows, p.first+uint32(i))
		b.Lines = append(b.Lines, int64(p.first)+int64(i)+1)
		b.Columns[0].Texts = append(b.Columns[0].Texts, fmt.Sprint(int(p.first)+i))
		b.Columns[0].Codes = append(b.Columns[0].Codes, uint32(i))
	}
	return b, nil
}

func TestScanHandsResultsOverInFileOrder(t *testing.T) {
	for _, workers := range []int{0, 1, 2, 8} {
		var seen []uint32
		err := Scan(context.Background(), numbers{parts: 60, rowsEach: 5, failAt: -1}, workers,
			func(b *Batch) ([]uint32, error) { return b.Rows, nil },
			func(rows []uint32) error { seen = append(seen, rows...); return nil })
		if err != nil || len(seen) != 300 || !slices.IsSorted(seen) {
			t.Errorf("with %d workers: %d rows, in order: %v, error %v", workers, len(seen), slices.IsSorted(seen), err)
		}
	}
}

func TestScanStopsAtTheFirstError(t *testing.T) {
	errWork, errTake := errors.New("work failed"), errors.New("take failed")
	nothing := func(int) error { return nil }
	one := func(*Batch) (int, error) { return 1, nil }
	for name, c := range map[string]struct {
		source numbers
		work   func(*Batch) (int, error)
		take   func(int) error
		want   error
	}{
		"reading":  {numbers{50, 3, 20}, one, nothing, errBrokenDisk},
		"working":  {numbers{50, 3, -1}, func(b *Batch) (int, error) { return 0, errWork }, nothing, errWork},
		"taking":   {numbers{50, 3, -1}, one, func(int) error { return errTake }, errTake},
		"no error": {numbers{50, 3, -1}, one, nothing, nil},
	} {
		before := runtime.NumGoroutine()
		if err := Scan(context.Background(), c.source, 4, c.work, c.take); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
		for deadline := time.Now().Add(10 * time.Second); runtime.NumGoroutine() > before+1; runtime.Gosched() {
			if time.Now().After(deadline) {
				t.Fatalf("%s: %d goroutines are left of %d", name, runtime.NumGoroutine(), before)
			}
		}
	}
}

func TestScanCanBeInterrupted(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	taken := 0
	err := Scan(ctx, numbers{parts: 100_000, rowsEach: 1, failAt: -1}, 2, func(*Batch) (int, error) { return 0, nil },
		func(int) error {
			if taken++; taken == 10 {
				cancel()
			}
			return nil
		})
	if !errors.Is(err, context.Canceled) || taken > 100 {
		t.Errorf("after %d parts: %v", taken, err)
	}
}

func TestOnlyThePartsThatAreWantedAreRead(t *testing.T) {
	wanted := NewRowSet()
	wanted.AddMany([]uint32{1, 5, 51, 300})
	var firsts []uint32
	err := Scan(context.Background(), Where(numbers{parts: 60, rowsEach: 5, failAt: -1}, wanted), 2,
		func(b *Batch) (uint32, error) { return b.Rows[0], nil },
		func(first uint32) error { firsts = append(firsts, first); return nil })
	if want := []uint32{1, 51, 296}; err != nil || !slices.Equal(firsts, want) {
		t.Errorf("read the parts that start at %v, want %v; %v", firsts, want, err)
	}
}

func TestKeepLeavesTheOtherRowsAsTheyWere(t *testing.T) {
	b, err := numberPart{first: 11, rows: 6}.Batch(nil)
	if err != nil {
		t.Fatal(err)
	}
	b.Surplus = map[int][]string{1: {"x"}, 4: {"y"}}
	kept := b.Keep(func(i int) bool { return i%2 == 0 })
	if want := []uint32{12, 14, 16}; !slices.Equal(kept.Rows, want) || kept.Columns[0].At(1) != "14" ||
		kept.Surplus[0][0] != "x" || len(kept.Surplus) != 1 {
		t.Errorf("kept rows %v with %q and surplus %v", kept.Rows, kept.Columns[0].At(1), kept.Surplus)
	}
	if b.Len() != 6 {
		t.Error("the batch itself was changed")
	}
	if b.Keep(func(int) bool { return false }) != b {
		t.Error("a batch that loses nothing was copied")
	}
}

func TestGroupsAgreeWithAMap(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for _, limit := range []int{1 << 20, 100} { // in memory, and spilled many times
		g := NewGroups(NewRoom(1))
		g.room.limit = limit
		r := rand.New(rand.NewPCG(3, 4))
		want := map[string][]uint32{}
		var stretch HashedRows
		for row := uint32(1); row <= 5000; row++ {
			key := fmt.Sprint(r.IntN(3000))
			want[key] = append(want[key], row)
			if stretch.Add(HashTexts(key), row); row%700 > 0 {
				continue
			}
			if err := g.Take(&stretch); err != nil {
				t.Fatal(err)
			}
		}
		if err := g.Take(&stretch); err != nil {
			t.Fatal(err)
		}
		if err := g.AddAll([]HashedRow{{HashTexts("0"), 5001}, {HashTexts("alone"), 5002}}); err != nil {
			t.Fatal(err)
		}
		want["0"] = append(want["0"], 5001)
		groups := 0
		if err := g.Repeated(3, func(h Hash, rows []uint32) error {
			groups++
			for _, expected := range want {
				if expected[0] == rows[0] && !slices.Equal(expected, rows) {
					t.Errorf("the group of row %d is %v, want %v", rows[0], rows, expected)
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		repeated := 0
		for _, rows := range want {
			if len(rows) > 1 {
				repeated++
			}
		}
		if groups != repeated {
			t.Errorf("with a limit of %d: %d groups, want %d", limit, groups, repeated)
		}
		g.Close()
		if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "proudsieve-groups-*")); len(left) > 0 {
			t.Errorf("files are left: %v", left)
		}
	}
}

func TestHashesOfJoinedTextsDiffer(t *testing.T) {
	a, b, c, d := HashTexts("ab", "c"), HashTexts("a", "bc"), HashTexts("abc"), HashTexts("abc", "")
	if a == b || a == c || b == c || c == d {
		t.Error("different lists of texts hash alike")
	}
}

func TestWriterQuotesWhatNeedsIt(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&out, []string{"a"})
	b := &Batch{Columns: []Column{{Texts: []string{"", "x,y", `"q"`, "two\nlines"}, Codes: []uint32{0, 1, 2, 3}}},
		Rows: []uint32{1, 2, 3, 4}, Lines: make([]int64, 4)}
	if err := errors.Join(w.Write(b), w.Flush()); err != nil {
		t.Fatal(err)
	}
	if want := "a\n\"\"\n\"x,y\"\n\"\"\"q\"\"\"\n\"two\nlines\"\n"; out.String() != want {
		t.Errorf("written %q, want %q", out.String(), want)
	}
	out.Reset()
	if err := NewWriter(&out, []string{"a", "b"}).Flush(); err != nil || out.String() != "a,b\n" {
		t.Errorf("a table without rows is %q, %v", out.String(), err)
	}
}

package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
)

func open(t *testing.T) (*Directory, string) {
	t.Helper()
	root := t.TempDir()
	d, err := OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	return d, root
}

// kept lists the files of a store.
func kept(t *testing.T, root string) []string {
	t.Helper()
	var found []string
	if err := filepath.Walk(root, func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() && info.Name() != lockFile {
			found = append(found, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return found
}

func TestBytesAreKeptUnderTheirDigest(t *testing.T) {
	d, root := open(t)
	content := bytes.Repeat([]byte("some bytes\n"), 100_000)
	first, err := Put(context.Background(), d, bytes.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	digest, n := first.Digest, first.Bytes
	sum := sha256.Sum256(content)
	if digest != hex.EncodeToString(sum[:]) || n != int64(len(content)) {
		t.Errorf("kept %d bytes under %s", n, digest)
	}
	for _, offset := range []int64{0, 1, 12_345, n} {
		in, err := At(d, digest)(offset)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(in)
		if err := errors.Join(err, in.Close()); err != nil || !bytes.Equal(got, content[offset:]) {
			t.Errorf("from %d on: %d bytes, %v", offset, len(got), err)
		}
	}
	again, err := Put(context.Background(), d, bytes.NewReader(content))
	if err != nil || again.Digest != digest || len(kept(t, root)) != 1 {
		t.Fatalf("the same bytes again: %v; files %v", err, kept(t, root))
	}
	again.Close()
	info, err := os.Stat(kept(t, root)[0])
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
}

func TestNothingIsKeptOfWhatWasCutOff(t *testing.T) {
	d, root := open(t)
	cut := io.MultiReader(strings.NewReader("the first half"), iotest.ErrReader(io.ErrUnexpectedEOF))
	if _, err := Put(context.Background(), d, cut); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Put(ctx, d, strings.NewReader("x")); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if _, err := Put(context.Background(), d, strings.NewReader("")); !errors.Is(err, ErrNothing) {
		t.Errorf("nothing at all: %v", err)
	}
	w, err := d.Create()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write([]byte("thought better of it")); err != nil {
		t.Fatal(err)
	}
	w.Discard()
	if found := kept(t, root); len(found) > 0 {
		t.Errorf("left behind: %v", found)
	}
}

func TestWhatIsNotThere(t *testing.T) {
	d, _ := open(t)
	for _, digest := range []string{"", "abc", "../../etc/passwd", strings.Repeat("0", 64), strings.Repeat("G", 64),
		strings.Repeat("0", 63) + "/"} {
		if _, err := d.Open(digest); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v, want %v", digest, err, ErrNotFound)
		}
		if _, err := At(d, digest)(0); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v, want %v", digest, err, ErrNotFound)
		}
	}
}

func TestASweepTakesWhatNobodySpeaksOfAndNobodyWrites(t *testing.T) {
	ctx := context.Background()
	d, root := open(t)
	put := func(text string) *Kept {
		t.Helper()
		k, err := Put(ctx, d, strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	recorded, orphan, fresh := put("recorded"), put("orphan"), put("kept and not recorded yet")
	recorded.Close()
	orphan.Close()
	writing, err := d.Create()
	if err != nil {
		t.Fatal(err)
	}
	defer writing.Discard()
	if err := os.WriteFile(filepath.Join(d.incoming(), "part-of-somebody-who-died"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	known := map[string]bool{recorded.Digest: true}
	ask := func(_ context.Context, digests []string) (map[string]bool, error) {
		out := map[string]bool{}
		for _, one := range digests {
			out[one] = known[one]
		}
		return out, nil
	}
	// Another node's view of the same directory.
	other, err := OpenDirectory(root)
	if err != nil {
		t.Fatal(err)
	}
	resume, err := other.Pause()
	if err != nil {
		t.Fatal(err)
	}
	if swept, err := d.Sweep(ctx, ask); err != nil || swept.Files != 0 {
		t.Errorf("while a backup is made: %+v, %v", swept, err)
	}
	resume()
	swept, err := other.Sweep(ctx, ask)
	if err != nil || swept.Files != 2 {
		t.Errorf("%+v, %v", swept, err)
	}
	for digest, want := range map[string]bool{recorded.Digest: true, orphan.Digest: false, fresh.Digest: true} {
		if f, err := d.Open(digest); (err == nil) != want {
			t.Errorf("%s is there: %v, want %v", digest, err == nil, want)
		} else if err == nil {
			_ = f.Close()
		}
	}
	if _, err := writing.Write([]byte("still being written")); err != nil {
		t.Fatal(err)
	}
	digest, _, err := writing.Keep(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	// What becomes recorded between the two questions of a sweep stays.
	fresh.Close()
	asked := 0
	_, err = d.Sweep(ctx, func(ctx context.Context, digests []string) (map[string]bool, error) {
		if asked++; asked == 2 {
			known[fresh.Digest] = true
		}
		return ask(ctx, digests)
	})
	if _, openErr := d.Open(fresh.Digest); err != nil || openErr != nil {
		t.Errorf("what was recorded meanwhile is gone: %v, %v", err, openErr)
	}
	if _, err := d.Open(digest); err != nil {
		t.Errorf("what was being written is gone: %v", err)
	}
}

// A sweep that meets a part between its making and its lock takes it; whoever makes it begins another.
func TestASweepIsNotInTheWayOfWhatBegins(t *testing.T) {
	d, _ := open(t)
	ctx, stop := context.WithCancel(context.Background())
	var sweeps sync.WaitGroup
	for range 4 {
		sweeps.Go(func() {
			for ctx.Err() == nil {
				if _, err := d.Sweep(ctx, func(_ context.Context, digests []string) (map[string]bool, error) {
					all := map[string]bool{}
					for _, digest := range digests {
						all[digest] = true
					}
					return all, nil
				}); err != nil && ctx.Err() == nil {
					t.Error(err)
				}
			}
		})
	}
	for i := range 1500 {
		w, err := d.Create()
		if err != nil {
			t.Fatalf("part %d: %v", i, err)
		}
		if i%50 == 0 {
			_, _ = io.WriteString(w, "the same")
			if _, _, err := w.Keep(context.Background()); err != nil {
				t.Fatalf("part %d: %v", i, err)
			}
		}
		w.Discard()
	}
	stop()
	sweeps.Wait()
}

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
		if err == nil && !info.IsDir() {
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
	digest, n, err := d.Put(context.Background(), bytes.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(content)
	if digest != hex.EncodeToString(sum[:]) || n != int64(len(content)) {
		t.Errorf("kept %d bytes under %s", n, digest)
	}
	for _, offset := range []int64{0, 1, 12_345, n} {
		in, err := d.At(digest)(offset)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(in)
		if err := errors.Join(err, in.Close()); err != nil || !bytes.Equal(got, content[offset:]) {
			t.Errorf("from %d on: %d bytes, %v", offset, len(got), err)
		}
	}
	again, _, err := d.Put(context.Background(), bytes.NewReader(content))
	if err != nil || again != digest || len(kept(t, root)) != 1 {
		t.Errorf("the same bytes again: %s, %v; files %v", again, err, kept(t, root))
	}
	info, err := os.Stat(kept(t, root)[0])
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
}

func TestNothingIsKeptOfWhatWasCutOff(t *testing.T) {
	d, root := open(t)
	cut := io.MultiReader(strings.NewReader("the first half"), iotest.ErrReader(io.ErrUnexpectedEOF))
	if _, _, err := d.Put(context.Background(), cut); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, _, err := d.Put(ctx, strings.NewReader("x")); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if _, _, err := d.Put(context.Background(), strings.NewReader("")); !errors.Is(err, ErrNothing) {
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
	for _, digest := range []string{"", "abc", "../../etc/passwd", strings.Repeat("0", 64), strings.Repeat("G", 64), strings.Repeat("0", 63) + "/"} {
		if _, err := d.Open(digest); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v, want %v", digest, err, ErrNotFound)
		}
		if _, err := d.At(digest)(0); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: %v, want %v", digest, err, ErrNotFound)
		}
	}
}

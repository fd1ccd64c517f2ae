package content

import (
	"errors"
	"io"
	"testing"
)

func TestPackedFilesThatGrowWithoutEndAreRefused(t *testing.T) {
	u := &unpacked{Reader: zeros{}, read: func() int64 { return 1000 }, close: func() {}}
	n, err := io.Copy(io.Discard, u)
	if !errors.Is(err, ErrTooLarge) || n > packedAlways+1<<20 {
		t.Errorf("%d bytes, %v", n, err)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

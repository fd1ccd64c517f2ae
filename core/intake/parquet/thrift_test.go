package parquet

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"
)

// parquetOf is a file with nothing but a description.
func parquetOf(footer []byte) string {
	out := append([]byte("PAR1"), footer...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(footer)))
	return string(append(out, "PAR1"...))
}

// A description that stands millions deep in itself would overflow the stack of what takes it
// apart, which nothing can catch.
func TestAParquetFileThatIsTooDeepIsRefused(t *testing.T) {
	const deep = 8 << 20
	element := []byte{0x48, 1, 'a', 0x15, 2, 0} // its name, one child
	nested := append([]byte{0x15, 2, 0x19, 0xfc}, binary.AppendUvarint(nil, 200_000)...)
	for range 200_000 {
		nested = append(nested, element...)
	}
	few := append([]byte{0x15, 2, 0x19, 0xfc}, binary.AppendUvarint(nil, 5_000)...)
	for range 5_000 {
		few = append(few, element...)
	}
	for name, c := range map[string]struct {
		footer []byte
		want   string
	}{
		"structures in structures": {bytes.Repeat([]byte{0x1c}, deep), "too deep in itself"},
		"lists in lists":           {append([]byte{0x19}, bytes.Repeat([]byte{0x19}, deep)...), "too deep in itself"},
		"maps in maps": {append([]byte{0x1b}, bytes.Repeat([]byte{1, 0xbb}, deep/2)...),
			"too deep in itself"},
		"groups in groups":     {append(few, 0), "too deep in groups"},
		"too many groups":      {append(nested, 0), "too"},
		"nothing":              {nil, ""},
		"a number without end": {bytes.Repeat([]byte{0xff}, 100), ""},
	} {
		text := parquetOf(c.footer)
		r := &reader{open: func(context.Context, int64) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(text)), nil
		}}
		_, err := r.Columns(context.Background())
		if !errors.Is(err, ErrParquet) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAPageThatIsTooDeepIsRefused(t *testing.T) {
	chunk := append(bytes.Repeat([]byte{0x1c}, 4<<20), make([]byte, 100)...)
	if err := soundChunk(bytes.NewReader(chunk), 0, int64(len(chunk))); !errors.Is(err, errThrift) {
		t.Errorf("%v", err)
	}
	sound := []byte{0x15, 0, 0x15, 10, 0x15, 10, 0, 1, 2, 3, 4, 5} // type, unpacked, packed: five bytes
	if err := soundChunk(bytes.NewReader(append(sound, sound...)), 0, int64(2*len(sound))); err != nil {
		t.Errorf("two sound pages: %v", err)
	}
}

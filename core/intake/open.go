package intake

import (
	"io"
	"os"
)

// AtPath opens a file of the file system.
func AtPath(path string) Opener {
	return func(offset int64) (io.ReadCloser, error) {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			_ = f.Close()
			return nil, err
		}
		return f, nil
	}
}

package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/minio/minio-go/v7"

	"proudsieve/core/guard"
)

// block is how many bytes of a bucket are asked for at once; a whole number of them begins at the start of each object.
const block = 4 << 20

// blocks is an object of a bucket, read by blocks. While it is read in order the next block is fetched ahead; several readers, of
// one table's stretches, fetch side by side.
type blocks struct {
	bucket *Bucket
	digest string
	size   int64
	at     int64
	// held is the block that was read last, which stays open.
	held   *os.File
	number int64
	ahead  guard.Group
}

// Size implements File.
func (f *blocks) Size() int64 { return f.size }

// Seek implements io.Seeker.
func (f *blocks) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += f.at
	case io.SeekEnd:
		offset += f.size
	}
	if offset < 0 {
		return 0, errors.New("a place before the start of the bytes")
	}
	f.at = offset
	return offset, nil
}

// Read implements io.Reader.
func (f *blocks) Read(p []byte) (int, error) {
	if f.at >= f.size {
		return 0, io.EOF
	}
	if len(p) == 0 {
		return 0, nil
	}
	number := f.at / block
	if f.held == nil || f.number != number {
		held, err := f.bucket.block(f.digest, f.size, number)
		if err != nil {
			return 0, err
		}
		f.let()
		f.held, f.number = held, number
		if next := number + 1; next*block < f.size {
			f.ahead.Go(func() error {
				if ahead, err := f.bucket.block(f.digest, f.size, next); err == nil { // else whoever reads it is told
					_ = ahead.Close()
				}
				return nil
			})
		}
	}
	n, err := f.held.ReadAt(p[:min(int64(len(p)), f.size-f.at, (number+1)*block-f.at)], f.at-number*block)
	f.at += int64(n)
	return n, err
}

// ReadAt implements io.ReaderAt; it may be called from several goroutines at once, and while Read is.
func (f *blocks) ReadAt(p []byte, offset int64) (int, error) {
	if offset < 0 {
		return 0, errors.New("a place before the start of the bytes")
	}
	done := 0
	for done < len(p) {
		at := offset + int64(done)
		if at >= f.size {
			return done, io.EOF
		}
		number := at / block
		held, err := f.bucket.block(f.digest, f.size, number)
		if err != nil {
			return done, err
		}
		n, err := held.ReadAt(p[done:done+int(min(int64(len(p)-done), f.size-at, (number+1)*block-at))], at-number*block)
		_ = held.Close()
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

func (f *blocks) let() {
	if f.held != nil {
		_ = f.held.Close()
		f.held = nil
	}
}

// Close implements io.Closer. What is fetched ahead is waited for by nobody.
func (f *blocks) Close() error {
	f.let()
	return nil
}

// block opens a block of the bytes of a digest, which is fetched where this node does not have it.
func (b *Bucket) block(digest string, size, number int64) (*os.File, error) {
	return b.cache.block(digest, number, func(to *os.File) error {
		var err error
		for try := range tries {
			if try > 0 {
				select {
				case <-b.open.Done():
					return b.open.Err()
				case <-time.After(time.Duration(try*try) * 200 * time.Millisecond):
				}
			}
			if err = b.fetch(digest, size, number, to); !errors.Is(err, ErrAway) {
				return err
			}
		}
		return err
	})
}

// fetchPatience is how long a block may take to arrive.
const fetchPatience = time.Minute

// fetch writes a block into a file, from its start.
func (b *Bucket) fetch(digest string, size, number int64, to *os.File) error {
	ctx, cancel := context.WithTimeout(b.open, fetchPatience)
	defer cancel()
	from := number * block
	wanted := min(block, size-from)
	var o minio.GetObjectOptions
	if err := o.SetRange(from, from+wanted-1); err != nil {
		return err
	}
	in, _, _, err := minio.Core{Client: b.client}.GetObject(ctx, b.options.Name, b.key(digest), o)
	if errors.Is(b.told(err), ErrNotFound) { // a sweep set it aside since it was opened
		if _, err := b.look(ctx, digest); err != nil {
			return err
		}
		in, _, _, err = minio.Core{Client: b.client}.GetObject(ctx, b.options.Name, b.key(digest), o)
	}
	if err != nil {
		return b.told(err)
	}
	defer in.Close()
	content, err := io.ReadAll(io.LimitReader(in, wanted+1))
	if err == nil && int64(len(content)) != wanted {
		err = fmt.Errorf("%d of %d bytes arrived", len(content), wanted)
	}
	if err != nil {
		return b.told(err)
	}
	if wanted == size { // of longer ones, what they are is seen when they are checked
		if is := sha256.Sum256(content); hex.EncodeToString(is[:]) != digest {
			return fmt.Errorf("the bytes under %s were altered in the file store: they have the SHA-256 %x; put them back from a backup", digest, is)
		}
	}
	_, err = io.Copy(io.NewOffsetWriter(to, 0), bytes.NewReader(content))
	return err
}

package intake

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Format is how the rows of a table stand in its bytes, once they are unpacked.
type Format string

// The formats. A reading without one leaves it to the content.
const (
	Delimited Format = "delimited"
	JSONLines Format = "json_lines" // one object a line
	JSONArray Format = "json_array" // one array of objects
	Workbook  Format = "xlsx"
	Parquet   Format = "parquet"
)

// Formats lists the formats that can be declared.
var Formats = []Format{Delimited, JSONLines, JSONArray, Workbook, Parquet}

// Packing is how the bytes of a file are packed.
type Packing string

// The packings.
const (
	Unpacked  Packing = ""
	Gzip      Packing = "gzip"
	Zstandard Packing = "zstd"
	Zip       Packing = "zip"
)

const (
	packedAlways = 16 << 20 // bytes that may be unpacked whatever their ratio
	sniffLength  = 64 << 10
)

// Unpacking bounds what a packed file may hold, so that a few bytes cannot fill a disk or a day.
type Unpacking struct {
	Ratio int64 // unpacked bytes for each packed one
	Bytes int64 // in all
}

// UsualUnpacking is what is allowed where nobody says otherwise: tables are seldom packed to
// less than a hundredth.
var UsualUnpacking = Unpacking{Ratio: 200, Bytes: 200 << 30}

var unpacking atomic.Pointer[Unpacking]

// SetUnpacking sets what packed files may hold, for the process.
func SetUnpacking(u Unpacking) { unpacking.Store(&u) }

func allowed() Unpacking {
	if u := unpacking.Load(); u != nil {
		return *u
	}
	return UsualUnpacking
}

// TooLargeError says that a packed file holds more than it may.
type TooLargeError struct{ Allowed Unpacking }

// Error implements error.
func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the file unpacks to more than is allowed, %d times its own size or %d bytes, as files made to do harm do; where you trust it, unpack it yourself, or raise what is allowed (--unpack-ratio, --unpack-limit)", e.Allowed.Ratio, e.Allowed.Bytes)
}

// Unwrap makes errors.Is(err, ErrTooLarge) hold.
func (e *TooLargeError) Unwrap() error { return ErrTooLarge }

// content is what a file holds: its format, how it is packed, and how to get at it.
type content struct {
	format  Format
	packing Packing
	entry   string  // of a zip
	open    opening // of the unpacked bytes, from an offset on
	seeks   bool    // whether an offset is cheap
}

// Contents errors.
var (
	ErrTooLarge = errors.New("the file is larger than it may be")
	ErrEntry    = errors.New("the archive has several files")
)

// EntryError says which entries an archive has, when one has to be chosen.
type EntryError struct {
	Wanted  string
	Entries []string
}

// Error implements error.
func (e *EntryError) Error() string {
	list := strings.Join(e.Entries[:min(len(e.Entries), 20)], ", ")
	switch {
	case len(e.Entries) == 0:
		return "the archive has no file in it"
	case e.Wanted != "":
		return fmt.Sprintf("the archive has no file %q; it has %s", e.Wanted, list)
	}
	return fmt.Sprintf("the archive has %d files; name one with entry in the reading, or --entry: %s", len(e.Entries), list)
}

// Unwrap makes errors.Is(err, ErrEntry) hold.
func (e *EntryError) Unwrap() error { return ErrEntry }

// look finds out what a file holds, as far as the reading does not say.
func look(ctx context.Context, open opening, r Reading) (content, error) {
	head, err := headOf(ctx, open, sniffLength)
	if err != nil {
		return content{}, err
	}
	if IsWebPage(head) {
		return content{}, ErrWebPage
	}
	c := content{open: open, seeks: true}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		c.packing = Gzip
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		c.packing = Zstandard
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		if err := c.archive(ctx, r.Entry); err != nil {
			return c, err
		}
	}
	if c.packing != Unpacked {
		c.seeks = false
		c.open = c.unpacking(open)
		if head, err = headOf(ctx, c.open, sniffLength); err != nil {
			return c, err
		}
	}
	if c.format == "" {
		c.format = formatOf(head)
	}
	if r.Format != "" {
		if c.format != r.Format && (c.format == Workbook || c.format == Parquet || r.Format == Workbook || r.Format == Parquet) {
			return c, fmt.Errorf("%w: the reading says %s, and the content is %s", ErrFormat, r.Format, c.format)
		}
		c.format = r.Format
	}
	return c, nil
}

// ErrFormat says that a file is not of the declared format.
var ErrFormat = errors.New("the file is not of the declared format")

// ErrWebPage says that a file is a web page, as an address answers that has moved or wants a sign-in.
var ErrWebPage = errors.New("this is a web page and no table; ask its provider for the address of the file itself")

// IsWebPage reports whether bytes begin as a web page does (HTML Standard, 13.1).
func IsWebPage(head []byte) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n\f")
	for bytes.HasPrefix(text, []byte("<!--")) {
		_, after, ok := bytes.Cut(text, []byte("-->"))
		if !ok {
			return false
		}
		text = bytes.TrimLeft(after, " \t\r\n\f")
	}
	start := bytes.ToLower(text[:min(len(text), 20)])
	for _, tag := range []string{"<!doctype html", "<html"} {
		if rest, ok := bytes.CutPrefix(start, []byte(tag)); ok && (len(rest) == 0 || bytes.IndexByte([]byte(" \t\r\n\f>/"), rest[0]) >= 0) {
			return true
		}
	}
	return false
}

// formatOf tells the format by the first bytes of the unpacked content.
func formatOf(head []byte) Format {
	if bytes.HasPrefix(head, []byte("PAR1")) {
		return Parquet
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case len(text) == 0:
	case text[0] == '{' && looksLikeObject(text):
		return JSONLines
	case text[0] == '[':
		if rest := bytes.TrimLeft(text[1:], " \t\r\n"); len(rest) > 0 && (rest[0] == '{' && looksLikeObject(rest) || rest[0] == ']' && len(bytes.TrimSpace(rest[1:])) == 0) {
			return JSONArray
		}
	}
	return Delimited
}

// looksLikeObject reports whether text starts as an object does: { then a name and a colon, or }.
func looksLikeObject(text []byte) bool {
	rest := bytes.TrimLeft(text[1:], " \t\r\n")
	if len(rest) == 0 {
		return false
	}
	if rest[0] == '}' {
		return true
	}
	if rest[0] != '"' {
		return false
	}
	for i := 1; i < len(rest); i++ {
		switch rest[i] {
		case '\\':
			i++
		case '"':
			after := bytes.TrimLeft(rest[i+1:], " \t\r\n")
			return len(after) > 0 && after[0] == ':'
		}
	}
	return false
}

func headOf(ctx context.Context, open opening, size int) ([]byte, error) {
	in, err := open(ctx, 0)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	head := make([]byte, size)
	n, err := io.ReadFull(in, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF { // of ReadFull itself; wrapped, it is that of a packed file cut off
		err = nil
	}
	return head[:n], err
}

// archive looks into a zip: a workbook, or files of which one is the table.
func (c *content) archive(ctx context.Context, wanted string) error {
	z, done, err := openZip(ctx, c.open)
	if err != nil {
		return err
	}
	defer done()
	var entries []string
	for _, f := range z.File {
		if f.Name == "xl/workbook.xml" {
			c.format = Workbook
			return nil
		}
		base := path.Base(f.Name)
		if !f.FileInfo().IsDir() && !strings.HasPrefix(base, ".") && !strings.HasPrefix(f.Name, "__MACOSX/") {
			entries = append(entries, f.Name)
		}
	}
	c.packing = Zip
	switch {
	case wanted != "" && slices.Contains(entries, wanted):
		c.entry = wanted
	case wanted == "" && len(entries) == 1:
		c.entry = entries[0]
	default:
		return &EntryError{wanted, entries}
	}
	return nil
}

func openZip(ctx context.Context, open opening) (*zip.Reader, func(), error) {
	at, size, done, err := randomAccess(ctx, open)
	if err != nil {
		return nil, nil, err
	}
	z, err := zip.NewReader(at, size)
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("the archive is damaged: %w; ask its provider to send it again", err)
	}
	return z, done, nil
}

// randomAccess opens the bytes for reading at any place: where they are, or in a temporary
// file that done removes.
func randomAccess(ctx context.Context, open opening) (at io.ReaderAt, size int64, done func(), err error) {
	in, err := open(ctx, 0)
	if err != nil {
		return nil, 0, nil, err
	}
	if f, ok := in.(placed); ok {
		if size, err := f.Seek(0, io.SeekEnd); err == nil {
			return f, size, func() { _ = in.Close() }, nil
		}
	}
	defer in.Close()
	copied, err := os.CreateTemp("", "proudsieve-unpacked-*")
	if err != nil {
		return nil, 0, nil, err
	}
	_ = os.Remove(copied.Name()) // it is gone with the last who has it open
	size, err = io.Copy(copied, in)
	if err != nil {
		return nil, 0, nil, errors.Join(err, copied.Close())
	}
	return copied, size, func() { _ = copied.Close() }, nil
}

// unpacking opens the unpacked bytes; an offset is reached by reading up to it.
func (c *content) unpacking(open opening) opening {
	packing, entry := c.packing, c.entry
	return func(ctx context.Context, offset int64) (io.ReadCloser, error) {
		out, err := unpack(ctx, open, packing, entry)
		if err != nil || offset == 0 {
			return out, err
		}
		if _, err := io.CopyN(io.Discard, out, offset); err != nil {
			return nil, errors.Join(err, out.Close())
		}
		return out, nil
	}
}

func unpack(ctx context.Context, open opening, packing Packing, entry string) (io.ReadCloser, error) {
	if packing == Zip {
		z, done, err := openZip(ctx, open)
		if err != nil {
			return nil, err
		}
		f, err := z.Open(entry)
		if err != nil {
			done()
			return nil, fmt.Errorf("the archive is damaged: %w", err)
		}
		packed := int64(0)
		for _, one := range z.File {
			if one.Name == entry {
				packed = int64(one.CompressedSize64)
			}
		}
		return &unpacked{Reader: f, read: func() int64 { return packed }, close: func() { _ = f.Close(); done() }}, nil
	}
	in, err := open(ctx, 0)
	if err != nil {
		return nil, err
	}
	counted := &counting{in: in}
	buffered := bufio.NewReaderSize(counted, 256<<10)
	u := &unpacked{read: func() int64 { return counted.n }}
	switch packing {
	case Gzip:
		g, err := gzip.NewReader(buffered)
		if err != nil {
			return nil, errors.Join(damaged(err), in.Close())
		}
		u.Reader, u.close = g, func() { _ = in.Close() }
	case Zstandard:
		z, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(512<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, errors.Join(damaged(err), in.Close())
		}
		u.Reader, u.close = z, func() { z.Close(); _ = in.Close() }
	}
	return u, nil
}

func damaged(err error) error {
	return fmt.Errorf("the packed file is damaged or cut off: %w; ask its provider to send it again", err)
}

type counting struct {
	in io.Reader
	n  int64
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}

// unpacked reads packed bytes, and stops where they become unreasonably many.
type unpacked struct {
	io.Reader
	read  func() int64 // packed bytes read so far
	n     int64
	close func()
}

// Read implements io.Reader.
func (u *unpacked) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	u.n += int64(n)
	if may := allowed(); u.n > may.Bytes || u.n > packedAlways && u.n/may.Ratio > u.read() {
		return n, &TooLargeError{may}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		err = damaged(err)
	}
	return n, err
}

// Close implements io.Closer.
func (u *unpacked) Close() error {
	u.close()
	return nil
}

// Package content finds out what a file holds. Its bytes are opened once for that: what was
// seen of them (how they are packed, their beginning and their end) is handed on in a Content,
// from which every format reads.
//
// A format is a value that registers itself (Register), as image formats do in Go; package
// intake imports all of them. To add one: write a package beside json, workbook and parquet
// with what recognises it and a Converter, which turns it into delimited text, and name the
// package in intake/formats.go.
package content

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"proudsieve/core/intake/delimited"
)

const (
	// HeadSize is how many bytes of the beginning are kept, and TailSize of the end.
	HeadSize = 1 << 20
	TailSize = 64 << 10
	// ColumnLimit is how many columns a table may have.
	ColumnLimit = 10_000
)

// Format is how the rows of a table stand in its bytes, once they are unpacked.
type Format struct {
	Name    string // in readings
	Title   string // in evidence
	Because string // what it is recognised by, in evidence
	// Place orders the questions: the least is asked first.
	Place int
	// Recognises reports whether unpacked bytes begin as the format does; nil where InArchive tells.
	Recognises func(head []byte) bool
	// InArchive reports whether a zip is a file of the format.
	InArchive func(z *zip.Reader) bool
	// Sure says that its beginning allows nothing else, so that a reading cannot say otherwise.
	Sure bool
	// Converter turns it into delimited text; nil for what is that already. part names what is
	// read of it, as the sheet of a workbook; "" for what comes first.
	Converter func(c *Content, part string) Converter
}

// Converter writes the records of a file that is no delimited text.
type Converter interface {
	// Convert writes all records. ErrAgain says that it has to be begun anew.
	Convert(ctx context.Context, to *Records) error
}

// Columned is a Converter that knows its columns: a Streaming one at once, others once all
// records were written.
type Columned interface {
	Converter
	Columns(ctx context.Context) ([]string, error)
}

// Named is a Converter whose columns are named by a record, as in text.
type Named interface {
	Converter
	// Named returns the names that a line gives to all columns; nil for no names.
	Named(line int, names []string) []string
}

// Streaming is a Converter whose records are read as they come.
type Streaming interface {
	Columned
	Streams()
}

// Columnar is a Streaming converter of a format that is read by columns, and hands out the same cells without putting them into records.
type Columnar interface {
	Streaming
	// Blocks hands all rows to take, in their order; take has a block from then on.
	Blocks(ctx context.Context, take func(*delimited.Block) error) error
}

// Parted is a Converter of a file with several parts, of which one is read.
type Parted interface {
	Converter
	// Parts lists them, and which is read where none is chosen.
	Parts(ctx context.Context) (names []string, first string, err error)
}

var formats []*Format

// Register adds a format. It is called as the program starts.
func Register(f Format) {
	formats = append(formats, &f)
	slices.SortFunc(formats, func(a, b *Format) int { return cmp.Compare(a.Place, b.Place) })
}

// Formats lists the formats that can be declared.
func Formats() []string {
	names := make([]string, len(formats))
	for i, f := range formats {
		names[i] = f.Name
	}
	return names
}

// Guide lists every format with what it is known by, as a table in Markdown.
func Guide() string {
	var b strings.Builder
	b.WriteString("| format | what it is | known by |\n|---|---|---|\n")
	for _, f := range formats {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Name, f.Title, f.Because)
	}
	return b.String()
}

func formatOf(name string) *Format {
	for _, f := range formats {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Content is what a file holds.
type Content struct {
	Format  *Format
	Packing Packing
	Entry   string  // of a zip
	Open    Opening // of the unpacked bytes, from an offset on
	Places  Opening // of the unpacked bytes, for reading at any place
	Seeks   bool    // whether an offset is cheap
	Head    []byte  // the first HeadSize unpacked bytes
	Whole   bool    // Head is all there is
	Tail    []byte  // the last TailSize bytes; nil where that would mean to read all
}

// ErrFormat says that a file is not of the declared format.
var ErrFormat = errors.New("the file is not of the declared format")

// Look finds out what a file holds. format and entry are what a reading says of it, or empty.
func Look(ctx context.Context, opener Opener, format, entry string) (*Content, error) {
	c := &Content{Open: ending(opener), Seeks: true}
	if err := c.sniff(ctx, entry); err != nil {
		return nil, err
	}
	if c.Format == nil {
		c.Format = recognised(c.Head)
	}
	if format == "" {
		return c, nil
	}
	declared := formatOf(format)
	if declared == nil || c.Format != declared && (c.Format.Sure || declared.Sure) {
		return nil, fmt.Errorf("%w: the reading says %s, and the content is %s", ErrFormat, format, c.Format.Name)
	}
	c.Format = declared
	return c, nil
}

func recognised(head []byte) *Format {
	for _, f := range formats {
		if f.Recognises != nil && f.Recognises(head) {
			return f
		}
	}
	panic("content: no format takes what no other does")
}

// sniff opens the bytes, once, and sees how they are packed and how they begin and end.
func (c *Content) sniff(ctx context.Context, entry string) error {
	in, err := c.Open(ctx, 0)
	if err != nil {
		return err
	}
	head, whole, err := headOf(in)
	if err == nil && !whole {
		c.Tail = tailOf(in)
	}
	if err := errors.Join(err, in.Close()); err != nil {
		return err
	}
	if IsWebPage(head) {
		return ErrWebPage
	}
	c.remember(c.Open, head, whole)
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return c.unpack(ctx, Gzip)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return c.unpack(ctx, Zstandard)
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return c.archive(ctx, entry)
	}
	return nil
}

// unpack sees how the unpacked bytes begin. Those of a small file are at hand already.
func (c *Content) unpack(ctx context.Context, packing Packing) error {
	c.Packing, c.Seeks, c.Tail = packing, false, nil
	from := c.Open
	if packing == Zip {
		from = c.Places
	}
	open := unpackedFrom(from, packing, c.Entry)
	in, err := open(ctx, 0)
	if err != nil {
		return err
	}
	head, whole, err := headOf(in)
	c.remember(open, head, whole)
	return errors.Join(err, in.Close())
}

// remember keeps what was seen of bytes.
func (c *Content) remember(open Opening, head []byte, whole bool) {
	c.Head, c.Whole, c.Open, c.Places = head, whole, remembering(open, head, whole), open
	if whole {
		c.Places = c.Open
	}
}

// remembering opens bytes whose head was seen: they are opened anew only for what follows it.
func remembering(open Opening, head []byte, whole bool) Opening {
	return func(ctx context.Context, offset int64) (io.ReadCloser, error) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if whole {
			r := bytes.NewReader(head)
			_, err := r.Seek(offset, io.SeekStart)
			return &interruptiblePlaces{interruptible{ctx, io.NopCloser(r)}, r}, err
		}
		if offset >= int64(len(head)) {
			return open(ctx, offset)
		}
		return &headReader{ctx: ctx, open: open, head: head, at: offset}, nil
	}
}

// headReader reads a head, and opens what follows once it is wanted.
type headReader struct {
	ctx  context.Context
	open Opening
	head []byte
	at   int64
	rest io.ReadCloser
}

// Read implements io.Reader.
func (r *headReader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	if r.at < int64(len(r.head)) {
		n := copy(p, r.head[r.at:])
		r.at += int64(n)
		return n, nil
	}
	if r.rest == nil {
		var err error
		if r.rest, err = r.open(r.ctx, r.at); err != nil {
			return 0, err
		}
	}
	return r.rest.Read(p)
}

// Close implements io.Closer.
func (r *headReader) Close() error {
	if r.rest == nil {
		return nil
	}
	return r.rest.Close()
}

// headOf reads the beginning; whole says that nothing follows it.
func headOf(in io.Reader) (head []byte, whole bool, err error) {
	head = make([]byte, HeadSize)
	n, err := io.ReadFull(in, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF { // of ReadFull itself; wrapped, it is that of a packed file cut off
		return head[:n:n], true, nil
	}
	return head[:n], false, err
}

// tailOf reads the end of what can be read at any place; nil of other bytes.
func tailOf(in io.Reader) []byte {
	f, ok := in.(placed)
	if !ok {
		return nil
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil
	}
	tail := make([]byte, min(size, TailSize))
	if n, err := f.ReadAt(tail, size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) || n < len(tail) {
		return nil
	}
	return tail
}

// archive looks into a zip: a file of a format that is one, or files of which one is the table.
func (c *Content) archive(ctx context.Context, wanted string) error {
	z, done, err := OpenZip(ctx, c.Places)
	if err != nil {
		return err
	}
	defer done()
	for _, f := range formats {
		if f.InArchive != nil && f.InArchive(z) {
			c.Format, c.Head, c.Tail = f, nil, nil
			return nil
		}
	}
	var entries []string
	for _, f := range z.File {
		base := path.Base(f.Name)
		if !f.FileInfo().IsDir() && !strings.HasPrefix(base, ".") && !strings.HasPrefix(f.Name, "__MACOSX/") {
			entries = append(entries, f.Name)
		}
	}
	switch {
	case wanted != "" && slices.Contains(entries, wanted):
		c.Entry = wanted
	case wanted == "" && len(entries) == 1:
		c.Entry = entries[0]
	default:
		return &EntryError{wanted, entries}
	}
	return c.unpack(ctx, Zip)
}

// unpackedFrom opens the unpacked bytes; an offset is reached by reading up to it.
func unpackedFrom(open Opening, packing Packing, entry string) Opening {
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
		if rest, ok := bytes.CutPrefix(start, []byte(tag)); ok &&
			(len(rest) == 0 || bytes.IndexByte([]byte(" \t\r\n\f>/"), rest[0]) >= 0) {
			return true
		}
	}
	return false
}

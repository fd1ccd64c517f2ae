package intake

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/unicode"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// Opened is a file whose bytes were opened and seen: what it holds, and its text. What is no
// delimited text has been turned into that. Its reading need not be known yet.
type Opened struct {
	*content.Content
	// Parts are those of the file, as the sheets of a workbook, and Part the one that is read.
	Parts []string
	Part  string
	// Text is the beginning of the text; nil of what is read as it streams. Ends says that it is
	// all there is.
	Text []byte
	Ends bool

	converter content.Converter
	spool     *content.Spool
}

// Begin opens a file, as far as a reading says what it is. It returns one of the errors of the
// formats, content.ErrEntry, content.ErrFormat, content.ErrWebPage, or the opener's error.
func Begin(ctx context.Context, open content.Opener, r Reading) (*Opened, error) {
	c, err := content.Look(ctx, open, r.Format, r.Entry)
	if err != nil {
		return nil, err
	}
	o := &Opened{Content: c, Text: c.Head, Ends: c.Whole, Part: r.Sheet}
	if c.Format.Converter == nil {
		return o, nil
	}
	o.converter, o.Text = c.Format.Converter(c, r.Sheet), nil
	if parted, ok := o.converter.(content.Parted); ok {
		first := ""
		if o.Parts, first, err = parted.Parts(ctx); err != nil {
			return nil, err
		}
		if o.Part == "" {
			o.Part = first
		}
	}
	if _, streams := o.converter.(content.Streaming); streams {
		return o, nil
	}
	if o.spool, err = content.Convert(ctx, o.converter); err != nil {
		return nil, err
	}
	o.Text, o.Ends, err = o.spool.Head()
	return o, err
}

// Converted reports whether the file is no delimited text of itself.
func (o *Opened) Converted() bool { return o.converter != nil }

// NamedByRecord reports whether a record of the file names its columns, as in text.
func (o *Opened) NamedByRecord() bool {
	_, named := o.converter.(content.Named)
	return named
}

// Close gives back what holds the text; files that are open on it are of no use any more.
func (o *Opened) Close() error {
	if o.spool == nil {
		return nil
	}
	return o.spool.Close()
}

// File is a table in a file with its reading; it is a table.Source.
type File struct {
	delimited.Text
	opened  *Opened
	reading Reading
	renamed map[string]string // the name that a column has in the file, by the one that it is read by
	// Estimated says which of its cells are estimates; nil for none.
	Estimated *table.Marks
	placesOf
}

// Marks implements table.Marked.
func (f *File) Marks() *table.Marks { return f.Estimated }

// Open opens a file by its reading, which must have passed Check. Beside the errors of Begin it
// returns ErrEmpty, ErrBinary, ErrNoHeader or ErrTooMany.
func Open(ctx context.Context, open content.Opener, r Reading) (*File, error) {
	o, err := Begin(ctx, open, r)
	if err != nil {
		return nil, err
	}
	return o.File(ctx, r)
}

// File reads the header of a file that was opened.
func (o *Opened) File(ctx context.Context, r Reading) (*File, error) {
	f := &File{opened: o, reading: r, Text: delimited.Text{Closing: r.Closing, ClosingRecords: r.ClosingLines, Converted: o.Converted()}}
	if !f.Converted {
		return f, f.text(r)
	}
	f.Layout = delimited.Standard
	f.Body = delimited.Checkpoint{Row: 1, Line: 1}
	if streaming, ok := o.converter.(content.Streaming); ok {
		f.Bytes = func(ctx context.Context, _ int64) (io.ReadCloser, error) {
			return content.Stream(ctx, streaming), nil
		}
		if columnar, ok := streaming.(content.Columnar); ok {
			f.Blocks = func(ctx context.Context) (delimited.Blocks, error) { return content.StreamBlocks(ctx, columnar), nil }
		}
	} else {
		f.Bytes = o.spool.Open
		f.Beside = func() delimited.Noted { return o.spool.Noted(f.Names) }
	}
	if named, ok := o.converter.(content.Named); ok {
		return f, f.header(o.Text, named.Named)
	}
	names, err := o.converter.(content.Columned).Columns(ctx)
	if err == nil && len(names) == 0 {
		err = ErrEmpty
	}
	if err == nil {
		f.name(names, 0)
	}
	return f, err
}

// text settles how delimited text is read.
func (f *File) text(r Reading) error {
	wide := strings.HasPrefix(r.Encoding, "utf-16")
	f.Layout = delimited.Layout{Delimiter: r.Delimiter[0], LineEnd: '\n'}
	if r.Quote != "none" {
		f.Quote = r.Quote[0]
	}
	f.Characters, f.Seeks, f.Bytes = charmaps[r.Encoding], f.opened.Seeks && !wide, f.opened.Open
	head := f.opened.Text
	if wide {
		f.Bytes = f.decoded
		var err error
		if head, err = DecodeWide(r.Encoding, head); err != nil {
			return err
		}
	}
	text := bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))
	if len(bytes.TrimSpace(text)) == 0 {
		return ErrEmpty
	}
	if bytes.IndexByte(head[:min(len(head), 8192)], 0) >= 0 {
		return ErrBinary
	}
	if bytes.IndexByte(head, '\n') < 0 && bytes.IndexByte(head, '\r') >= 0 {
		f.LineEnd = '\r'
	}
	f.Body.Offset = int64(len(head) - len(text))
	return f.header(text, func(_ int, names []string) []string { return names })
}

// decoded opens the text in an encoding whose delimiters are those of ASCII.
func (f *File) decoded(ctx context.Context, _ int64) (io.ReadCloser, error) {
	in, err := f.opened.Open(ctx, 0)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{utf16(f.reading.Encoding, in), in}, nil
}

// DecodeWide turns the beginning of a text in an encoding of two bytes into UTF-8.
func DecodeWide(encoding string, head []byte) ([]byte, error) {
	return io.ReadAll(utf16(encoding, bytes.NewReader(head[:len(head)&^1])))
}

// utf16 turns text in an encoding of two bytes into UTF-8.
func utf16(encoding string, in io.Reader) io.Reader {
	order := unicode.LittleEndian
	if encoding == "utf-16be" {
		order = unicode.BigEndian
	}
	return unicode.UTF16(order, unicode.UseBOM).NewDecoder().Reader(in)
}

// header finds where the data starts, and names the columns; named says what a line's cells
// name all of them.
func (f *File) header(text []byte, named func(line int, names []string) []string) error {
	line := int64(1)
	for ; line < int64(f.reading.HeaderLine); line++ {
		end := bytes.IndexByte(text, f.LineEnd)
		if end < 0 {
			return ErrNoHeader
		}
		text = text[end+1:]
		f.Body.Offset += int64(end) + 1
		f.Skipped++
	}
	f.Body.Row, f.Body.Line = 1, line
	names, end, lines, ok := f.Header(text)
	none := f.reading.HeaderLine == NoHeader
	switch {
	case len(names) > content.ColumnLimit:
		return ErrTooMany
	case none:
		if names = named(0, names); len(names) == 0 {
			return ErrEmpty
		}
		for i := range names {
			names[i] = "column_" + strconv.Itoa(i+1)
		}
		f.Names = names
		return nil
	case !ok:
		return ErrNoHeader
	}
	f.Body.Offset += int64(end)
	f.Body.Line += lines
	f.name(named(int(line), names), line)
	return nil
}

// Format returns the format that the file was found to have, and how it is packed.
func (f *File) Format() (string, content.Packing) {
	return f.opened.Content.Format.Name, f.opened.Packing
}

// name gives the columns their names; those that are blank or not the first of their kind are defects.
func (f *File) name(names []string, line int64) {
	taken := map[string]bool{}
	names = f.rename(names)
	for i, given := range names {
		given = strings.TrimSpace(given)
		name := given
		if name == "" {
			name = "column_" + strconv.Itoa(i+1)
			f.Defects = append(f.Defects, table.Defect{Kind: table.BlankName, Line: line, Column: name})
		}
		base := name
		for n := 2; taken[name]; n++ {
			name = base + "_" + strconv.Itoa(n)
		}
		if given != "" && name != given {
			f.Defects = append(f.Defects, table.Defect{Kind: table.RepeatedName, Line: line, Column: name,
				Detail: given})
		}
		taken[name] = true
		f.Names = append(f.Names, name)
	}
}

// rename gives columns the names that they are declared by now.
func (f *File) rename(names []string) []string {
	if len(f.reading.Renamed) == 0 {
		return names
	}
	there := map[string]bool{}
	for _, name := range names {
		there[strings.TrimSpace(name)] = true
	}
	out := slices.Clone(names)
	for i, name := range out {
		was := strings.TrimSpace(name)
		if now, ok := f.reading.Renamed[was]; ok && !there[now] {
			out[i], there[now] = now, true
			if f.renamed == nil {
				f.renamed = map[string]string{}
			}
			f.renamed[now] = was
		}
	}
	return out
}

// Renamed returns the names that columns have in the file, by those that they are read by now; only those that differ.
func (f *File) Renamed() map[string]string { return f.renamed }

// Reading returns the reading in force.
func (f *File) Reading() Reading { return f.reading }

// Close gives back what holds the text. A file that is not closed gives it back once nobody
// knows of it any more.
func (f *File) Close() error { return errors.Join(f.places.close(), f.opened.Close()) }

package export

import (
	"compress/flate"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Format is a kind of file.
type Format struct {
	Name      string // as it is asked for, and as files of it end
	Says      string
	MediaType string
	// Typed says that its columns have types, which texts that are none of these do not fit.
	Typed bool
	// Packs says that it is packed already.
	Packs bool
	// MostRows is how many rows it can hold; 0 for any number.
	MostRows int64
	// Unheld says why it cannot hold a text as it is, or nothing; nil where it can hold any.
	Unheld func(text string) string
	begin  func(out io.Writer, f *File) (writer, error)
}

// writer writes lines to a file. Its end is called in any case, to let go of what it holds; whole says that all was written.
type writer interface {
	write(Lines) error
	end(whole bool) error
}

// Formats are all kinds of files.
var Formats = []*Format{&commaSeparated, &jsonLines, &parquetFile, &workbook}

// FormatNames are the names of all kinds of files.
func FormatNames() (names []string) {
	for _, f := range Formats {
		names = append(names, f.Name)
	}
	return names
}

// FormatOf returns a kind of file by its name; nil for none.
func FormatOf(name string) *Format {
	for _, f := range Formats {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Packings are the ways to pack a file.
var Packings = []string{"gz", "zst"}

// ByName tells the kind of file and the packing by the ending of a file's name, as in results.csv.gz.
func ByName(name string) (format *Format, packing string) {
	parts := strings.Split(strings.ToLower(name), ".")
	if n := len(parts); n > 1 {
		for _, p := range Packings {
			if parts[n-1] == p {
				packing, parts = p, parts[:n-1]
				break
			}
		}
	}
	return FormatOf(parts[len(parts)-1]), packing
}

type unpacked struct{ io.Writer }

func (unpacked) Close() error { return nil }

// pack packs what is written. The same content gives the same bytes.
func pack(out io.Writer, packing string) (io.WriteCloser, error) {
	switch packing {
	case "gz":
		return gzip.NewWriterLevel(out, flate.DefaultCompression)
	case "zst":
		return zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
	}
	return unpacked{out}, nil
}

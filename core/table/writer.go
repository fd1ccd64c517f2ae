package table

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Writer writes batches as a table of ours: CSV (RFC 4180) in UTF-8 with commas, a header and lines that end in a line feed.
type Writer struct {
	out     io.Writer
	names   []string
	started bool
	room    []byte
}

// NewWriter returns a Writer of a table with the given columns.
func NewWriter(out io.Writer, names []string) *Writer { return &Writer{out: out, names: names} }

// Write appends the rows of a batch.
func (w *Writer) Write(b *Batch) error {
	w.room = AppendRows(w.room[:0], b)
	return w.WriteRows(w.room)
}

// WriteRows appends what AppendRows made.
func (w *Writer) WriteRows(rows []byte) error {
	if err := w.Flush(); err != nil {
		return err
	}
	_, err := w.out.Write(rows)
	return err
}

// Flush writes what is still held back: a table without rows gets its header.
func (w *Writer) Flush() error {
	if w.started {
		return nil
	}
	w.started = true
	var line []byte
	for c, name := range w.names {
		line = appendCell(line, c, name)
	}
	_, err := w.out.Write(endLine(line, 0))
	return err
}

// AppendRows appends the rows of a batch as lines of CSV. It may be called by several goroutines at once.
func AppendRows(out []byte, b *Batch) []byte {
	quoted := make([][]bool, len(b.Columns)) // per text
	for c := range b.Columns {
		quoted[c] = make([]bool, len(b.Columns[c].Texts))
		for i, text := range b.Columns[c].Texts {
			quoted[c][i] = wantsQuotes(text)
		}
	}
	for at := range b.Rows {
		from := len(out)
		for c := range b.Columns {
			code := b.Columns[c].Codes[at]
			if text := b.Columns[c].Texts[code]; quoted[c][code] {
				out = appendCell(out, c, text)
			} else {
				if c > 0 {
					out = append(out, ',')
				}
				out = append(out, text...)
			}
		}
		out = endLine(out, from)
	}
	return out
}

// endLine ends a line; a lone empty cell is quoted, or it would be a blank line.
func endLine(out []byte, from int) []byte {
	if len(out) == from {
		out = append(out, '"', '"')
	}
	return append(out, '\n')
}

func appendCell(out []byte, column int, text string) []byte {
	if column > 0 {
		out = append(out, ',')
	}
	if !wantsQuotes(text) {
		return append(out, text...)
	}
	out = append(out, '"')
	out = append(out, strings.ReplaceAll(text, `"`, `""`)...)
	return append(out, '"')
}

// wantsQuotes tells of the texts that encoding/csv quotes too: those that would be read as something else, or by some
// readers without the spaces before them.
func wantsQuotes(text string) bool {
	if text == "" {
		return false
	}
	if text == `\.` || strings.ContainsAny(text, ",\"\r\n") {
		return true
	}
	first, _ := utf8.DecodeRuneInString(text)
	return unicode.IsSpace(first)
}

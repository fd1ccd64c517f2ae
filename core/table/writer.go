package table

import (
	"io"
	"slices"
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
	type column struct {
		texts []string // quoted where they want to be
		codes []uint32
	}
	columns := make([]column, len(b.Columns))
	for c := range b.Columns {
		texts := b.Columns[c].Texts
		for i, text := range texts {
			if !wantsQuotes(text) {
				continue
			}
			if &texts[0] == &b.Columns[c].Texts[0] {
				texts = slices.Clone(texts)
			}
			texts[i] = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
		}
		columns[c] = column{texts, b.Columns[c].Codes[:b.Len()]}
	}
	for at := range b.Rows {
		from := len(out)
		for c := range columns {
			if c > 0 {
				out = append(out, ',')
			}
			out = append(out, columns[c].texts[columns[c].codes[at]]...)
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
	if first := text[0]; first <= ' ' || first == '\\' || first >= utf8.RuneSelf {
		if r, _ := utf8.DecodeRuneInString(text); text == `\.` || unicode.IsSpace(r) {
			return true
		}
	}
	for i := range len(text) {
		if c := text[i]; c <= ',' && (c == ',' || c == '"' || c == '\n' || c == '\r') {
			return true
		}
	}
	return false
}

// Harmless puts an apostrophe before a text that a spreadsheet would run: one that begins with
// = + - @, a tab or a line end, unless it is a number.
func Harmless(text string) string {
	if text == "" || strings.IndexByte("=+-@\t\r\n", text[0]) < 0 {
		return text
	}
	if _, ok := ParseDecimal(text); ok && text[0] != '=' && text[0] != '@' {
		return text
	}
	return "'" + text
}

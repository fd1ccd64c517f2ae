package table

import (
	"encoding/csv"
	"io"
)

// Writer writes batches as a table of ours: CSV in UTF-8 with commas and a header.
type Writer struct {
	csv     *csv.Writer
	out     io.Writer
	names   []string
	started bool
}

// NewWriter returns a Writer of a table with the given columns.
func NewWriter(out io.Writer, names []string) *Writer {
	return &Writer{csv: csv.NewWriter(out), out: out, names: names}
}

// Write appends the rows of a batch.
func (w *Writer) Write(b *Batch) error {
	if err := w.header(); err != nil {
		return err
	}
	record := make([]string, len(b.Columns))
	for i := range b.Rows {
		for c := range b.Columns {
			record[c] = b.Columns[c].At(i)
		}
		if err := w.record(record); err != nil {
			return err
		}
	}
	return nil
}

func (w *Writer) header() error {
	if w.started {
		return nil
	}
	w.started = true
	return w.record(w.names)
}

// record writes one record; a lone empty cell is quoted, or it would be a blank line.
func (w *Writer) record(cells []string) error {
	if len(cells) == 1 && cells[0] == "" {
		w.csv.Flush()
		if err := w.csv.Error(); err != nil {
			return err
		}
		_, err := io.WriteString(w.out, "\"\"\n")
		return err
	}
	return w.csv.Write(cells)
}

// Flush writes what is still held back; a table without rows gets its header.
func (w *Writer) Flush() error {
	if err := w.header(); err != nil {
		return err
	}
	w.csv.Flush()
	return w.csv.Error()
}

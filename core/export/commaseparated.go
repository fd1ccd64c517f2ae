package export

import (
	"encoding/csv"
	"io"

	"proudsieve/core/table"
)

// commaSeparated is CSV (RFC 4180) in UTF-8: values in standard form, nothing where something is missing.
var commaSeparated = Format{Name: "csv", Says: "CSV", MediaType: "text/csv; charset=utf-8",
	begin: func(out io.Writer, f *File) (writer, error) {
		w := &csvWriter{csv.NewWriter(out), f.asked.Exact, make([]string, len(f.Columns))}
		for i, c := range f.Columns {
			w.line[i] = w.text(c.Name)
		}
		return w, w.Write(w.line)
	}}

type csvWriter struct {
	*csv.Writer
	exact bool
	line  []string
}

func (w *csvWriter) text(text string) string {
	if w.exact {
		return text
	}
	return table.Harmless(text)
}

func (w *csvWriter) write(lines Lines) error {
	for _, line := range lines {
		for i, v := range line {
			w.line[i] = w.text(v.Standard())
		}
		if err := w.Write(w.line); err != nil {
			return err
		}
	}
	return nil
}

func (w *csvWriter) end(bool) error {
	w.Flush()
	return w.Error()
}

package export

import (
	"bufio"
	"encoding/json"
	"io"
	"strings"

	"proudsieve/core/table"
)

// jsonLines is JSON Lines: an object for each row with all columns in their order. Numbers have all their digits, dates and
// datetimes are ISO 8601, and null stands for what is missing.
var jsonLines = Format{Name: "jsonl", Says: "JSON Lines", MediaType: "application/x-ndjson", Typed: true,
	begin: func(out io.Writer, f *File) (writer, error) {
		w := &jsonWriter{out: bufio.NewWriterSize(out, 1<<16)}
		for i, c := range f.Columns {
			name, err := plainJSON(c.Name)
			if err != nil {
				return nil, err
			}
			before := byte(',')
			if i == 0 {
				before = '{'
			}
			w.names = append(w.names, append(append([]byte{before}, name...), ':'))
		}
		return w, nil
	}}

type jsonWriter struct {
	out   *bufio.Writer
	names [][]byte // with what stands before and after them
	room  []byte
}

// plainJSON writes a text as JSON, with < and & as they are.
func plainJSON(text string) ([]byte, error) {
	var out strings.Builder
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	err := e.Encode(text)
	return []byte(strings.TrimSuffix(out.String(), "\n")), err
}

func (w *jsonWriter) write(lines Lines) error {
	for _, line := range lines {
		room := w.room[:0]
		for i, v := range line {
			room = append(room, w.names[i]...)
			switch v.Kind {
			case table.Missing:
				room = append(room, "null"...)
			case table.Number, table.Boolean:
				room = append(room, v.Standard()...)
			default:
				text, err := plainJSON(isoText(v))
				if err != nil {
					return err
				}
				room = append(room, text...)
			}
		}
		w.room = append(room, '}', '\n')
		if _, err := w.out.Write(w.room); err != nil {
			return err
		}
	}
	return nil
}

// isoText writes a datetime with a T, as ISO 8601 has it.
func isoText(v table.Value) string {
	if text := v.Standard(); v.Kind == table.Instant {
		return strings.Replace(text, " ", "T", 1)
	}
	return v.Standard()
}

func (w *jsonWriter) end(bool) error { return w.out.Flush() }

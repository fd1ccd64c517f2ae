package delimited

import "bytes"

// Record is a record by itself, with the line that it stands on.
type Record struct {
	Line  int64
	Cells []string
}

// Records takes the first records of a text apart, which is all there is of it; blank lines are left out.
func (t *Text) Records(text []byte, most int) []Record {
	s := t.scanner()
	var (
		out   []Record
		cells []cell
	)
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	for line := int64(1); len(text) > 0 && len(out) < most; {
		r, ok := s.first(stretch{text, true})
		if !ok {
			return out
		}
		if r.form != blankRecord {
			cells = s.appendCells(cells[:0], text[:r.end], r.form)
			one := Record{Line: line, Cells: make([]string, len(cells))}
			for i, c := range cells {
				one.Cells[i] = string(c.content(text[:r.end]))
			}
			out = append(out, one)
		}
		line += r.lines
		text = text[r.end:]
	}
	return out
}

// Header takes the record that a text starts with apart, however it is: its cells, and where the next one starts.
func (t *Text) Header(text []byte) (names []string, end int, lines int64, ok bool) {
	s := t.scanner()
	r, ok := s.first(stretch{text, true})
	if !ok || t.Converted && r.form == blankRecord {
		return nil, 0, 0, false
	}
	for _, c := range s.appendCells(nil, text[:r.end], r.form) {
		name, _ := Decode(t.Characters, c.content(text[:r.end]))
		names = append(names, name)
	}
	return names, r.end, r.lines, true
}

package fix

import (
	"bytes"
	"encoding/json"
	"io"
	"strconv"

	"proudsieve/core/table"
)

// LogEntry is one entry of the change log: cells of one column that had one text and have another, or a row that left the
// table. Rows are counted as the table has them that arrived, or, after steps that make other rows, as the last of those
// made them.
type LogEntry struct {
	Step   int               `json:"step"` // from 1; 0 for what a table of ours cannot hold
	Row    uint32            `json:"row"`  // the first of Rows
	Line   int64             `json:"line,omitempty"`
	Column string            `json:"column,omitempty"` // of cells
	Old    string            `json:"old"`
	New    string            `json:"new"`
	Rows   []uint32          `json:"rows,omitempty"`    // all of them, where there are several
	Lines  []int64           `json:"lines,omitempty"`   // of Rows
	Gone   map[string]string `json:"gone,omitempty"`    // every cell of a row that left
	KeptBy uint32            `json:"kept_by,omitempty"` // the row that stays in its place
	Stays  map[string]string `json:"stays,omitempty"`   // every cell of that, where it differs
	Reason string            `json:"reason"`
}

// Count returns how many cells or rows the entry speaks of.
func (c *LogEntry) Count() int64 { return int64(max(len(c.Rows), 1)) }

// appendText appends a text as JSON.
func appendText(out []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			quoted, _ := json.Marshal(text) // a text can always be written
			return append(out, quoted...)
		}
	}
	return append(append(append(out, '"'), text...), '"')
}

// cellsChanged appends the entry of cells that had one text and have another: that of the first row, and of those after it.
func cellsChanged(out []byte, s *bound, b *table.Batch, column, old, now string, first int32, next []int32) []byte {
	out = append(append(out, s.entry...), `"row":`...)
	out = strconv.AppendUint(out, uint64(b.Rows[first]), 10)
	if b.Lines[first] > 0 {
		out = strconv.AppendInt(append(out, `,"line":`...), b.Lines[first], 10)
	}
	out = appendText(append(out, `,"column":`...), column)
	out = appendText(append(out, `,"old":`...), old)
	out = appendText(append(out, `,"new":`...), now)
	if next[first] >= 0 {
		out = append(out, `,"rows":[`...)
		for at := first; at >= 0; at = next[at] {
			if at != first {
				out = append(out, ',')
			}
			out = strconv.AppendUint(out, uint64(b.Rows[at]), 10)
		}
		if out = append(out, ']'); b.Lines[first] > 0 {
			out = append(out, `,"lines":[`...)
			for at := first; at >= 0; at = next[at] {
				if at != first {
					out = append(out, ',')
				}
				out = strconv.AppendInt(out, b.Lines[at], 10)
			}
			out = append(out, ']')
		}
	}
	return append(out, s.reason...)
}

// rowGone appends the entry of a row that leaves.
func rowGone(out []byte, s *bound, b *table.Batch, at int, leaves Leaves) []byte {
	out = append(append(out, s.entry...), `"row":`...)
	out = strconv.AppendUint(out, uint64(b.Rows[at]), 10)
	if b.Lines[at] > 0 {
		out = strconv.AppendInt(append(out, `,"line":`...), b.Lines[at], 10)
	}
	out = appendCellsOf(append(out, `,"old":"","new":"","gone":`...), s.before.Names, func(c int) string {
		return b.Columns[c].At(at)
	})
	if leaves.KeptBy > 0 {
		out = strconv.AppendUint(append(out, `,"kept_by":`...), uint64(leaves.KeptBy), 10)
	}
	if leaves.Stays != nil {
		out = appendCellsOf(append(out, `,"stays":`...), s.before.Names, func(c int) string { return leaves.Stays[c] })
	}
	return append(out, s.reason...)
}

func appendCellsOf(out []byte, names []string, text func(c int) string) []byte {
	out = append(out, '{')
	for c, name := range names {
		if c > 0 {
			out = append(out, ',')
		}
		out = appendText(append(appendText(out, name), ':'), text(c))
	}
	return append(out, '}')
}

// sectionHeld is how many bytes of each part of a log are held in memory before they go to a file. Tests lower it.
var sectionHeld = 1 << 20

// sections gather a log by its steps, so that it can be read step by step.
type sections struct {
	held  [][]byte
	files []*sharedFile
	sizes []int64
}

func newSections(n int) *sections {
	return &sections{make([][]byte, n), make([]*sharedFile, n), make([]int64, n)}
}

func (s *sections) add(i int, raw []byte) error {
	s.sizes[i] += int64(len(raw))
	if s.held[i] = append(s.held[i], raw...); len(s.held[i]) < sectionHeld {
		return nil
	}
	if s.files[i] == nil {
		f, err := newSharedFile("log")
		if err != nil {
			return err
		}
		s.files[i] = f
	}
	_, err := s.files[i].Write(s.held[i])
	s.held[i] = s.held[i][:0]
	return err
}

// read returns what a section holds; nothing is added to it then.
func (s *sections) read(i int) (io.Reader, error) {
	if s.files[i] == nil {
		return bytes.NewReader(s.held[i]), nil
	}
	onDisk := s.sizes[i] - int64(len(s.held[i]))
	return io.MultiReader(io.NewSectionReader(s.files[i], 0, onDisk), bytes.NewReader(s.held[i])), nil
}

// writeTo writes all sections, one after the other, and returns where each begins and the last one ends.
func (s *sections) writeTo(out io.Writer) ([]int64, error) {
	starts := []int64{0}
	for i := range s.files {
		in, err := s.read(i)
		if err != nil {
			return nil, err
		}
		if _, err := io.Copy(out, in); err != nil {
			return nil, err
		}
		starts = append(starts, starts[i]+s.sizes[i])
	}
	return starts, nil
}

func (s *sections) close() {
	for _, f := range s.files {
		if f != nil {
			_ = f.Close()
		}
	}
}

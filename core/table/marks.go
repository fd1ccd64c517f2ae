package table

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Mark says of cells of one column that they are estimates, and how these came about.
type Mark struct {
	Column string
	Method string // of estimating, as a fix plan names it
	Reason string // of the step that estimated
	Seed   uint64
	Draws  int // of each cell; the table has the first
	Rows   *RowSet
}

// Marks are the marks of a table. They belong to it as a file of their own: a cell of the table does not show that it is
// an estimate. The nil Marks are those of a table without estimates.
type Marks struct {
	All []Mark
	// Digest is the SHA-256 of the file that they were read from, in hexadecimal; empty of those that were not.
	Digest string
}

// Marked is a source that knows which of its cells are estimates.
type Marked interface{ Marks() *Marks }

// MarksOf returns the marks of a table; nil where it has none.
func MarksOf(s Source) *Marks {
	if m, ok := s.(Marked); ok {
		return m.Marks()
	}
	return nil
}

// In returns the rows of which the cell in a column is an estimate; nil for none. What it returns must not be changed.
func (m *Marks) In(column string) *RowSet {
	if m == nil {
		return nil
	}
	var all *RowSet
	for i := range m.All {
		switch one := &m.All[i]; {
		case one.Column != column || one.Rows.IsEmpty():
		case all == nil:
			all = one.Rows
		default:
			both := all.Clone()
			both.Or(one.Rows)
			all = both
		}
	}
	return all
}

// Count returns how many cells are estimates.
func (m *Marks) Count() (n int64) {
	if m == nil {
		return 0
	}
	for i := range m.All {
		n += int64(m.All[i].Rows.GetCardinality())
	}
	return n
}

// Columns returns the columns that have estimates, in the order of the names that are given.
func (m *Marks) Columns(names []string) []string {
	var out []string
	for _, name := range names {
		if m.In(name) != nil {
			out = append(out, name)
		}
	}
	return out
}

// markLine is a line of a file of marks.
type markLine struct {
	Column string      `json:"column"`
	Method string      `json:"method"`
	Reason string      `json:"reason"`
	Seed   uint64      `json:"seed"`
	Draws  int         `json:"draws"`
	Rows   [][2]uint32 `json:"rows"` // the first and the last of rows that follow on each other, ascending
}

const (
	// spansInLine is how many stretches of rows a line of a file of marks has at most.
	spansInLine = 1 << 12
	// markLineBytes bounds a line that is read.
	markLineBytes = 1 << 20
)

// Write writes the marks as JSON Lines: the same marks give the same bytes.
func (m *Marks) Write(out io.Writer) error {
	if m == nil {
		return nil
	}
	w := bufio.NewWriter(out)
	lines := json.NewEncoder(w)
	for i := range m.All {
		one := &m.All[i]
		line := markLine{one.Column, one.Method, one.Reason, one.Seed, one.Draws, [][2]uint32{}}
		flush := func() error {
			err := lines.Encode(line)
			line.Rows = line.Rows[:0]
			return err
		}
		for it := one.Rows.Iterator(); it.HasNext(); {
			row := it.Next()
			if n := len(line.Rows); n > 0 && line.Rows[n-1][1]+1 == row {
				line.Rows[n-1][1] = row
				continue
			}
			if len(line.Rows) == spansInLine {
				if err := flush(); err != nil {
					return err
				}
			}
			line.Rows = append(line.Rows, [2]uint32{row, row})
		}
		if len(line.Rows) > 0 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return w.Flush()
}

// ErrMarks is the error of a file that holds no marks as Write writes them.
var ErrMarks = errors.New("these are no marks of estimates")

// ReadMarks reads what Write wrote.
func ReadMarks(in io.Reader) (*Marks, error) {
	m, sum := &Marks{}, sha256.New()
	lines := bufio.NewScanner(io.TeeReader(in, sum))
	lines.Buffer(nil, markLineBytes)
	number := 0
	for lines.Scan() {
		number++
		var line markLine
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
			return nil, fmt.Errorf("%w: line %d: %v", ErrMarks, number, err)
		}
		how := Mark{Column: line.Column, Method: line.Method, Reason: line.Reason, Seed: line.Seed, Draws: line.Draws}
		at := slices.IndexFunc(m.All, func(one Mark) bool {
			one.Rows = nil
			return one == how
		})
		if at < 0 {
			how.Rows = NewRowSet()
			at, m.All = len(m.All), append(m.All, how)
		}
		for _, span := range line.Rows {
			if span[0] < 1 || span[0] > span[1] {
				return nil, fmt.Errorf("%w: line %d: rows %d to %d", ErrMarks, number, span[0], span[1])
			}
			m.All[at].Rows.AddRange(uint64(span[0]), uint64(span[1])+1)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMarks, err)
	}
	m.Digest = hex.EncodeToString(sum.Sum(nil))
	return m, nil
}

// Beside names a column that stands beside one and says something of it, as "_estimated"; none of the names is that one.
func Beside(name, what string, names []string) string {
	for beside := name + what; ; beside += "_" {
		if !slices.Contains(names, beside) {
			return beside
		}
	}
}

package fix

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"proudsieve/core/table"
)

// LogQuery says which changes of a log are meant; what is left empty restricts nothing.
type LogQuery struct {
	Step   int // from 1
	Column string
	// Gone asks for rows that left, or for cells alone.
	Gone *bool
}

// LogCursor is where reading a log goes on: the entry at a place in bytes, and how many of its cells were read.
type LogCursor struct {
	Offset int64
	Cells  int
}

// String writes the cursor as ParseLogCursor reads it.
func (c LogCursor) String() string { return fmt.Sprintf("%d.%d", c.Offset, c.Cells) }

// ParseLogCursor reads a cursor; an empty text is the beginning.
func ParseLogCursor(text string) (c LogCursor, err error) {
	if text == "" {
		return c, nil
	}
	offset, cells, _ := strings.Cut(text, ".")
	if c.Offset, err = strconv.ParseInt(offset, 10, 64); err == nil {
		c.Cells, err = strconv.Atoi(cells)
	}
	if err != nil || c.Offset < 0 || c.Cells < 0 {
		return c, fmt.Errorf("%q is no place in a change log", text)
	}
	return c, nil
}

// Log is a change log with where its steps begin, as the ledger has it; those of earlier versions do not say.
type Log struct {
	In io.ReaderAt
	At []int64
}

// section returns where the entries of a step stand: all of them where it is 0, or where the log does not say.
func (l Log) section(step int) (from, to int64) {
	if len(l.At) == 0 {
		return 0, 1 << 62
	}
	if step > 0 && step < len(l.At)-1 {
		return l.At[step], l.At[step+1]
	}
	return 0, l.At[len(l.At)-1]
}

// errEnough ends a reading that has what it was for.
var errEnough = errors.New("enough")

// each visits the entries between two places, from offset on.
func (l Log) each(offset, to int64, visit func(at int64, line []byte) error) error {
	in := bufio.NewReaderSize(io.NewSectionReader(l.In, offset, to-offset), 256<<10)
	for {
		line, err := in.ReadBytes('\n')
		if len(line) > 0 {
			if err := visit(offset, line); err != nil {
				return err
			}
			offset += int64(len(line))
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Changes returns the changes that are meant from a cursor on, an entry for each cell or row, at most so many; next is nil
// at the end of the log.
func (l Log) Changes(q LogQuery, from LogCursor, limit int) (found []LogEntry, next *LogCursor, err error) {
	first, to := l.section(q.Step)
	if from.Offset < first {
		from = LogCursor{Offset: first}
	}
	found = []LogEntry{}
	err = l.each(from.Offset, to, func(at int64, line []byte) error {
		var c LogEntry
		if err := json.Unmarshal(line, &c); err != nil {
			return fmt.Errorf("the change log is damaged at byte %d: %w", at, err)
		}
		if q.Step > 0 && c.Step != q.Step || q.Column != "" && c.Column != q.Column || q.Gone != nil && *q.Gone != (c.Gone != nil) {
			return nil
		}
		start := 0
		if at == from.Offset {
			start = from.Cells
		}
		for i := start; i < max(len(c.Rows), 1); i++ {
			if len(found) == limit {
				next = &LogCursor{at, i}
				return errEnough
			}
			found = append(found, c.cell(i))
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return found, next, err
}

// cell returns the i-th change of an entry.
func (c *LogEntry) cell(i int) LogEntry {
	one := *c
	if len(c.Rows) > 0 {
		if one.Row, one.Line = c.Rows[i], 0; i < len(c.Lines) {
			one.Line = c.Lines[i]
		}
		one.Rows, one.Lines = nil, nil
	}
	return one
}

// Traced is what was done to a cell or row of a cleaned table.
type Traced struct {
	// Events are the changes, the last one first.
	Events []TracedEvent `json:"events"`
	// Rows are those of the table that arrived, and Column is what the column was called there; empty for one that steps
	// made.
	Rows   []uint32 `json:"rows"`
	Column string   `json:"column,omitempty"`
}

// TracedEvent is a step that had to do with a cell or row.
type TracedEvent struct {
	Step   int    `json:"step"`
	Kind   string `json:"kind"`
	Reason string `json:"reason"`
	Column string `json:"column,omitempty"` // of a cell that it changed
	Old    string `json:"old"`
	New    string `json:"new"`
	Row    uint32 `json:"row"` // as the log counts
	// From are the rows that it made the row of, or that left in its favour.
	From []uint32 `json:"from,omitempty"`
	// Was is what the column was called before the step, where that differs; empty for a new one.
	Was *string `json:"was,omitempty"`
}

// tracedRows is how many rows of a cell's descent are followed further.
const tracedRows = 100

// Trace tells how a row of the cleaned table came about, and, unless column is empty, its cell in that. rows is the map of
// rows; nil where no step made other rows.
func (l *Ledger) Trace(log, rows io.ReaderAt, row uint32, column string) (*Traced, error) {
	if row < 1 || int64(row) > l.RowsOut {
		return nil, fmt.Errorf("the table has rows 1 to %d, and no row %d", l.RowsOut, row)
	}
	at := l.At(column)
	if column != "" && at < 0 {
		return nil, &noColumn{column, l.Columns}
	}
	t := &tracing{ledger: l, log: Log{log, l.LogAt}, cell: column != "", column: column}
	steps := l.Steps
	last := 0 // the step after the last one that made rows
	for i, s := range steps {
		if s.RowsMade != nil {
			last = i + 1
		}
	}
	if err := t.locate(row, last); err != nil {
		return nil, err
	}
	for i := len(steps) - 1; i >= 0; i-- {
		if err := t.before(&steps[i], rows); err != nil {
			return nil, err
		}
	}
	out := &Traced{Events: t.events, Rows: t.rows, Column: t.column}
	if out.Events == nil {
		out.Events = []TracedEvent{}
	}
	return out, nil
}

// At returns the place of a column of the cleaned table; -1 where there is none.
func (l *Ledger) At(column string) int {
	for i, name := range l.Columns {
		if name == column {
			return i
		}
	}
	return -1
}

// tracing goes through the steps from the last to the first.
type tracing struct {
	ledger *Ledger
	log    Log
	rows   []uint32 // that the cell comes from, as the log counts them here
	cell   bool     // one cell is traced, not the row
	column string   // as it is called here; empty for a row, or before it was made
	events []TracedEvent
}

// locate finds which row of the last that were made is the n-th of the cleaned table: the steps from some on only took rows
// out.
func (t *tracing) locate(n uint32, from int) error {
	gone := table.NewRowSet()
	for i := from; i < len(t.ledger.Steps); i++ {
		if t.ledger.Steps[i].Rows == 0 {
			continue
		}
		first, to := t.log.section(i + 1)
		if err := t.log.each(first, to, func(_ int64, line []byte) error {
			if !bytes.Contains(line, []byte(`"gone":{`)) {
				return nil
			}
			var c struct {
				Step int    `json:"step"`
				Row  uint32 `json:"row"`
				Gone any    `json:"gone"`
			}
			if err := json.Unmarshal(line, &c); err != nil {
				return err
			}
			if c.Step == i+1 && c.Gone != nil {
				gone.Add(c.Row)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	row := n
	for { // the rows before it that are gone push it on
		if pushed := n + uint32(gone.Rank(row)); pushed != row {
			row = pushed
			continue
		}
		break
	}
	t.rows = []uint32{row}
	return nil
}

// before undoes a step.
func (t *tracing) before(s *LedgerStep, rows io.ReaderAt) error {
	if len(t.rows) <= tracedRows && (s.Cells > 0 || s.Rows > 0) {
		if err := t.changes(s); err != nil {
			return err
		}
	}
	if s.RowsMade != nil {
		if err := t.made(s, rows); err != nil {
			return err
		}
	}
	if s.Columns == nil || t.column == "" {
		return nil
	}
	for _, c := range s.Columns {
		if c.Name == t.column {
			if c.From != c.Name {
				t.events = append(t.events, TracedEvent{Step: s.Step, Kind: s.Kind, Reason: s.Reason, Row: t.rows[0], Column: c.Name, Was: &c.From})
			}
			t.column = c.From
			return nil
		}
	}
	return nil
}

// changes finds what a step changed of the cell, or which rows left in favour of its row.
func (t *tracing) changes(s *LedgerStep) error {
	mine := map[uint32]bool{}
	for _, row := range t.rows {
		mine[row] = true
	}
	var left []uint32
	first, to := t.log.section(s.Step)
	err := t.log.each(first, to, func(_ int64, line []byte) error {
		var c LogEntry
		if err := json.Unmarshal(line, &c); err != nil {
			return err
		}
		switch {
		case c.Step != s.Step:
		case c.Gone != nil:
			if mine[c.KeptBy] {
				left = append(left, c.Row)
			}
		case !t.cell || t.column != "" && c.Column == t.column:
			for i := range max(len(c.Rows), 1) {
				if one := c.cell(i); mine[one.Row] {
					t.events = append(t.events, TracedEvent{Step: s.Step, Kind: s.Kind, Reason: s.Reason, Column: one.Column, Old: one.Old, New: one.New, Row: one.Row})
				}
			}
		}
		return nil
	})
	if len(left) > 0 {
		t.events = append(t.events, TracedEvent{Step: s.Step, Kind: s.Kind, Reason: s.Reason, Row: t.rows[0], From: left})
	}
	return err
}

// made finds the rows that a step made the rows of.
func (t *tracing) made(s *LedgerStep, rows io.ReaderAt) error {
	if rows == nil {
		return errors.New("the map of rows is not at hand")
	}
	wanted := map[uint32]bool{}
	for _, row := range t.rows {
		wanted[row] = true
	}
	from := table.NewRowSet()
	found := 0
	err := Log{In: rows}.each(0, 1<<62, func(_ int64, line []byte) error {
		if !bytes.HasPrefix(line, fmt.Appendf(nil, `{"step":%d,`, s.Step)) {
			return nil
		}
		var m RowMade
		if err := json.Unmarshal(line, &m); err != nil {
			return err
		}
		if !wanted[m.Row] {
			return nil
		}
		for _, span := range m.From {
			from.AddRange(uint64(span[0]), uint64(span[1])+1)
		}
		if found++; found == len(wanted) {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	event := TracedEvent{Step: s.Step, Kind: s.Kind, Reason: s.Reason, Row: t.rows[0], From: from.ToArray()}
	t.rows = event.From
	t.events = append(t.events, event)
	return nil
}

// Counts counts the cells that a change log says each step changed, and the rows that left by it.
func (l Log) Counts() (cells, rows map[int]int64, err error) {
	cells, rows = map[int]int64{}, map[int]int64{}
	first, to := l.section(0)
	err = l.each(first, to, func(at int64, line []byte) error {
		var c LogEntry
		if err := json.Unmarshal(line, &c); err != nil {
			return fmt.Errorf("the change log is damaged at byte %d: %w", at, err)
		}
		into := cells
		if c.Gone != nil {
			into = rows
		}
		into[c.Step] += int64(max(len(c.Rows), 1))
		return nil
	})
	return cells, rows, err
}

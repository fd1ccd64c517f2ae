package table

import (
	"context"
	"errors"
	"io"

	"github.com/RoaringBitmap/roaring/v2"

	"proudsieve/core/guard"
)

// RowSet is a set of row numbers; rows are numbered from 1 in file order.
type RowSet = roaring.Bitmap

// NewRowSet returns an empty set.
func NewRowSet() *RowSet { return roaring.New() }

// And returns the rows that are in both sets.
func And(a, b *RowSet) *RowSet { return roaring.And(a, b) }

// MaxRows is the largest number of rows a table may have.
const MaxRows = 1<<32 - 2

// Column is one column of a batch, dictionary-encoded: row i holds Texts[Codes[i]].
// A text may stand in the dictionary more than once, or in none of the rows.
type Column struct {
	Texts []string
	Codes []uint32
}

// At returns the text of row i of the batch.
func (c *Column) At(i int) string { return c.Texts[c.Codes[i]] }

// Counts returns how many rows hold each text of the dictionary: all rows, or some by
// their index, which may repeat.
func (c *Column) Counts(some []int) []int64 {
	counts := make([]int64, len(c.Texts))
	if some == nil {
		for _, code := range c.Codes {
			counts[code]++
		}
	}
	for _, i := range some {
		counts[c.Codes[i]]++
	}
	return counts
}

// Batch is a run of consecutive rows of a table.
type Batch struct {
	Columns []Column
	Rows    []uint32         // the number of each row in its table
	Lines   []int64          // the line of the file each row starts on, from 1
	Surplus map[int][]string // cells beyond the header's, by index in the batch
	Defects []Defect
	// SetAside counts the lines before or among these rows that are no rows: above the header, blank, or at the end.
	SetAside int64
	// Closing holds, of those that stand at the end and are no rows, the filled cells in one line.
	Closing []string
	// Offset is where the batch's part starts in the file, in bytes; -1 where reading cannot resume there.
	Offset int64
	// Done, where it is set, is called when the batch is of no use any more: it, and what
	// dictionaries that are Apart hold of it, may then be written over.
	Done func()
}

// Len returns the number of rows.
func (b *Batch) Len() int { return len(b.Rows) }

// Keep returns the batch without the rows for which drop holds; it shares dictionaries.
func (b *Batch) Keep(drop func(i int) bool) *Batch {
	var kept []int
	for i := range b.Rows {
		if !drop(i) {
			kept = append(kept, i)
		}
	}
	if len(kept) == len(b.Rows) {
		return b
	}
	out := &Batch{Columns: make([]Column, len(b.Columns)), Rows: make([]uint32, len(kept)),
		Lines: make([]int64, len(kept)), Defects: b.Defects, SetAside: b.SetAside, Offset: b.Offset}
	for c := range b.Columns {
		codes := make([]uint32, len(kept))
		for k, i := range kept {
			codes[k] = b.Columns[c].Codes[i]
		}
		out.Columns[c] = Column{Texts: b.Columns[c].Texts, Codes: codes}
	}
	for k, i := range kept {
		out.Rows[k], out.Lines[k] = b.Rows[i], b.Lines[i]
		if cells, ok := b.Surplus[i]; ok {
			if out.Surplus == nil {
				out.Surplus = map[int][]string{}
			}
			out.Surplus[k] = cells
		}
	}
	return out
}

// DefectKind names what is wrong with the bytes of a record.
type DefectKind string

// The kinds of defects.
const (
	TooFewCells     DefectKind = "too_few_cells"
	TooManyCells    DefectKind = "too_many_cells"
	BrokenQuote     DefectKind = "broken_quote"
	OpenQuote       DefectKind = "open_quote"
	BadBytes        DefectKind = "undecodable_bytes"
	NulByte         DefectKind = "nul_byte"
	CellTooLong     DefectKind = "cell_too_long"
	BlankName       DefectKind = "blank_column_name"
	RepeatedName    DefectKind = "repeated_column_name"
	BrokenRecord    DefectKind = "broken_record"         // of JSON
	FormulaUnvalued DefectKind = "formula_without_value" // of a spreadsheet
	NumberAsText    DefectKind = "number_as_text"        // of a spreadsheet
)

// Defect is something wrong with the bytes themselves. Its row stays in the table.
type Defect struct {
	Kind   DefectKind `json:"kind"`
	Line   int64      `json:"line"`             // from 1
	Row    uint32     `json:"row,omitempty"`    // 0 for the header
	Column string     `json:"column,omitempty"` // where a single cell is meant
	Detail string     `json:"detail,omitempty"` // the text or bytes concerned
}

// Source is a table that can be read any number of times.
type Source interface {
	// Columns returns the names of the columns, in order.
	Columns() []string
	// Open starts a reading from the first row.
	Open(ctx context.Context) (Parts, error)
}

// Parts hands out a table in consecutive parts. Where parts begin depends on the bytes alone.
type Parts interface {
	// Next returns the next part, or io.EOF. It is called by one goroutine.
	Next() (Part, error)
	Close() error
}

// Part is a stretch of a table not yet taken apart.
type Part interface {
	// Span returns the number of the first row and how many rows there are.
	Span() (first uint32, rows int)
	// Batch takes the part apart; several parts may be at once, each by one goroutine.
	// Given the dictionaries of earlier parts, one for each column, it may go on with
	// their codes; the batch's columns are then those of the dictionaries. A column for which
	// there is none, a nil, may be left out: it has neither codes nor texts then.
	Batch(shared []*Dictionary) (*Batch, error)
}

// Where is a source without the parts that hold none of the rows; nil means all rows. It composes with Only.
func Where(source Source, rows *RowSet) Source {
	if rows == nil {
		return source
	}
	return selected{source, rows}
}

type selected struct {
	Source
	rows *RowSet
}

// Open implements Source.
func (s selected) Open(ctx context.Context) (Parts, error) {
	parts, err := s.Source.Open(ctx)
	return selectedParts{parts, s.rows}, err
}

type selectedParts struct {
	Parts
	rows *RowSet
}

// Next implements Parts.
func (s selectedParts) Next() (Part, error) {
	for {
		part, err := s.Parts.Next()
		if err != nil {
			return nil, err
		}
		first, rows := part.Span()
		if rows > 0 && s.rows.Rank(first+uint32(rows)-1) > s.rows.Rank(first-1) {
			return part, nil
		}
	}
}

// Scan reads source in parts, calls work for each on up to workers goroutines, and
// hands the results to take in file order, so that the outcome does not depend on
// the number of workers. It stops at the first error or when ctx ends.
func Scan[T any](ctx context.Context, source Source, workers int, work func(*Batch) (T, error),
	take func(T) error) error {
	one := func(parts <-chan Part) (value T, err error) {
		for part := range parts {
			free := guard.Slot(ctx)
			var b *Batch
			if b, err = part.Batch(nil); err == nil {
				value, err = work(b)
			}
			free()
		}
		return value, err
	}
	return scan(ctx, source, func(int) int { return 1 }, workers, one, take)
}

// stretchParts is how many parts make the n-th stretch. The first ones are short, so that
// the workers of a small table all have some, and what one stretch finds is soon of use to
// others.
func stretchParts(n int) int { return 16 << min(n/2, 4) }

const (
	// usualColumns is how many columns a table has at the most whose stretches are as long as
	// they get; those of wider ones are shorter, since what is known of each column takes room.
	usualColumns  = 64
	shortestParts = 2
	longestParts  = 16
)

// Wide reports whether a table of so many columns has shorter stretches than others.
func Wide(columns int) bool { return columns > usualColumns }

// PartFactor returns how many times as long the parts of a table of so many columns are as those of a narrow one: a
// part has something to be done for each column, however few rows it has.
func PartFactor(columns int) int { return min(max(columns/usualColumns, 1), longestParts) }

// stretchesOf is stretchParts for a table of so many columns.
func stretchesOf(columns int) func(n int) int {
	longest := stretchParts(8) * usualColumns / max(columns, 1) / PartFactor(columns)
	return func(n int) int {
		return min(max(stretchParts(n)/PartFactor(columns), shortestParts), max(shortestParts, longest))
	}
}

// ScanStretches is Scan over stretches of consecutive parts, whose batches share one
// dictionary for each column, so that a text is met once in a stretch. Each stretch is
// worked on by one goroutine: begin gives it a state, work adds a batch to it, and take
// gets the state in the end. Where stretches begin depends on the bytes alone. Columns that
// are not asked about have no dictionary, a nil, and no cells: much of reading is spared so.
func ScanStretches[S any](ctx context.Context, source Source, workers int, begin func() (S, []*Dictionary),
	work func(S, *Batch) error, end func(S) error, take func(S) error) error {
	one := func(parts <-chan Part) (S, error) {
		state, shared := begin()
		one := func(part Part) error {
			defer guard.Slot(ctx)()
			b, err := part.Batch(shared)
			if err != nil {
				return err
			}
			for c := range b.Columns {
				if shared[c] == nil {
					b.Columns[c] = Column{}
				} else if !sameTexts(b.Columns[c].Texts, shared[c].Texts) {
					b.Columns[c] = shared[c].Adopt(b.Columns[c])
				}
			}
			if err := work(state, b); err != nil {
				return err
			}
			if b.Done != nil {
				b.Done()
			}
			return nil
		}
		for part := range parts {
			if err := one(part); err != nil {
				return state, err
			}
		}
		defer guard.Slot(ctx)()
		return state, end(state)
	}
	return scan(ctx, source, stretchesOf(len(source.Columns())), workers, one, take)
}

func sameTexts(a, b []string) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// ahead is how many stretches are begun before their turn comes to be taken, beside the one whose turn it is: as many as keep all workers
// busy, since every one more is read long before it is worked on; of a wide table fewer, since what is known of each column takes room.
func ahead(workers, columns int) int {
	if columns > 4*usualColumns {
		return 1
	}
	return max(workers-1, 1)
}

// scan hands stretches, which have so many parts, to work, and what becomes of them to take.
func scan[T any](ctx context.Context, source Source, length func(n int) int, workers int,
	work func(<-chan Part) (T, error), take func(T) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	parts, err := source.Open(ctx)
	if err != nil {
		return err
	}
	defer parts.Close()

	type outcome struct {
		value T
		err   error
	}
	type stretch struct {
		parts chan Part
		done  chan outcome
	}
	workers = max(workers, 1)
	stretches := make(chan stretch)
	order := make(chan chan outcome, ahead(workers, len(source.Columns()))) // bounds how far reading runs ahead
	var group guard.Group
	for range workers {
		group.Go(func() error {
			for s := range stretches {
				var o outcome
				o.value, o.err = guard.Value(func() (T, error) { return work(s.parts) })
				s.done <- o
			}
			return nil
		})
	}
	group.Go(func() error {
		defer close(order)
		defer close(stretches)
		var open chan Part // of the stretch that is being read
		defer func() {
			if open != nil {
				close(open)
			}
		}()
		for n, room := 0, 0; ; room-- {
			part, err := parts.Next()
			if err != nil {
				if errors.Is(err, io.EOF) {
					return nil
				}
				return err
			}
			if room == 0 {
				if open != nil {
					close(open)
				}
				room = length(n)
				n++
				open = make(chan Part, room)
				s := stretch{open, make(chan outcome, 1)}
				select {
				case order <- s.done:
				case <-ctx.Done():
					return nil
				}
				select {
				case stretches <- s:
				case <-ctx.Done():
					s.done <- outcome{err: ctx.Err()}
					return nil
				}
			}
			open <- part // has room for the whole stretch
		}
	})
	var failed error
	for done := range order {
		o := <-done
		if failed != nil {
			continue
		}
		if failed = o.err; failed == nil {
			failed = take(o.value)
		}
		if failed == nil {
			failed = ctx.Err()
		}
		if failed != nil {
			cancel()
		}
	}
	if readErr := group.Wait(); failed == nil {
		failed = readErr
	}
	if failed == nil {
		failed = ctx.Err()
	}
	return failed
}

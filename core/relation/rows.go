package relation

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"

	"proudsieve/core/budget"
	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Choice says which rows are meant. What is left empty restricts nothing.
type Choice struct {
	Holds *condition.Condition
	Is    []Is
	Find  string // a text that some cell contains, whatever its case
	Gaps  bool   // some cell of the row is missing
}

// Is says that a cell of a column has a text, to the letter; the empty text stands for a missing value.
type Is struct{ Column, Text string }

// Where returns the rows that a choice means.
func Where(ctx context.Context, t *Table, choice Choice) (*table.RowSet, error) {
	names := t.Source.Columns()
	var asked []string
	holds, find := choice.Holds, strings.ToLower(choice.Find)
	if holds != nil {
		asked = append(asked, holds.Names()...)
	}
	for _, is := range choice.Is {
		asked = append(asked, is.Column)
	}
	first := len(asked) - len(choice.Is)
	if choice.Gaps {
		asked = append(asked, names...)
	}
	at, err := t.positions(asked)
	if err != nil {
		return nil, err
	}
	begin := func() *[]uint32 { return new([]uint32) }
	work := func(rows *[]uint32, r *Readers, b *table.Batch) {
		var truth []condition.Truth
		if holds != nil {
			truth = holds.Evaluate(readRows{r, b, names})
		}
		var found []bool
		if find != "" {
			found = containing(b, find)
		}
		var gaps []bool
		if choice.Gaps {
			gaps = missing(r, b, len(at)-len(names))
		}
		for i, row := range b.Rows {
			chosen := (truth == nil || truth[i] == condition.True) && (found == nil || found[i]) &&
				(gaps == nil || gaps[i])
			for k, is := range choice.Is {
				chosen = chosen && value(r, b, first+k, i) == is.Text
			}
			if chosen {
				*rows = append(*rows, row)
			}
		}
	}
	var texts []int
	if find != "" {
		texts = t.every()
	}
	out := table.NewRowSet()
	err = scanWith(ctx, t, slices.Concat(at, texts), func() *Readers { return t.readers(at) }, begin, work, func(rows *[]uint32) { out.AddMany(*rows) })
	out.RunOptimize()
	return out, err
}

// value is what a cell counts as: its text, nothing where it is missing.
func value(r *Readers, b *table.Batch, i, k int) string {
	if r.Cell(b, i, k).Missing {
		return ""
	}
	return b.Columns[r.at[i]].At(k)
}

// missing says in which rows one of the columns from a place on has nothing.
func missing(r *Readers, b *table.Batch, from int) []bool {
	found := make([]bool, b.Len())
	for c := from; c < len(r.at); c++ {
		for k := range found {
			found[k] = found[k] || r.Cell(b, c, k).Missing
		}
	}
	return found
}

// containing says in which rows a cell contains a lower-case text.
func containing(b *table.Batch, find string) []bool {
	found := make([]bool, b.Len())
	for c := range b.Columns {
		has := make([]bool, len(b.Columns[c].Texts))
		any := false
		for code, text := range b.Columns[c].Texts {
			has[code] = strings.Contains(strings.ToLower(text), find)
			any = any || has[code]
		}
		for i, code := range b.Columns[c].Codes {
			found[i] = found[i] || any && has[code]
		}
	}
	return found
}

// readRows gives conditions the typed values of a batch.
type readRows struct {
	r     *Readers
	b     *table.Batch
	names []string
}

// Len implements condition.Rows.
func (r readRows) Len() int { return r.b.Len() }

// Values implements condition.Rows.
func (r readRows) Values(column string) ([]table.Value, []uint32) {
	at := slices.Index(r.names, column)
	i := slices.Index(r.r.at, at)
	values := make([]table.Value, r.b.Len())
	codes := make([]uint32, r.b.Len())
	for k, code := range r.b.Columns[at].Codes {
		values[k], codes[k] = r.r.known[i][code].Value, uint32(k)
	}
	return values, codes
}

// orderedBytes is how many bytes of a text Order looks at.
const orderedBytes = 24

// Keys that rows are sorted by: the class of the cell (values, then texts that are no values, then missing ones), its number,
// the first bytes of its text, and the row.
const (
	ofValue, ofNone, ofMissing = 0, 1, 2

	keyNumber = 1
	keyText   = keyNumber + 8
	keyRow    = keyText + orderedBytes
	keyBytes  = keyRow + 4
)

// Order returns rows in the order of a column: numbers, dates and times by their value,
// texts by their first 24 bytes; rows that are equal in that stay in the order of the
// file, missing values come last either way. rows, unless nil, are those that count.
func Order(ctx context.Context, t *Table, column string, descending bool, rows *table.RowSet) ([]uint32, error) {
	at, err := t.positions([]string{column})
	if err != nil {
		return nil, err
	}
	begin := func() *[]byte { return new([]byte) }
	work := func(keys *[]byte, r *Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if rows != nil && !rows.Contains(row) {
				continue
			}
			*keys = appendKey(*keys, r.Cell(b, 0, k), b.Columns[at[0]].At(k), row, descending)
		}
	}
	var order table.Sorter
	defer order.Close()
	var failed error
	if err := Scan(ctx, t, at, begin, work, func(keys *[]byte) {
		for key := range slices.Chunk(*keys, keyBytes) {
			if failed == nil {
				failed = order.Add(key, nil)
			}
		}
	}); err != nil {
		return nil, err
	}
	if failed != nil {
		return nil, failed
	}
	// The rows take four bytes each, which must be there.
	if n := order.Len(); !budget.Of(ctx).Grow(n * 4) {
		return nil, fmt.Errorf("%w: %d rows in order take %d MiB", budget.ErrBusy, n, n>>18)
	}
	out := make([]uint32, 0, order.Len())
	err = order.Each(ctx, func(key, _ []byte) error {
		out = append(out, binary.BigEndian.Uint32(key[keyRow:]))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// appendKey appends the key of a row, whose bytes are ordered as rows are.
func appendKey(keys []byte, cell *rulebook.Cell, text string, row uint32, descending bool) []byte {
	var key [keyBytes]byte
	number := 0.0
	switch v := cell.Value; {
	case cell.Missing:
		key[0] = ofMissing
	case v.Kind == table.Number:
		number = v.Number.Float()
	case v.Kind == table.Date || v.Kind == table.Instant:
		number = float64(v.When)
	default:
		if cell.Mistyped {
			key[0] = ofNone
		}
		copy(key[keyText:keyRow], text)
	}
	// The bits of floating-point numbers (IEEE 754) are ordered as whole numbers are once the sign of those above zero, and all
	// bits of those below, are turned.
	bits := math.Float64bits(number)
	if bits>>63 == 0 || number == 0 {
		bits |= 1 << 63
	} else {
		bits = ^bits
	}
	binary.BigEndian.PutUint64(key[keyNumber:], bits)
	if descending {
		for i := keyNumber; i < keyRow; i++ {
			key[i] = ^key[i]
		}
	}
	binary.BigEndian.PutUint32(key[keyRow:], row)
	return append(keys, key[:]...)
}

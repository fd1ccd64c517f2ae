package relation

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"proudsieve/core/condition"
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
	err = scanTexts(ctx, t, at, texts, begin, work, func(rows *[]uint32) { out.AddMany(*rows) })
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

// sortKey orders rows: by class (values, then texts that are no values, then missing
// ones), then by number, then by the first bytes of the text.
type sortKey struct {
	number float64
	text   [orderedBytes]byte
	row    uint32
	class  uint8
}

// Order returns rows in the order of a column: numbers, dates and times by their value,
// texts by their first 24 bytes; rows that are equal in that stay in the order of the
// file, missing values come last either way. rows, unless nil, are those that count.
func Order(ctx context.Context, t *Table, column string, descending bool, rows *table.RowSet) ([]uint32, error) {
	at, err := t.positions([]string{column})
	if err != nil {
		return nil, err
	}
	begin := func() *[]sortKey { return new([]sortKey) }
	work := func(keys *[]sortKey, r *Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if rows != nil && !rows.Contains(row) {
				continue
			}
			key := sortKey{row: row}
			cell := r.Cell(b, 0, k)
			switch v := cell.Value; {
			case cell.Missing:
				key.class = 2
			case v.Kind == table.Number:
				key.number = v.Number.Float()
			case v.Kind == table.Date || v.Kind == table.Instant:
				key.number = float64(v.When)
			default:
				if cell.Mistyped {
					key.class = 1
				}
				copy(key.text[:], b.Columns[at[0]].At(k))
			}
			*keys = append(*keys, key)
		}
	}
	order := &ordering{compare: func(a, b *sortKey) int {
		if a.class != b.class {
			return cmp.Compare(a.class, b.class)
		}
		order := cmp.Compare(a.number, b.number)
		if order == 0 {
			order = slices.Compare(a.text[:], b.text[:])
		}
		if descending {
			order = -order
		}
		return cmp.Or(order, cmp.Compare(a.row, b.row))
	}}
	defer order.close()
	var failed error
	if err := Scan(ctx, t, at, begin, work, func(keys *[]sortKey) {
		if failed == nil {
			failed = order.take(*keys)
		}
	}); err != nil {
		return nil, err
	}
	if failed != nil {
		return nil, failed
	}
	return order.rows(ctx)
}

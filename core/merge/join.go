package merge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/budget"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// joiner is a joined table in memory.
type joiner struct {
	Join
	at      []int // of the left columns
	left    []keyPart
	right   []keyPart
	taken   []int // in the joined table
	names   []string
	store   rowStore          // the taken cells
	keys    []table.HashedRow // sorted; rows from 0
	rows    int64
	used    *table.RowSet
	in      Input
	origins []origin // of the estimates among the taken cells
	missed  bool     // more different keys than are counted

	result                                   JoinResult
	sumsIn, sumsOut, sumsAside, sumsMultiple map[string]table.Decimal
	misses                                   map[string]int64
}

// keyPart is one column of a key, as it is compared: by value where both sides are of one type, or are numbers, or
// are texts and codes; to the letter where they are not.
type keyPart struct {
	cells *rulebook.Cells // nil for to the letter
}

// identity is what a text is compared by; empty where it is missing.
func (k keyPart) identity(text string) string {
	if k.cells == nil {
		return text
	}
	cell := k.cells.Read(text)
	if cell.Missing {
		return ""
	}
	return cell.Identity(text)
}

// keyParts says how the parts of a join's key are compared.
func (m *merger) keyParts(j Join, in Input) (left, right []keyPart) {
	left, right = make([]keyPart, len(j.Left)), make([]keyPart, len(j.Right))
	for i := range j.Left {
		there := in.Book.Cells(j.Right[i])
		if here, ok := m.types[j.Left[i]]; ok && comparable(here, there.Type) {
			left[i], right[i] = keyPart{m.cellsOf(j.Left[i], there)}, keyPart{there}
		}
	}
	return left, right
}

func comparable(a, b table.Type) bool {
	worded := func(t table.Type) bool { return t == table.TypeText || t == table.TypeCode }
	return a == b || a.IsNumber() && b.IsNumber() || worded(a) && worded(b)
}

// cellsOf reads a column of the table so far. Tables of ours are written alike, so that another
// reader of the same type reads them as well.
func (m *merger) cellsOf(column string, other *rulebook.Cells) *rulebook.Cells {
	if known, ok := m.keyed[column]; ok {
		return known
	}
	return other
}

// load reads the table to be joined: the hashes of its keys are held in memory, and of its
// other cells as much as there is memory for.
func (m *merger) load(ctx context.Context, j Join, in Input, workers int) (*joiner, error) {
	left, err := positions(m.columns(), j.Left, "the table so far")
	if err != nil {
		return nil, err
	}
	right, err := positions(in.Source.Columns(), j.Right, in.Dataset)
	if err != nil {
		return nil, err
	}
	taken, err := positions(in.Source.Columns(), j.Take, in.Dataset)
	if err != nil {
		return nil, err
	}
	share := budget.Of(ctx)
	out := &joiner{Join: j, at: left, taken: taken, in: in, used: table.NewRowSet(), misses: map[string]int64{},
		store:  rowStore{share: share},
		sumsIn: map[string]table.Decimal{}, sumsOut: map[string]table.Decimal{}, sumsAside: map[string]table.Decimal{},
		sumsMultiple: map[string]table.Decimal{}}
	out.left, out.right = m.keyParts(j, in)
	for i, name := range j.Take {
		// two columns of one name are kept apart by their dataset
		if slices.Contains(m.columns(), name) || slices.Contains(out.names, name) {
			name = j.With + "_" + name
		}
		out.names = append(out.names, name)
		m.types[name], m.keyed[name] = in.Book.Cells(j.Take[i]).Type, in.Book.Cells(j.Take[i])
	}
	out.origins = m.marksOf(in, func(column string) (string, bool) {
		at := slices.Index(j.Take, column)
		if at < 0 {
			return "", false
		}
		return out.names[at], true
	})
	type loaded struct {
		batch *table.Batch
		keys  []table.HashedRow // rows within the batch
	}
	work := func(b *table.Batch) (loaded, error) {
		l := loaded{batch: b}
		r := newKeyReader(b, right, out.right)
		for i := range b.Rows {
			if h, whole := r.hash(i); whole {
				l.keys = append(l.keys, table.HashedRow{Hash: h, Row: uint32(i)})
			}
		}
		return l, nil
	}
	cells := make([]string, len(taken))
	err = table.Scan(ctx, in.Source, workers, work, func(l loaded) error {
		if out.rows+int64(l.batch.Len()) > joinedRowsLimit {
			return fmt.Errorf("the table has more than %d rows; stack it instead, and join the smaller one",
				joinedRowsLimit)
		}
		for need := int64(l.batch.Len()) * joinedRowBytes; !share.Grow(need); {
			freed, err := out.store.spill()
			if err != nil {
				return err
			}
			if freed {
				continue
			}
			return fmt.Errorf("%w: the keys of %s need more than is left; give the service more, or join a smaller table", budget.ErrTooMuch, in.Dataset)
		}
		for _, k := range l.keys {
			out.keys = append(out.keys, table.HashedRow{Hash: k.Hash, Row: uint32(out.rows) + k.Row})
		}
		for i := range l.batch.Rows {
			for k, c := range taken {
				cells[k] = l.batch.Columns[c].At(i)
			}
			if err := out.store.add(cells); err != nil {
				return err
			}
		}
		out.rows += int64(l.batch.Len())
		return nil
	})
	if err != nil {
		return out, err
	}
	if err := out.store.end(); err != nil {
		return out, err
	}
	slices.SortFunc(out.keys, func(a, b table.HashedRow) int {
		return cmp.Or(compareHash(a.Hash, b.Hash), cmp.Compare(a.Row, b.Row))
	})
	if j.Repeated == RefuseRepeated {
		return out, out.refuseRepeated(ctx, workers)
	}
	return out, nil
}

func compareHash(a, b table.Hash) int {
	return cmp.Or(cmp.Compare(a.Hi, b.Hi), cmp.Compare(a.Lo, b.Lo))
}

// refuseRepeated returns an error where a key is there more than once, for the first such row.
func (j *joiner) refuseRepeated(ctx context.Context, workers int) error {
	first, times := uint32(0), 0
	for i := 0; i < len(j.keys); {
		end := i + 1
		for end < len(j.keys) && j.keys[end].Hash == j.keys[i].Hash {
			end++
		}
		if end-i > 1 && (times == 0 || j.keys[i].Row < first) {
			first, times = j.keys[i].Row, end-i
		}
		i = end
	}
	if times == 0 {
		return nil
	}
	key := ""
	rows := table.NewRowSet()
	rows.Add(first + 1)
	at, err := positions(j.in.Source.Columns(), j.Right, j.in.Dataset)
	if err != nil {
		return err
	}
	err = table.ScanWhere(ctx, j.in.Source, rows, workers, func(b *table.Batch) (string, error) {
		for i, row := range b.Rows {
			if row == first+1 {
				return keyText(b.Columns, at, i), nil
			}
		}
		return "", nil
	}, func(found string) error {
		key += found
		return nil
	})
	if err != nil {
		return err
	}
	return fmt.Errorf("the key %s is there %d times in %s, so rows would be multiplied; make it unique, or declare repeated: multiply", shownKey(key), times, j.With)
}

// partners returns the rows with a key, ascending.
func (j *joiner) partners(h table.Hash) []table.HashedRow {
	start, found := slices.BinarySearchFunc(j.keys, h,
		func(e table.HashedRow, h table.Hash) int { return compareHash(e.Hash, h) })
	if !found {
		return nil
	}
	end := start + 1
	for end < len(j.keys) && j.keys[end].Hash == h {
		end++
	}
	return j.keys[start:end]
}

// keyReader hashes the keys of a batch; what a text is compared by is worked out once for each.
type keyReader struct {
	columns []table.Column
	tokens  [][]table.Token // per part, per code
	missing [][]bool
}

func newKeyReader(b *table.Batch, at []int, parts []keyPart) *keyReader {
	r := &keyReader{}
	for k, c := range at {
		column := b.Columns[c]
		tokens, missing := make([]table.Token, len(column.Texts)), make([]bool, len(column.Texts))
		for code, text := range column.Texts {
			identity := parts[k].identity(text)
			tokens[code], missing[code] = table.TokenOf(identity), identity == ""
		}
		r.columns, r.tokens, r.missing = append(r.columns, column), append(r.tokens, tokens), append(r.missing, missing)
	}
	return r
}

// hash is that of a row's key; whole is false where a part is missing.
func (r *keyReader) hash(i int) (h table.Hash, whole bool) {
	for k := range r.columns {
		code := r.columns[k].Codes[i]
		if r.missing[k][code] {
			return h, false
		}
		h = table.With(h, r.tokens[k][code])
	}
	return h, true
}

const keySeparator = "\x1f"

func shownKey(key string) string { return strings.ReplaceAll(key, keySeparator, " / ") }

// keyText is the text of a row's key, as it stands.
func keyText(columns []table.Column, at []int, row int) string {
	parts := make([]string, len(at))
	for k, c := range at {
		parts[k] = columns[c].At(row)
	}
	return strings.Join(parts, keySeparator)
}

// takenCells are the columns that a join adds to rows with these partners; -1 is for none.
func (j *joiner) takenCells(partners []int64) ([]table.Column, error) {
	columns := make([]table.Column, len(j.taken))
	for k := range columns {
		columns[k] = table.Column{Texts: []string{""}, Codes: make([]uint32, len(partners))}
	}
	seen := map[int64]uint32{}
	var cells []string
	for i, partner := range partners {
		code, known := seen[partner]
		if partner >= 0 && !known {
			var err error
			if cells, err = j.store.row(uint32(partner), len(columns), cells[:0]); err != nil {
				return nil, err
			}
			code = uint32(len(seen) + 1)
			for k := range columns {
				columns[k].Texts = append(columns[k].Texts, cells[k])
			}
			seen[partner] = code
		}
		if partner < 0 {
			code = 0
		}
		for k := range columns {
			columns[k].Codes[i] = code
		}
	}
	return columns, nil
}

// unmatchedError says that a row has no partner where each must have one.
type unmatchedError struct {
	joiner *joiner
	row    uint32
	key    string
}

// Error implements error.
func (e *unmatchedError) Error() string {
	return fmt.Sprintf("row %d: %s has no row with the key %q", e.row, e.joiner.With, shownKey(e.key))
}

// explain adds to an error the key that a row without a partner nearly has.
func (m *merger) explain(ctx context.Context, inputs map[string]Input, workers int, err error) error {
	var e *unmatchedError
	if !errors.As(err, &e) {
		return err
	}
	near, failed := e.joiner.near(ctx, []string{e.key}, workers)
	if failed != nil {
		return errors.Join(err, failed)
	}
	hint := ""
	if other, ok := near[e.key]; ok {
		hint = fmt.Sprintf(" (it has %q)", shownKey(other))
	}
	return fmt.Errorf("%w%s; put it right in a fix plan, or declare unmatched: keep or set_aside", err, hint)
}

// near finds for keys those of the joined table that they would meet once spaces and case are levelled.
func (j *joiner) near(ctx context.Context, keys []string, workers int) (map[string]string, error) {
	wanted := map[string][]string{} // levelled to the keys
	for _, key := range keys {
		if level := table.Level(key); strings.Trim(level, keySeparator) != "" {
			wanted[level] = append(wanted[level], key)
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	at, err := positions(j.in.Source.Columns(), j.Right, j.in.Dataset)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	err = table.Scan(ctx, j.in.Source, workers, func(b *table.Batch) (map[string]string, error) {
		found := map[string]string{}
		for i := range b.Rows {
			text := keyText(b.Columns, at, i)
			for _, key := range wanted[table.Level(text)] {
				if _, ok := found[key]; !ok {
					found[key] = text
				}
			}
		}
		return found, nil
	}, func(found map[string]string) error {
		for key, text := range found {
			if _, ok := out[key]; !ok {
				out[key] = text
			}
		}
		return nil
	})
	return out, err
}

// metEnough refuses a join in which fewer rows find a partner than must.
func (j *joiner) metEnough(r *JoinResult) error {
	if r.RowsIn == 0 || float64(r.Matched)*100 >= j.MetAtLeast*float64(r.RowsIn) {
		return nil
	}
	examples := ""
	for _, miss := range r.Misses[:min(len(r.Misses), 3)] {
		examples += fmt.Sprintf("; %q is not there", miss.Key)
		if miss.Close != "" {
			examples += fmt.Sprintf(", %q is", miss.Close)
		}
	}
	return fmt.Errorf("join with %s: only %d of %d rows find a partner by %s, fewer than %g %%%s. Put the keys right in a fix plan, or declare met_at_least: with the share that is meant",
		j.With, r.Matched, r.RowsIn, strings.Join(j.Left, ", "), j.MetAtLeast, examples)
}

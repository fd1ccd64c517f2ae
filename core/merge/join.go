package merge

import (
	"context"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strings"

	"proudsieve/core/budget"
	"proudsieve/core/table"
)

// joiner is a joined table in memory.
type joiner struct {
	Join
	before  *frame // of the rows that are joined
	there   *frame // of the joined table
	left    []keyPart
	right   []keyPart
	taken   []int // in the joined table; those after the names are kept beside
	names   []string
	by      int      // of taken, the value that decides between rows of one key
	filling []int    // columns before the join that take the key of a row that no row asks for
	keyAt   []int    // of taken, what fills them
	store   rowStore // the taken cells
	keys    keyIndex // rows from 0
	span    *span    // what is compared beside them; nil for nothing
	rows    int64
	used    rowBits       // those that some row asked for
	asked   *table.RowSet // rows that another one with the same key stands for
	in      Input
	origins []origin        // of the estimates among the taken cells
	missed  bool            // more different keys than are counted
	has     []table.Decimal // the sums of the taken columns of numbers, in the joined table
	then    []takenSum      // what the rows have of the taken columns after the join

	result                                              JoinResult
	sumsIn, sumsOut, sumsAside, sumsMultiple, sumsAdded map[string]table.Decimal
	misses                                              map[string]int64
}

// load reads the table to be joined: the hashes of its keys are held in memory, and of its
// other cells as much as there is memory for.
func (m *merger) load(ctx context.Context, j Join, in Input, workers int) (*joiner, error) {
	there := frameOf(in)
	left, right, err := j.meeting(m.frame, there)
	if err != nil {
		return nil, err
	}
	taken, err := positions(there.names, j.Take, in.Dataset)
	if err != nil {
		return nil, err
	}
	spanning, err := j.spanning(m.frame, there)
	if err != nil {
		return nil, err
	}
	share := budget.Of(ctx)
	before := *m.frame
	out := &joiner{Join: j, before: &before, there: there, left: left, right: right, taken: taken, in: in, span: spanning, asked: table.NewRowSet(), misses: map[string]int64{},
		store:  rowStore{share: share},
		sumsIn: map[string]table.Decimal{}, sumsOut: map[string]table.Decimal{}, sumsAside: map[string]table.Decimal{},
		sumsMultiple: map[string]table.Decimal{}, sumsAdded: map[string]table.Decimal{}}
	for i, name := range j.Take {
		// two columns of one name are kept apart by their dataset
		if slices.Contains(m.columns(), name) || slices.Contains(out.names, name) {
			name = j.With + "_" + name
		}
		out.names = append(out.names, name)
		m.types[name] = in.Book.Cells(j.Take[i]).Type
		m.frame.add(name, in.Book.Cells(j.Take[i]), in.Book.Column(j.Take[i]) != nil)
	}
	out.has, out.then = make([]table.Decimal, len(out.names)), make([]takenSum, len(out.names))
	if err := out.keepBeside(); err != nil {
		return nil, err
	}
	out.origins = m.marksOf(in, func(column string) (string, bool) {
		at := slices.Index(j.Take, column)
		if at < 0 {
			return "", false
		}
		return out.names[at], true
	})
	type loaded struct {
		keys table.HashedRows
		rows storedRows
		has  []table.Decimal
		placed
	}
	rowBytes := int64(joinedRowBytes)
	if spanning != nil {
		rowBytes += spanBytes
	}
	work := func(b *table.Batch) (*loaded, error) {
		l := &loaded{rows: encodeRows(b, out.taken)}
		hashes, whole := hashRows(b, there, right, j.Blanks == BlanksEqual)
		defer table.RecycleHashes(hashes)
		if spanning != nil {
			l.placed = spanning.place(b, there)
		}
		for i, row := range b.Rows {
			if spanning != nil && l.none[i] {
				continue
			}
			if whole[i] {
				l.keys.Add(hashes[i], row-1)
			}
		}
		l.has = make([]table.Decimal, len(out.names))
		for k := range l.has {
			if cells := there.cells[out.taken[k]]; cells.Type.IsNumber() {
				l.has[k] = cells.Sum(&b.Columns[out.taken[k]], nil)
			}
		}
		return l, nil
	}
	err = table.ScanBatches(ctx, in.Source, workers, work, func(l *loaded) error {
		n := int64(len(l.rows.begins) - 1)
		if out.rows+n > table.MaxRows {
			return fmt.Errorf("the table has more than %d rows", int64(table.MaxRows))
		}
		if err := out.room(n * rowBytes); err != nil {
			return err
		}
		out.keys.take(&l.keys)
		if err := out.store.take(l.rows); err != nil {
			return err
		}
		if spanning != nil {
			spanning.take(&l.placed)
		}
		out.rows += n
		for k, sum := range l.has {
			out.has[k] = out.has[k].Add(sum)
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	if err := out.store.end(); err != nil {
		return out, err
	}
	out.used = make(rowBits, out.rows/64+1)
	if err := out.keys.sort(workers, share); err != nil {
		return out, err
	}
	if spanning != nil {
		spanning.order(&out.keys)
		out.result.Unplaced = spanning.unplaced
		if a, b := spanning.ambiguous(&out.keys); j.Repeated == RefuseRepeated && a != b {
			return out, fmt.Errorf("rows %d and %d of %s could both be met (%s), so rows would be multiplied; put their ranges or times right, or declare repeated: multiply, or which of them is taken",
				a, b, in.label(), j.spans())
		}
		return out, nil
	}
	switch j.Repeated {
	case RefuseRepeated:
		return out, out.refuseRepeated(ctx, workers)
	case Multiply:
		return out, nil
	}
	return out, out.chooseOne(workers)
}

// room makes room for keys, where there is none by putting on disk what is in memory: cells first, and then keys, unless ranges or
// times are compared beside them.
func (j *joiner) room(need int64) error {
	share := j.store.share
	for !share.Grow(need) {
		freed, err := j.store.spill()
		if err == nil && !freed && j.span == nil {
			n := int64(j.keys.taken) * joinedRowBytes
			if freed, err = j.keys.spill(); freed {
				share.Shrink(n)
			}
		}
		if err != nil {
			return err
		}
		if freed {
			continue
		}
		if j.span != nil {
			return fmt.Errorf("%w: the keys of %s, and the ranges or times that are compared beside them, are held in memory and need more than is left; give the service more, or join a smaller table",
				budget.ErrTooMuch, j.With)
		}
		return fmt.Errorf("%w: the keys of some rows of %s need more than is left; give the service more", budget.ErrTooMuch, j.With)
	}
	return nil
}

// keepBeside has the cells kept that are not taken and yet looked at: the value that decides between rows, and the keys of
// rows that no row asks for.
func (j *joiner) keepBeside() error {
	beside := func(name string) (int, error) {
		at, err := positions(j.there.names, []string{name}, j.With)
		if err != nil {
			return 0, err
		}
		j.taken = append(j.taken, at[0])
		return len(j.taken) - 1, nil
	}
	if j.By != "" {
		var err error
		if j.by, err = beside(j.By); err != nil {
			return err
		}
	}
	if j.Unasked != KeepUnasked {
		return nil
	}
	for i := range j.left {
		l, r := j.left[i], j.right[i]
		if l.column < 0 || r.column < 0 {
			continue // there is no column that it could stand in
		}
		if !j.before.cells[l.column].WrittenAs(j.there.cells[r.column]) {
			return fmt.Errorf("%s of the table so far and %s of %s are written in two ways, so that the key of a row that no row asks for cannot stand with the others; a step standard_form in both fix plans would settle it",
				l.says, r.says, j.With)
		}
		at, err := beside(r.says)
		if err != nil {
			return err
		}
		j.filling = append(j.filling, l.column)
		j.keyAt = append(j.keyAt, at)
	}
	return nil
}

// chooseOne leaves one row of each key, by the rule that is declared.
func (j *joiner) chooseOne(workers int) error {
	var err error
	failed := j.keys.reduce(workers, func(group []table.HashedRow) table.HashedRow {
		one, tied, wrong := j.best(group)
		err = errors.Join(err, wrong)
		if len(group) > 1 {
			j.result.Chosen++
			if tied {
				j.result.Tied++
			}
			for _, other := range group {
				if other.Row != one.Row {
					j.asked.Add(other.Row) // the one that is taken stands for it
				}
			}
		}
		return one
	})
	return errors.Join(err, failed)
}

// best returns the row of those with one key that is taken; tied says that another one was as good.
func (j *joiner) best(rows []table.HashedRow) (best table.HashedRow, tied bool, err error) {
	switch {
	case len(rows) == 1 || j.Repeated == EarliestRow:
		return rows[0], false, nil
	case j.Repeated == LatestRow:
		return rows[len(rows)-1], false, nil
	}
	var most table.Value
	for i, row := range rows {
		cells, err := j.store.row(row.Row, len(j.taken))
		if err != nil {
			return best, false, err
		}
		v := j.there.cells[j.taken[j.by]].Read(cells[j.by]).Value
		switch order := table.Compare(v, most); {
		case i == 0 || most.Kind == table.Missing && v.Kind != table.Missing:
			best, most, tied = row, v, false
		case v.Kind == table.Missing && most.Kind != table.Missing:
		case order == 0:
			tied = true
		case (order > 0) == (j.Repeated == LargestValue):
			best, most, tied = row, v, false
		}
	}
	return best, tied, nil
}

// unaskedRows is how many rows of a joined table that no row asked for are put together.
const unaskedRows = 4096

// unasked adds the rows of a joined table that no row asked for, where they are kept, in the order of that table. They pass
// through the joins after it.
func (m *merger) unasked(ctx context.Context, at int, writer *table.Writer) error {
	j := m.joins[at]
	if j.Unasked != KeepUnasked {
		return nil
	}
	for row := int64(0); row < j.rows; {
		if err := ctx.Err(); err != nil {
			return err
		}
		var partners []int64
		for ; row < j.rows && len(partners) < unaskedRows; row++ {
			if !j.used.has(uint32(row)) && !j.asked.Contains(uint32(row)) {
				partners = append(partners, row)
			}
		}
		out, err := m.unaskedBatch(j, partners)
		if err != nil {
			return err
		}
		if m.sources != nil {
			out.partners = append(make([][]int64, at), partners)
		}
		n, sums := int64(out.out.Len()), m.weigh(out.out, nil)
		out.sumsIn, out.sumsOut = sums, sums
		j.result.Added += n
		j.result.RowsOut += n
		addSums(j.sumsAdded, sums, 1)
		addSums(j.sumsOut, sums, 1)
		if err := m.through(out, at+1, &j.in, int32(-1-at), nil); err != nil {
			return err
		}
		if err := m.put(out, writer); err != nil {
			return err
		}
	}
	return nil
}

// unaskedBatch makes rows of those of a joined table: their key and what is taken of them, and nothing else.
func (m *merger) unaskedBatch(j *joiner, partners []int64) (*joinedBatch, error) {
	b := &table.Batch{Rows: make([]uint32, len(partners)), Lines: make([]int64, len(partners))}
	for i, row := range partners {
		b.Rows[i] = uint32(row) + 1
	}
	for range j.before.names {
		b.Columns = append(b.Columns, table.Column{Texts: []string{""}, Codes: make([]uint32, len(partners))})
	}
	all, _, err := j.cellsOf(partners)
	if err != nil {
		return nil, err
	}
	for i, c := range j.filling {
		b.Columns[c] = all[j.keyAt[i]]
	}
	j.addTaken(j.takenOf(all))
	b.Columns = append(b.Columns, all[:len(j.names)]...)
	out := &joinedBatch{out: b, flags: flags{}}
	for k, name := range j.Take {
		if of := flag(j.origins, name, func(at int) uint32 { return uint32(partners[at] + 1) }, len(partners)); of != nil {
			out.flags[len(j.before.names)+k] = of
		}
	}
	return out, nil
}

// refuseRepeated returns an error where a key is there more than once, for the first such row.
func (j *joiner) refuseRepeated(ctx context.Context, workers int) error {
	first, times := uint32(0), 0
	err := j.keys.groups(func(group []table.HashedRow) bool {
		if len(group) > 1 && (times == 0 || group[0].Row < first) {
			first, times = group[0].Row, len(group)
		}
		return true
	})
	if err != nil || times == 0 {
		return err
	}
	key := ""
	rows := table.NewRowSet()
	rows.Add(first + 1)
	err = table.ScanBatches(ctx, table.Where(j.in.Source, rows), workers, func(b *table.Batch) (string, error) {
		for i, row := range b.Rows {
			if row == first+1 {
				return newKeyReader(b, j.there, j.right, true).text(i), nil
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

// finder returns the partners of a row of a batch, and whether its key is whole. They are looked for once for each text of a
// key of one part.
func (j *joiner) finder(b *table.Batch, keys *keyReader) (func(at int) (found []table.HashedRow, whole bool, err error), error) {
	look := func(at int) (found []table.HashedRow, whole bool, err error) {
		h, whole := keys.hash(at)
		if whole {
			found, err = j.keys.find(h)
		}
		return found, whole, err
	}
	if j.span != nil {
		values := j.span.reader(b, j.before)
		keys.beside = func(at int) string { return values.texts[values.codes[at]] }
		return func(at int) ([]table.HashedRow, bool, error) {
			code := values.codes[at]
			h, whole := keys.hash(at)
			if !whole || values.values[code].Kind == table.Missing {
				return nil, false, nil
			}
			rows, from := j.keys.place(h)
			if len(rows) == 0 {
				return nil, true, nil
			}
			keys.known = true
			value := ""
			if values.ordered != nil {
				value = values.ordered[code]
			}
			return j.span.find(rows, from, values.values[code], value), true, nil
		}, nil
	}
	if len(keys.parts) != 1 {
		return look, nil
	}
	part := &keys.parts[0]
	found := make([][]table.HashedRow, len(part.tokens))
	hashes := make([]table.Hash, len(part.tokens))
	for code, token := range part.tokens {
		hashes[code] = table.With(table.Hash{}, token)
	}
	if err := j.keys.findAll(hashes, found); err != nil {
		return nil, err
	}
	for code := range part.tokens {
		if part.blank(uint32(code)) {
			found[code] = nil
		}
	}
	return func(at int) ([]table.HashedRow, bool, error) {
		code := part.codes[at]
		return found[code], !part.blank(code), nil
	}, nil
}

// cellsOf are all cells that are kept of these rows of the joined table, -1 for none, and which rows these are, each once.
func (j *joiner) cellsOf(partners []int64) ([]table.Column, []uint32, error) {
	columns := make([]table.Column, len(j.taken))
	for k := range columns {
		columns[k] = table.Column{Texts: []string{""}}
	}
	slots := make([]uint32, 1<<bits.Len(uint(2*len(partners)))) // of partners that were met: their place among used, from 1
	shift := 64 - bits.Len(uint(len(slots)-1))
	var used []uint32
	codes := make([]uint32, len(partners))
	last, lastCode := int64(-1), uint32(0)
	for i, partner := range partners {
		if partner < 0 {
			continue
		}
		if partner != last {
			at := int(uint64(partner) * 0x9E3779B97F4A7C15 >> shift) // Fibonacci hashing
			for slots[at] != 0 && used[slots[at]-1] != uint32(partner) {
				at = (at + 1) & (len(slots) - 1)
			}
			if slots[at] == 0 {
				used = append(used, uint32(partner))
				slots[at] = uint32(len(used))
			}
			last, lastCode = partner, slots[at]
		}
		codes[i] = lastCode
	}
	texts, err := j.store.texts(used, len(columns))
	if err != nil {
		return nil, nil, err
	}
	for k := range columns {
		columns[k].Codes, columns[k].Texts = codes, append(columns[k].Texts, texts[k]...)
	}
	return columns, used, nil
}

// foundBy says what rows of a join are found by.
func (j Join) foundBy() string {
	parts := slices.Clone(j.Left)
	if s := j.spans(); s != "" {
		parts = append(parts, s)
	}
	return strings.Join(parts, ", ")
}

// unmatchedError says that a row has no partner where each must have one.
type unmatchedError struct {
	joiner *joiner
	row    uint32
	key    string
	blank  bool // a part of it is, so that it meets nothing
}

// Error implements error.
func (e *unmatchedError) Error() string {
	if e.blank {
		return fmt.Sprintf("row %d has nothing in a part of its key (%s), and so meets no row of %s", e.row, e.joiner.foundBy(), e.joiner.With)
	}
	return fmt.Sprintf("row %d: %s has no row with the key %q", e.row, e.joiner.With, shownKey(e.key))
}

// explain adds to an error the key that a row without a partner nearly has.
func (m *merger) explain(ctx context.Context, workers int, err error) error {
	var e *unmatchedError
	if !errors.As(err, &e) {
		return err
	}
	hint := ""
	if !e.blank && e.joiner.span == nil {
		why, meets, failed := e.joiner.why(ctx, map[string]int64{e.key: 1}, workers)
		if failed != nil {
			return errors.Join(err, failed)
		}
		if other, ok := meets[e.key]; ok {
			hint = fmt.Sprintf(" (it has %q, and would meet it if %s)", shownKey(other), says(why[0].Levelling))
		}
	}
	return &NotMetError{With: e.joiner.With, err: fmt.Errorf("%w%s; put it right in a fix plan, or declare unmatched: keep or set_aside", err, hint)}
}

// NotMetError says that a join is refused since rows find no partner in it.
type NotMetError struct {
	With string // the joined dataset
	err  error
}

// Error implements error.
func (e *NotMetError) Error() string { return e.err.Error() }

// Unwrap implements the interface of package errors.
func (e *NotMetError) Unwrap() error { return e.err }

// Whatever returns the plan with rows kept that find no partner, however many they are: what it does says why.
func (p *Plan) Whatever() *Plan {
	out := *p
	out.Joins = slices.Clone(p.Joins)
	for i := range out.Joins {
		out.Joins[i].MetAtLeast = 0
		if out.Joins[i].Unmatched == RefuseUnmatched {
			out.Joins[i].Unmatched = KeepUnmatched
		}
	}
	return &out
}

// Counting returns the plan as one that only counts which keys meet: looking into why others do not reads joined tables again.
func (p *Plan) Counting() *Plan {
	out := *p
	out.counting = true
	return &out
}

// metEnough refuses a join in which fewer rows find a partner than must.
func (j *joiner) metEnough(r *JoinResult) error {
	if r.RowsIn == 0 || float64(r.Matched)*100 >= j.MetAtLeast*float64(r.RowsIn) {
		return nil
	}
	examples := ""
	if r.Blank > 0 {
		examples = fmt.Sprintf("; %d rows have nothing in a part of their key", r.Blank)
	}
	for _, miss := range r.Misses[:min(len(r.Misses), 3)] {
		examples += fmt.Sprintf("; %q is not there", miss.Key)
		if miss.Close != "" {
			examples += fmt.Sprintf(", %q is", miss.Close)
		}
	}
	for _, w := range r.Why {
		examples += "; " + strings.TrimSuffix(w.Says, ".")
	}
	return &NotMetError{With: j.With, err: fmt.Errorf("join with %s: only %d of %d rows find a partner by %s, fewer than %g %%%s. Put the keys right in a fix plan, or declare met_at_least: with the share that is meant",
		j.With, r.Matched, r.RowsIn, j.foundBy(), j.MetAtLeast, examples)}
}

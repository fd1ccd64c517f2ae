package merge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/budget"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// joinedRowsLimit bounds the table that is joined, of whose rows 32 bytes are held in memory.
	joinedRowsLimit = 20_000_000
	joinedRowBytes  = 32
	examplesShown   = 10
	// missesKept bounds how many different keys without a partner are counted.
	missesKept = 1 << 16
)

// Input is a cleaned table that takes part in a merge.
type Input struct {
	Dataset string
	Source  table.Source
	Book    *rulebook.Rulebook // as it applies to a table of ours
	Digest  string             // SHA-256 of its bytes; empty where it is not known
}

// Accounting says what became of every row.
type Accounting struct {
	Inputs []InputRows  `json:"inputs"`
	Stack  StackResult  `json:"stack"`
	Joins  []JoinResult `json:"joins"`
	Rows   int64        `json:"rows"` // of the merged table
	Sums   Sums         `json:"sums"`
}

// Sums are the exact sums of the measures.
type Sums map[string]string

// InputRows is what one stacked table brought.
type InputRows struct {
	Dataset string `json:"dataset"`
	Rows    int64  `json:"rows"`
	Sums    Sums   `json:"sums"`
}

// StackResult is the stacked table.
type StackResult struct {
	Rows    int64               `json:"rows"`
	Sums    Sums                `json:"sums"`
	Lacking map[string][]string `json:"lacking"` // columns that some of the datasets do not have
}

// JoinResult is what one join did.
type JoinResult struct {
	With           string    `json:"with"`
	On             []string  `json:"on"`
	RowsIn         int64     `json:"rows_in"`
	Matched        int64     `json:"matched"`
	Unmatched      int64     `json:"unmatched"`       // rows whose key the joined table does not have
	SetAside       int64     `json:"set_aside"`       // of these, how many left the table
	Multiplied     int64     `json:"multiplied"`      // rows added because a key was there more than once
	RowsOut        int64     `json:"rows_out"`        // RowsIn - SetAside + Multiplied
	JoinedRows     int64     `json:"joined_rows"`     // of the joined table
	JoinedUnused   int64     `json:"joined_unused"`   // of these, how many no row asked for
	SumsIn         Sums      `json:"sums_in"`         // of each measure
	SumsOut        Sums      `json:"sums_out"`        // SumsIn - SumsSetAside + SumsMultiplied
	SumsSetAside   Sums      `json:"sums_set_aside"`  //
	SumsMultiplied Sums      `json:"sums_multiplied"` //
	Misses         []KeyMiss `json:"misses"`          // the most frequent keys without a partner
	// MissesCut says that there were too many different ones to count: some may be missing here.
	MissesCut bool `json:"misses_cut,omitempty"`
}

// KeyMiss is a key without a partner, and the one it would meet once spaces and case are levelled.
type KeyMiss struct {
	Key   string `json:"key"`
	Rows  int64  `json:"rows"`
	Close string `json:"close,omitempty"`
}

// Balance says where the accounting does not add up, or nil.
func (a *Accounting) Balance() error {
	var rows int64
	sums := map[string]table.Decimal{}
	for _, in := range a.Inputs {
		rows += in.Rows
		add(sums, in.Sums, 1)
	}
	check := func(what string, gotRows int64, got Sums) error {
		if rows != gotRows {
			return fmt.Errorf("the merge does not add up: %s should have %d rows, and has %d", what, rows, gotRows)
		}
		for m, sum := range sums {
			if sum.Shortest() != got[m] {
				return fmt.Errorf("the merge does not add up: in %s the sum of %s should be %s, and is %s", what, m, sum.Shortest(), got[m])
			}
		}
		return nil
	}
	if err := check("the stacked table", a.Stack.Rows, a.Stack.Sums); err != nil {
		return err
	}
	for _, j := range a.Joins {
		if j.Matched+j.Unmatched != j.RowsIn {
			return fmt.Errorf("the merge does not add up: of %d rows joined with %s, %d are matched and %d are not", j.RowsIn, j.With, j.Matched, j.Unmatched)
		}
		rows += j.Multiplied - j.SetAside
		add(sums, j.SumsMultiplied, 1)
		add(sums, j.SumsSetAside, -1)
		if err := check("the table joined with "+j.With, j.RowsOut, j.SumsOut); err != nil {
			return err
		}
	}
	return check("the merged table", a.Rows, a.Sums)
}

func add(into map[string]table.Decimal, sums Sums, sign int64) {
	for m, text := range sums {
		d, _ := table.ParseDecimal(text)
		into[m] = into[m].Add(d.Times(sign))
	}
}

// Run writes the merged table to out. inputs holds a cleaned table for every
// dataset of the plan. It refuses a merge that the plan does not allow: unmatched
// rows or repeated keys where these are refused, columns that are not there.
func Run(ctx context.Context, plan *Plan, inputs map[string]Input, workers int, out io.Writer) (*Accounting, error) {
	m, err := prepare(ctx, plan, inputs, workers)
	defer m.close()
	if err != nil {
		return nil, err
	}
	writer := table.NewWriter(out, m.columns())
	for _, name := range plan.Stack {
		if err := m.stack(ctx, inputs[name], workers, writer); err != nil {
			return nil, m.explain(ctx, inputs, workers, err)
		}
	}
	if err := writer.Flush(); err != nil {
		return nil, err
	}
	return m.accounting(ctx, inputs, workers)
}

// Verify reads the merged table again and holds the accounting against it.
func Verify(ctx context.Context, written table.Source, book *rulebook.Rulebook, accounting *Accounting, workers int) error {
	result, err := audit.Run(ctx, written, book.ForTable(), workers)
	if err != nil {
		return err
	}
	read := *accounting
	read.Rows, read.Sums = result.Rows, Sums{}
	for m := range accounting.Sums {
		sum, ok := result.Sums[m]
		if !ok {
			sum = accounting.Sums[m] // the merged dataset's rulebook does not declare this measure
		}
		read.Sums[m] = sum
	}
	return read.Balance()
}

// merger is a merge under way.
type merger struct {
	plan     *Plan
	stacked  []string // columns of the stacked table
	lacking  map[string][]string
	types    map[string]table.Type // of the columns
	measures map[string]int        // by name, the position in the stacked table
	readers  map[string]*rulebook.Cells
	keyed    map[string]*rulebook.Cells // of columns that may be of a key, by their name in the table so far
	joins    []*joiner
	inputs   []InputRows
	stackN   int64
	sums     map[string]table.Decimal
	outN     int64
	outSums  map[string]table.Decimal
}

// joiner is a joined table in memory.
type joiner struct {
	Join
	at     []int // of the left columns
	left   []keyPart
	right  []keyPart
	taken  []int // in the joined table
	names  []string
	store  rowStore          // the taken cells
	keys   []table.HashedRow // sorted; rows from 0
	rows   int64
	used   *table.RowSet
	in     Input
	missed bool // more different keys than are counted

	result                                   JoinResult
	sumsIn, sumsOut, sumsAside, sumsMultiple map[string]table.Decimal
	misses                                   map[string]int64
}

func prepare(ctx context.Context, plan *Plan, inputs map[string]Input, workers int) (*merger, error) {
	m := &merger{plan: plan, types: map[string]table.Type{}, lacking: map[string][]string{}, measures: map[string]int{}, readers: map[string]*rulebook.Cells{}, keyed: map[string]*rulebook.Cells{},
		sums: map[string]table.Decimal{}, outSums: map[string]table.Decimal{}}
	if err := different(plan, inputs); err != nil {
		return m, err
	}
	for _, name := range plan.Stack {
		in := inputs[name]
		for _, column := range in.Source.Columns() {
			t := table.TypeText
			if c := in.Book.Column(column); c != nil {
				t = c.Type
			}
			if known, ok := m.types[column]; ok && known != t {
				return m, fmt.Errorf("the column %q is of type %s in one dataset and of type %s in %s; declare it alike before stacking", column, known, t, name)
			}
			m.types[column] = t
			if _, ok := m.keyed[column]; !ok {
				m.keyed[column] = in.Book.Cells(column)
			}
			if !slices.Contains(m.stacked, column) {
				m.stacked = append(m.stacked, column)
			}
		}
		for _, measure := range in.Book.Measures {
			m.readers[measure] = in.Book.Cells(measure)
		}
	}
	for _, name := range plan.Stack {
		for _, column := range m.stacked {
			if !slices.Contains(inputs[name].Source.Columns(), column) {
				m.lacking[column] = append(m.lacking[column], name)
			}
		}
	}
	for name := range m.readers {
		m.measures[name] = slices.Index(m.stacked, name)
	}
	for _, j := range plan.Joins {
		joined, err := m.load(ctx, j, inputs[j.With], workers)
		if joined != nil {
			m.joins = append(m.joins, joined)
		}
		if err != nil {
			return m, fmt.Errorf("join with %s: %w", j.With, err)
		}
	}
	return m, nil
}

func (m *merger) close() {
	for _, j := range m.joins {
		j.store.close()
	}
}

// different refuses a merge in which the same bytes take part under two names.
func different(plan *Plan, inputs map[string]Input) error {
	seen := map[string]string{}
	for _, name := range plan.Datasets() {
		digest := inputs[name].Digest
		if other, ok := seen[digest]; ok && digest != "" {
			return fmt.Errorf("the tables of %s and %s have the same bytes; a table takes part in a merge once, or its rows and sums would be counted twice", other, name)
		}
		seen[digest] = name
	}
	return nil
}

func (m *merger) columns() []string {
	columns := slices.Clone(m.stacked)
	for _, j := range m.joins {
		columns = append(columns, j.names...)
	}
	if m.plan.Origin != "" {
		columns = append(columns, m.plan.Origin)
	}
	return columns
}

func positions(columns, wanted []string, where string) ([]int, error) {
	at := make([]int, len(wanted))
	for i, name := range wanted {
		if at[i] = slices.Index(columns, name); at[i] < 0 {
			return nil, fmt.Errorf("%s has no column %q%s", where, name, document.Nearest(name, columns))
		}
	}
	return at, nil
}

// keyPart is one column of a key, as it is compared: numbers, dates and times by their value
// where both sides are declared so, everything else to the letter.
type keyPart struct {
	cells *rulebook.Cells // nil for to the letter
}

// identity is what a text is compared by; empty where it is missing.
func (k keyPart) identity(text string) string {
	if k.cells == nil {
		return text
	}
	cell := k.cells.Read(text)
	switch {
	case cell.Missing:
		return ""
	case cell.Mistyped:
		return text
	}
	return cell.Value.Identity()
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
	return a.IsNumber() && b.IsNumber() || a == b && a != table.TypeText && a != table.TypeCode
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
	out := &joiner{Join: j, at: left, taken: taken, in: in, used: table.NewRowSet(), misses: map[string]int64{}, store: rowStore{share: share},
		sumsIn: map[string]table.Decimal{}, sumsOut: map[string]table.Decimal{}, sumsAside: map[string]table.Decimal{}, sumsMultiple: map[string]table.Decimal{}}
	out.left, out.right = m.keyParts(j, in)
	for i, name := range j.Take {
		if slices.Contains(m.columns(), name) || slices.Contains(out.names, name) { // two columns of one name are kept apart by their dataset
			name = j.With + "_" + name
		}
		out.names = append(out.names, name)
		m.types[name], m.keyed[name] = in.Book.Cells(j.Take[i]).Type, in.Book.Cells(j.Take[i])
	}
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
			return fmt.Errorf("the table has more than %d rows; stack it instead, and join the smaller one", joinedRowsLimit)
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
	slices.SortFunc(out.keys, func(a, b table.HashedRow) int { return cmp.Or(compareHash(a.Hash, b.Hash), cmp.Compare(a.Row, b.Row)) })
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
	start, found := slices.BinarySearchFunc(j.keys, h, func(e table.HashedRow, h table.Hash) int { return compareHash(e.Hash, h) })
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

// joinedBatch is a batch after all joins; the counts are taken over in file order.
type joinedBatch struct {
	in      int64
	sumsIn  map[string]table.Decimal
	out     *table.Batch
	sumsOut map[string]table.Decimal
	joins   []batchJoin
}

type batchJoin struct {
	in, matched, unmatched, aside, multiplied, out int64

	sumsIn, sumsOut, sumsAside, sumsMultiple map[string]table.Decimal
	misses                                   map[string]int64
	missed                                   bool
	used                                     []uint32
}

func (m *merger) stack(ctx context.Context, in Input, workers int, writer *table.Writer) error {
	source := in.Source.Columns()
	from := make([]int, len(m.stacked))
	for i, name := range m.stacked {
		from[i] = slices.Index(source, name)
	}
	rows := InputRows{Dataset: in.Dataset}
	sums := map[string]table.Decimal{}
	work := func(b *table.Batch) (*joinedBatch, error) { return m.join(b, from, in.Dataset) }
	err := table.Scan(ctx, in.Source, workers, work, func(j *joinedBatch) error {
		rows.Rows += j.in
		addSums(sums, j.sumsIn, 1)
		for i, one := range j.joins {
			m.joins[i].take(one)
		}
		m.outN += int64(j.out.Len())
		addSums(m.outSums, j.sumsOut, 1)
		return writer.Write(j.out)
	})
	if err != nil {
		return fmt.Errorf("stacking %s: %w", in.Dataset, err)
	}
	rows.Sums = m.named(sums)
	m.inputs = append(m.inputs, rows)
	m.stackN += rows.Rows
	addSums(m.sums, sums, 1)
	return nil
}

func addSums(into, from map[string]table.Decimal, sign int64) {
	for m, d := range from {
		into[m] = into[m].Add(d.Times(sign))
	}
}

// join lays the batch out in the columns of the stack and passes it through every join.
func (m *merger) join(b *table.Batch, from []int, dataset string) (*joinedBatch, error) {
	columns := make([]table.Column, len(from))
	nothing := table.Column{Texts: []string{""}, Codes: make([]uint32, b.Len())}
	for i, c := range from {
		if columns[i] = nothing; c >= 0 {
			columns[i] = b.Columns[c]
		}
	}
	out := &joinedBatch{in: int64(b.Len()), out: &table.Batch{Columns: columns, Rows: b.Rows, Lines: b.Lines}}
	out.sumsIn = m.weigh(out.out, nil)
	for _, j := range m.joins {
		done, err := m.joinOne(j, out.out)
		if err != nil {
			return nil, err
		}
		out.out = done.batch
		out.joins = append(out.joins, done.batchJoin)
	}
	if m.plan.Origin != "" {
		out.out.Columns = append(out.out.Columns, table.Column{Texts: []string{dataset}, Codes: make([]uint32, out.out.Len())})
	}
	out.sumsOut = m.weigh(out.out, nil)
	return out, nil
}

type joinedOne struct {
	batchJoin
	batch *table.Batch
}

func (m *merger) joinOne(j *joiner, b *table.Batch) (*joinedOne, error) {
	out := &joinedOne{batchJoin: batchJoin{in: int64(b.Len()), misses: map[string]int64{}}}
	out.sumsIn = m.weigh(b, nil)
	var rows []int       // of b
	var partners []int64 // in the joined table, -1 for none
	var aside, extra []int
	keys := newKeyReader(b, j.at, j.left)
	for i := range b.Rows {
		var found []table.HashedRow
		if h, whole := keys.hash(i); whole {
			found = j.partners(h)
		}
		for n, partner := range found {
			if n > 0 {
				extra = append(extra, i)
			}
			rows, partners = append(rows, i), append(partners, int64(partner.Row))
			out.used = append(out.used, partner.Row)
		}
		if len(found) > 0 {
			out.matched++
			continue
		}
		key := keyText(b.Columns, j.at, i)
		out.unmatched++
		if _, known := out.misses[key]; known || len(out.misses) < missesKept {
			out.misses[key]++
		} else {
			out.missed = true
		}
		switch j.Unmatched {
		case RefuseUnmatched:
			return nil, &unmatchedError{j, b.Rows[i], key}
		case SetAside:
			aside = append(aside, i)
		default:
			rows, partners = append(rows, i), append(partners, -1)
		}
	}
	out.aside, out.multiplied, out.out = int64(len(aside)), int64(len(extra)), int64(len(rows))
	out.sumsAside, out.sumsMultiple = m.weigh(b, orNone(aside)), m.weigh(b, orNone(extra))
	out.batch = gather(b, rows)
	added, err := j.takenCells(partners)
	if err != nil {
		return nil, err
	}
	out.batch.Columns = append(out.batch.Columns, added...)
	out.sumsOut = m.weigh(out.batch, nil)
	return out, nil
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

func orNone(rows []int) []int {
	if rows == nil {
		return []int{}
	}
	return rows
}

// gather makes a batch of some rows, which may repeat.
func gather(b *table.Batch, rows []int) *table.Batch {
	out := &table.Batch{Columns: make([]table.Column, len(b.Columns)), Rows: make([]uint32, len(rows)), Lines: make([]int64, len(rows))}
	for c := range b.Columns {
		codes := make([]uint32, len(rows))
		for k, i := range rows {
			codes[k] = b.Columns[c].Codes[i]
		}
		out.Columns[c] = table.Column{Texts: b.Columns[c].Texts, Codes: codes}
	}
	for k, i := range rows {
		out.Rows[k], out.Lines[k] = b.Rows[i], b.Lines[i]
	}
	return out
}

// weigh sums the measures over some rows of the batch; nil means all.
func (m *merger) weigh(b *table.Batch, rows []int) map[string]table.Decimal {
	sums := map[string]table.Decimal{}
	for name, c := range m.measures {
		sums[name] = m.readers[name].Sum(&b.Columns[c], rows)
	}
	return sums
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

func (j *joiner) take(b batchJoin) {
	r := &j.result
	r.RowsIn += b.in
	r.Matched += b.matched
	r.Unmatched += b.unmatched
	r.SetAside += b.aside
	r.Multiplied += b.multiplied
	r.RowsOut += b.out
	j.used.AddMany(b.used)
	addSums(j.sumsIn, b.sumsIn, 1)
	addSums(j.sumsOut, b.sumsOut, 1)
	addSums(j.sumsAside, b.sumsAside, 1)
	addSums(j.sumsMultiple, b.sumsMultiple, 1)
	j.missed = j.missed || b.missed
	for _, key := range slices.Sorted(maps.Keys(b.misses)) {
		if _, known := j.misses[key]; known || len(j.misses) < missesKept {
			j.misses[key] += b.misses[key]
		} else {
			j.missed = true
		}
	}
}

func (m *merger) named(sums map[string]table.Decimal) Sums {
	out := Sums{}
	for name := range m.measures {
		out[name] = sums[name].Shortest()
	}
	return out
}

func (m *merger) accounting(ctx context.Context, inputs map[string]Input, workers int) (*Accounting, error) {
	a := &Accounting{Inputs: m.inputs, Joins: []JoinResult{}, Rows: m.outN, Sums: m.named(m.outSums)}
	a.Stack = StackResult{Rows: m.stackN, Sums: m.named(m.sums), Lacking: m.lacking}
	for _, j := range m.joins {
		r := j.result
		r.With, r.On, r.JoinedRows = j.With, j.Left, j.rows
		r.JoinedUnused = j.rows - int64(j.used.GetCardinality())
		r.SumsIn, r.SumsOut, r.SumsSetAside, r.SumsMultiplied = m.named(j.sumsIn), m.named(j.sumsOut), m.named(j.sumsAside), m.named(j.sumsMultiple)
		r.Misses, r.MissesCut = []KeyMiss{}, j.missed
		keys := slices.SortedFunc(maps.Keys(j.misses), func(a, b string) int { return cmp.Or(cmp.Compare(j.misses[b], j.misses[a]), cmp.Compare(a, b)) })
		keys = keys[:min(len(keys), examplesShown)]
		near, err := j.near(ctx, keys, workers)
		if err != nil {
			return nil, err
		}
		for _, key := range keys {
			r.Misses = append(r.Misses, KeyMiss{shownKey(key), j.misses[key], shownKey(near[key])})
		}
		if err := j.metEnough(&r); err != nil {
			return nil, err
		}
		a.Joins = append(a.Joins, r)
	}
	return a, a.Balance()
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

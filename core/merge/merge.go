package merge

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// joinedRowsLimit bounds the table that is joined, which is held in memory.
	joinedRowsLimit = 5_000_000
	examplesShown   = 10
)

// Input is a cleaned table that takes part in a merge.
type Input struct {
	Dataset string
	Source  table.Source
	Book    *rulebook.Rulebook // as it applies to a table of ours
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
	if err != nil {
		return nil, err
	}
	writer := table.NewWriter(out, m.columns())
	for _, name := range plan.Stack {
		if err := m.stack(ctx, inputs[name], workers, writer); err != nil {
			return nil, err
		}
	}
	if err := writer.Flush(); err != nil {
		return nil, err
	}
	return m.accounting()
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
	measures map[string]int // by name, the position in the stacked table
	readers  map[string]*rulebook.Cells
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
	at       []int // of the left columns
	names    []string
	columns  []table.Column // the taken ones
	index    map[string][]uint32
	levelled map[string]string
	rows     int64
	used     *table.RowSet

	result                                   JoinResult
	sumsIn, sumsOut, sumsAside, sumsMultiple map[string]table.Decimal
	misses                                   map[string]int64
}

func prepare(ctx context.Context, plan *Plan, inputs map[string]Input, workers int) (*merger, error) {
	m := &merger{plan: plan, lacking: map[string][]string{}, measures: map[string]int{}, readers: map[string]*rulebook.Cells{},
		sums: map[string]table.Decimal{}, outSums: map[string]table.Decimal{}}
	types := map[string]table.Type{}
	for _, name := range plan.Stack {
		in := inputs[name]
		for _, column := range in.Source.Columns() {
			t := table.TypeText
			if c := in.Book.Column(column); c != nil {
				t = c.Type
			}
			if known, ok := types[column]; ok && known != t {
				return nil, fmt.Errorf("the column %q is of type %s in one dataset and of type %s in %s; declare it alike before stacking", column, known, t, name)
			}
			types[column] = t
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
		if err != nil {
			return nil, fmt.Errorf("join with %s: %w", j.With, err)
		}
		m.joins = append(m.joins, joined)
	}
	return m, nil
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

// load reads the table to be joined into memory.
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
	out := &joiner{Join: j, at: left, index: map[string][]uint32{}, levelled: map[string]string{}, used: table.NewRowSet(), misses: map[string]int64{},
		sumsIn: map[string]table.Decimal{}, sumsOut: map[string]table.Decimal{}, sumsAside: map[string]table.Decimal{}, sumsMultiple: map[string]table.Decimal{}}
	for _, name := range j.Take {
		if slices.Contains(m.columns(), name) { // two columns of one name are kept apart by their dataset
			name = j.With + "_" + name
		}
		out.names = append(out.names, name)
	}
	out.columns = make([]table.Column, len(taken))
	err = table.Scan(ctx, in.Source, workers, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
		if out.rows+int64(b.Len()) > joinedRowsLimit {
			return fmt.Errorf("the table has more than %d rows; stack it instead, and join the smaller one", joinedRowsLimit)
		}
		for i := range b.Rows {
			if key, whole := joinKey(b.Columns, right, i); whole {
				out.index[key] = append(out.index[key], uint32(out.rows)+uint32(i))
				out.levelled[table.Level(key)] = key
			}
		}
		for k, c := range taken {
			base := uint32(len(out.columns[k].Texts))
			out.columns[k].Texts = append(out.columns[k].Texts, b.Columns[c].Texts...)
			for _, code := range b.Columns[c].Codes {
				out.columns[k].Codes = append(out.columns[k].Codes, base+code)
			}
		}
		out.rows += int64(b.Len())
		return nil
	})
	if err != nil {
		return nil, err
	}
	for key, rows := range out.index {
		if len(rows) > 1 && j.Repeated == RefuseRepeated {
			return nil, fmt.Errorf("the key %s is there %d times in %s, so rows would be multiplied; make it unique, or declare repeated: multiply", shownKey(key), len(rows), j.With)
		}
	}
	for k := range out.columns { // the last text is what a row without a partner gets
		out.columns[k].Texts = append(out.columns[k].Texts, "")
	}
	return out, nil
}

const keySeparator = "\x1f"

func shownKey(key string) string { return strings.ReplaceAll(key, keySeparator, " / ") }

// joinKey is the text of a row's key; whole is false where a part is missing.
func joinKey(columns []table.Column, at []int, row int) (key string, whole bool) {
	parts := make([]string, len(at))
	for k, c := range at {
		if parts[k] = columns[c].At(row); parts[k] == "" {
			return "", false
		}
	}
	return strings.Join(parts, keySeparator), true
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
	for i := range b.Rows {
		key, _ := joinKey(b.Columns, j.at, i)
		found := j.index[key]
		for n, partner := range found {
			if n > 0 {
				extra = append(extra, i)
			}
			rows, partners = append(rows, i), append(partners, int64(partner))
			out.used = append(out.used, partner)
		}
		if len(found) > 0 {
			out.matched++
			continue
		}
		out.unmatched++
		out.misses[key]++
		switch j.Unmatched {
		case RefuseUnmatched:
			return nil, fmt.Errorf("row %d: %s has no row with the key %q%s; put it right in a fix plan, or declare unmatched: keep or set_aside", b.Rows[i], j.With, shownKey(key), j.hint(key))
		case SetAside:
			aside = append(aside, i)
		default:
			rows, partners = append(rows, i), append(partners, -1)
		}
	}
	out.aside, out.multiplied, out.out = int64(len(aside)), int64(len(extra)), int64(len(rows))
	out.sumsAside, out.sumsMultiple = m.weigh(b, orNone(aside)), m.weigh(b, orNone(extra))
	out.batch = gather(b, rows)
	for k := range j.columns {
		column := table.Column{Texts: j.columns[k].Texts, Codes: make([]uint32, len(rows))}
		for i, partner := range partners {
			column.Codes[i] = uint32(len(column.Texts) - 1)
			if partner >= 0 {
				column.Codes[i] = j.columns[k].Codes[partner]
			}
		}
		out.batch.Columns = append(out.batch.Columns, column)
	}
	out.sumsOut = m.weigh(out.batch, nil)
	return out, nil
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

// hint names the key that would be met once spaces and case are levelled.
func (j *joiner) hint(key string) string {
	if other, ok := j.levelled[table.Level(key)]; ok {
		return fmt.Sprintf(" (it has %q)", shownKey(other))
	}
	return ""
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
	for key, n := range b.misses {
		j.misses[key] += n
	}
}

func (m *merger) named(sums map[string]table.Decimal) Sums {
	out := Sums{}
	for name := range m.measures {
		out[name] = sums[name].Shortest()
	}
	return out
}

func (m *merger) accounting() (*Accounting, error) {
	a := &Accounting{Inputs: m.inputs, Joins: []JoinResult{}, Rows: m.outN, Sums: m.named(m.outSums)}
	a.Stack = StackResult{Rows: m.stackN, Sums: m.named(m.sums), Lacking: m.lacking}
	for _, j := range m.joins {
		r := j.result
		r.With, r.On, r.JoinedRows = j.With, j.Left, j.rows
		r.JoinedUnused = j.rows - int64(j.used.GetCardinality())
		r.SumsIn, r.SumsOut, r.SumsSetAside, r.SumsMultiplied = m.named(j.sumsIn), m.named(j.sumsOut), m.named(j.sumsAside), m.named(j.sumsMultiple)
		r.Misses = []KeyMiss{}
		for key, n := range j.misses {
			r.Misses = append(r.Misses, KeyMiss{shownKey(key), n, shownKey(j.levelled[table.Level(key)])})
		}
		slices.SortFunc(r.Misses, func(a, b KeyMiss) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Key, b.Key)) })
		r.Misses = r.Misses[:min(len(r.Misses), examplesShown)]
		a.Joins = append(a.Joins, r)
	}
	return a, a.Balance()
}

package merge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// joinedRowBytes is what the key of a row of a joined table takes, where it is in memory.
	joinedRowBytes = 28
	examplesShown  = 10
	// missesKept bounds how many different keys without a partner are counted.
	missesKept = 1 << 16
)

// Outputs are where a merge writes.
type Outputs struct {
	Table io.Writer // the merged table, as CSV
	// Marks says which cells are estimates, as table.Marks writes it; nothing where none are. Nil where it is not wanted.
	Marks io.Writer
	// Unmet is a table of the rows that found no partner in a join, as CSV, with where each is from; of a merge in which every row
	// found one it has column names alone. Nil where it is not wanted.
	Unmet io.Writer
	// Sources says which rows each row of the merged table was made of, as Parquet of Sourced. Nil where it is not wanted.
	Sources io.Writer
}

// Run writes the merged table to out. Cells that were estimated in an input are marked in it too. inputs holds the cleaned tables of every
// dataset of the plan that take part: one of each that is joined. It refuses a merge that the plan does not allow: unmatched
// rows or repeated keys where these are refused, columns that are not there.
func Run(ctx context.Context, plan *Plan, inputs Inputs, workers int, out Outputs) (*Accounting, error) {
	m, err := prepare(ctx, plan, inputs, workers)
	defer m.close()
	if err != nil {
		return nil, err
	}
	writer := table.NewWriter(out.Table, m.columns())
	if out.Unmet != nil {
		m.unmet = table.NewWriter(out.Unmet, m.unmetNames())
	}
	if out.Sources != nil {
		m.sources = newSources(out.Sources)
	}
	err = m.write(ctx, workers, writer)
	if m.sources != nil {
		err = errors.Join(err, m.sources.end())
	}
	if err != nil {
		return nil, err
	}
	if err := writer.Flush(); err != nil {
		return nil, err
	}
	if m.unmet != nil {
		if err := m.unmet.Flush(); err != nil {
			return nil, err
		}
	}
	if out.Marks != nil {
		if err := (&table.Marks{All: m.marks}).Write(out.Marks); err != nil {
			return nil, err
		}
	}
	return m.accounting(ctx, workers)
}

// write writes the rows of the merged table.
func (m *merger) write(ctx context.Context, workers int, writer *table.Writer) error {
	for _, t := range m.tables {
		if err := m.stack(ctx, t, workers, writer); err != nil {
			return m.explain(ctx, workers, err)
		}
	}
	if err := m.endShared(ctx, workers); err != nil {
		return err
	}
	for i := range m.joins {
		if err := m.unasked(ctx, i, writer); err != nil {
			return err
		}
	}
	return nil
}

// Verify reads the merged table again and holds the accounting against it.
func Verify(ctx context.Context, written table.Source, book *rulebook.Rulebook, accounting *Accounting,
	workers int) error {
	result, err := audit.Measured(ctx, written, book.ForTable(accounting.Reading), declared(book, slices.Sorted(maps.Keys(accounting.Sums))), workers)
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

// declared returns those of some measures that a rulebook says how to read.
func declared(book *rulebook.Rulebook, measures []string) []string {
	return slices.DeleteFunc(measures, func(m string) bool { return !slices.Contains(book.Measures, m) })
}

// merger is a merge under way.
type merger struct {
	plan      *Plan
	tables    []*stackedTable
	stacked   []string           // columns of the stacked table
	firsts    []*Input           // the table that each of them was met in first
	declared  []*rulebook.Column // and how it is declared there
	gathering *gathering         // what they have is being gathered; nil where that is done, or not wanted
	shared    *shared            // what the stacked tables have in common; nil of a single one
	periods   []*covered         // the days of each table
	lacking   map[string][]string
	types     map[string]table.Type // of the columns
	measures  map[string]int        // by name, the position in the stacked table
	readers   map[string]*rulebook.Cells
	frame     *frame // of the table so far
	joins     []*joiner
	inputs    []InputRows
	stackN    int64
	sums      map[string]table.Decimal
	outN      int64
	outSums   map[string]table.Decimal
	marks     []table.Mark  // of the merged table
	unmet     *table.Writer // of the rows that met nothing; nil where they are not wanted
	unmetN    int64
	sources   *sources   // of which rows each row is made; nil where that is not wanted
	files     []*os.File // of tables whose grain was changed
	asideN    int64      // rows for which others of the stack stand
	filled    map[string]int64

	sumsAside, sumsFilled map[string]table.Decimal

	reading rulebook.TableReading
}

func prepare(ctx context.Context, plan *Plan, inputs Inputs, workers int) (*merger, error) {
	m := &merger{plan: plan, types: map[string]table.Type{}, lacking: map[string][]string{}, measures: map[string]int{},
		readers: map[string]*rulebook.Cells{}, frame: &frame{}, filled: map[string]int64{},
		sums: map[string]table.Decimal{}, outSums: map[string]table.Decimal{}, sumsAside: map[string]table.Decimal{}, sumsFilled: map[string]table.Decimal{}}
	if err := different(plan, inputs); err != nil {
		return m, err
	}
	inputs, err := m.changeGrains(ctx, inputs, workers)
	if err != nil {
		return m, err
	}
	if err := m.layOut(inputs); err != nil {
		return m, err
	}
	if m.reading, err = m.readingOf(inputs); err != nil {
		return m, err
	}
	if plan.Period != "" && m.periodColumn() < 0 {
		return m, fmt.Errorf("the stack has no column %q, by whose days it is to be told%s", plan.Period, document.Nearest(plan.Period, m.stacked))
	}
	if err := m.beginShared(ctx, workers); err != nil {
		return m, err
	}
	for _, j := range plan.Joins {
		joined, err := m.load(ctx, j, *inputs.of(j.With)[0], workers)
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
	if m.shared != nil {
		m.shared.held.close()
	}
	if m.gathering != nil {
		m.gathering.close()
	}
	for _, j := range m.joins {
		j.store.close()
		j.keys.close()
	}
	for _, f := range m.files {
		_ = f.Close()
	}
}

// different refuses a merge in which the same bytes take part twice, or a dataset not as often as it must.
func different(plan *Plan, inputs Inputs) error {
	seen := map[string]*Input{}
	for i := range inputs {
		in := &inputs[i]
		if other, ok := seen[in.Digest]; ok && in.Digest != "" {
			return fmt.Errorf("the tables of %s and %s have the same bytes; a table takes part in a merge once, or its rows and sums would be counted twice", other.label(), in.label())
		}
		seen[in.Digest] = in
	}
	for _, name := range plan.Datasets() {
		switch n := len(inputs.of(name)); {
		case n == 0:
			return fmt.Errorf("no table of %s takes part", name)
		case n > 1 && !slices.Contains(plan.Stack, name):
			return fmt.Errorf("%d tables of %s are to be joined; one table of a dataset is joined, several can be stacked", n, name)
		}
	}
	return nil
}

func (m *merger) columns() []string {
	columns := slices.Clone(m.frame.names)
	names, _ := m.originColumns(&Input{}, nil)
	return append(columns, names...)
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

// joinedBatch is a batch after all joins; the counts are taken over in file order.
type joinedBatch struct {
	in      int64
	sumsIn  map[string]table.Decimal
	aside   int64         // rows for which others of the stack stand
	filled  map[int]int64 // cells that were filled from other rows, by the column of the stack
	out     *table.Batch
	flags   flags  // of the cells of out
	rows    []byte // as they are written
	sumsOut map[string]table.Decimal
	joins   []batchJoin
	// partners are the rows of each joined table that the rows have columns of, from 0, -1 for none; nil of a join that they did
	// not come through, and where nobody wants to know.
	partners [][]int64
	sourced  []Sourced

	gathered *gatheredBatch // what several tables of the stack may have; nil where that is known

	sumsAside, sumsFilled map[string]table.Decimal
	asideRows             []byte // as they are written
	asideN                int64
}

type batchJoin struct {
	in, matched, unmatched, blank, aside, multiplied, out int64
	outside                                               int64 // of those unmatched, those whose key is there
	chosen, tied                                          int64 // rows of which one of several partners was taken
	stood                                                 []uint32

	sumsIn, sumsOut, sumsAside, sumsMultiple map[string]table.Decimal
	misses                                   map[string]int64
	missed                                   bool
	used                                     []uint32
	taken                                    []takenSum // of each column that is added
	unmetRows                                []byte     // those without a partner, as they are written
	unmetN                                   int64
}

// takenSum is what some rows have of a column that is added.
type takenSum struct {
	filled int64
	sum    table.Decimal
}

// takenOf counts what rows have of the columns that are added.
func (j *joiner) takenOf(columns []table.Column) []takenSum {
	out := make([]takenSum, len(j.names))
	for k := range out {
		cells, c := j.there.cells[j.taken[k]], &columns[k]
		for code, n := range c.Counts(nil) {
			if n == 0 || c.Texts[code] == "" {
				continue
			}
			if cells.Type == table.TypeText && !cells.MayStandForNothing(c.Texts[code]) {
				out[k].filled += n
				continue
			}
			cell := cells.Read(c.Texts[code])
			if !cell.Missing {
				out[k].filled += n
			}
			if cell.Value.Kind == table.Number {
				out[k].sum = out[k].sum.Add(cell.Value.Number.Times(n))
			}
		}
	}
	return out
}

func (j *joiner) addTaken(all []takenSum) {
	for k, one := range all {
		j.then[k].filled += one.filled
		j.then[k].sum = j.then[k].sum.Add(one.sum)
	}
}

func addSums(into, from map[string]table.Decimal, sign int64) {
	for m, d := range from {
		into[m] = into[m].Add(d.Times(sign))
	}
}

// through passes a batch through the joins from one on, and says where its rows are from: a table, by its place as Sourced has it,
// and where that is stacked the same.
func (m *merger) through(out *joinedBatch, from int, in *Input, place int32, t *stackedTable) error {
	out.joins = make([]batchJoin, from)
	for _, j := range m.joins[from:] {
		done, err := m.joinOne(j, out.out, out.flags, out.sumsOut)
		if err != nil {
			return err
		}
		if len(done.unmet) > 0 {
			done.unmetRows, done.unmetN = m.unmetRows(out.out, done.unmet, done.unmetKeys, in, noPartner+j.With)
		}
		if m.sources != nil {
			if done.rows != nil {
				out.partners = gathered(out.partners, done.rows)
			}
			out.partners = append(out.partners, done.partners)
		}
		out.out, out.flags, out.sumsOut = done.batch, done.flags, done.sumsOut
		out.joins = append(out.joins, done.batchJoin)
	}
	if m.sources != nil {
		out.sourced = m.sourcedOf(out, place, t)
	}
	_, origin := m.originColumns(in, out.out.Rows)
	out.out.Columns = append(out.out.Columns, origin...)
	out.rows = table.AppendRows(table.BytesRoom(), out.out)
	return nil
}

// put accounts for a batch that went through the joins, and writes it.
func (m *merger) put(j *joinedBatch, writer *table.Writer) error {
	for i, one := range j.joins {
		m.joins[i].take(one)
		if err := m.apart(one.unmetRows, one.unmetN); err != nil {
			return err
		}
	}
	m.mark(j.flags, m.outN)
	m.outN += int64(j.out.Len())
	addSums(m.outSums, j.sumsOut, 1)
	if m.sources != nil && len(j.sourced) > 0 {
		if err := m.sources.put(j.sourced); err != nil {
			return err
		}
	}
	defer table.RecycleBytes(j.rows)
	return writer.WriteRows(j.rows)
}

// apart writes rows to the table of those that found no partner, or for which others stand.
func (m *merger) apart(rows []byte, n int64) error {
	if m.unmet == nil || n == 0 {
		return nil
	}
	m.unmetN += n
	return m.unmet.WriteRows(rows)
}

type joinedOne struct {
	batchJoin
	batch     *table.Batch
	flags     flags
	rows      []int    // those of the batch that was joined that its rows are; nil where these are all, once
	partners  []int64  // in the joined table, -1 for none
	unmet     []int    // rows of the batch that was joined which found no partner, where they are wanted
	unmetKeys []string // and their keys
}

// joinOne joins a batch of which the sums are known.
func (m *merger) joinOne(j *joiner, b *table.Batch, f flags, sums map[string]table.Decimal) (*joinedOne, error) {
	out := &joinedOne{batchJoin: batchJoin{in: int64(b.Len()), misses: map[string]int64{}, sumsIn: sums}}
	rows := make([]int, 0, b.Len())       // of b
	partners := make([]int64, 0, b.Len()) // in the joined table, -1 for none
	var aside, extra []int
	keys := newKeyReader(b, j.before, j.left, j.Blanks == BlanksEqual)
	find, err := j.finder(b, keys)
	if err != nil {
		return nil, err
	}
	for i := range b.Rows {
		keys.known = false
		found, whole, err := find(i)
		if err != nil {
			return nil, err
		}
		if j.span != nil && len(found) > 1 && j.Repeated != Multiply {
			one, tied, err := j.best(found)
			if err != nil {
				return nil, err
			}
			if out.chosen++; tied {
				out.tied++
			}
			for _, other := range found {
				if other.Row != one.Row {
					out.stood = append(out.stood, other.Row)
				}
			}
			found = []table.HashedRow{one}
		}
		for n, partner := range found {
			if n > 0 {
				extra = append(extra, i)
			}
			rows, partners = append(rows, i), append(partners, int64(partner.Row))
		}
		if len(found) > 0 {
			out.matched++
			continue
		}
		key := keys.text(i)
		if out.unmatched++; keys.known {
			out.outside++
		}
		if !whole {
			out.blank++
		} else if _, known := out.misses[key]; known || len(out.misses) < missesKept {
			out.misses[key]++
		} else {
			out.missed = true
		}
		if m.unmet != nil {
			out.unmet, out.unmetKeys = append(out.unmet, i), append(out.unmetKeys, shownKey(key))
		}
		switch j.Unmatched {
		case RefuseUnmatched:
			return nil, &unmatchedError{j, b.Rows[i], key, !whole}
		case SetAside:
			aside = append(aside, i)
		default:
			rows, partners = append(rows, i), append(partners, -1)
		}
	}
	out.aside, out.multiplied, out.out = int64(len(aside)), int64(len(extra)), int64(len(rows))
	out.sumsAside, out.sumsMultiple = m.weigh(b, orNone(aside)), m.weigh(b, orNone(extra))
	out.sumsOut = maps.Clone(sums)
	addSums(out.sumsOut, out.sumsAside, -1)
	addSums(out.sumsOut, out.sumsMultiple, 1)
	if len(aside)+len(extra) == 0 { // every row stays as it is
		copied := *b
		copied.Columns = slices.Clone(b.Columns)
		out.batch, out.flags = &copied, maps.Clone(f)
	} else {
		out.batch, out.flags, out.rows = gather(b, rows), f.gathered(rows), rows
	}
	out.partners = partners
	for k, name := range j.Take {
		if of := flag(j.origins, name, func(at int) uint32 { return uint32(partners[at] + 1) }, len(partners)); of != nil {
			out.flags[len(b.Columns)+k] = of
		}
	}
	added, used, err := j.cellsOf(partners)
	if err != nil {
		return nil, err
	}
	out.used, out.taken = used, j.takenOf(added)
	out.batch.Columns = append(out.batch.Columns, added[:len(j.names)]...)
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
	out := &table.Batch{Columns: make([]table.Column, len(b.Columns)), Rows: make([]uint32, len(rows)),
		Lines: make([]int64, len(rows))}
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
		if rows != nil && len(rows) == 0 {
			sums[name] = table.Decimal{}
			continue
		}
		sums[name] = m.readers[name].Sum(&b.Columns[c], rows)
	}
	return sums
}

func (j *joiner) take(b batchJoin) {
	r := &j.result
	r.RowsIn += b.in
	r.Matched += b.matched
	r.Unmatched += b.unmatched
	r.Blank += b.blank
	r.Outside += b.outside
	r.Chosen += b.chosen
	r.Tied += b.tied
	j.asked.AddMany(b.stood)
	r.SetAside += b.aside
	r.Multiplied += b.multiplied
	r.RowsOut += b.out
	j.used.set(b.used)
	j.addTaken(b.taken)
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

func (m *merger) accounting(ctx context.Context, workers int) (*Accounting, error) {
	estimates := map[string]int64{}
	for _, how := range m.marks {
		if n := int64(how.Rows.GetCardinality()); n > 0 {
			estimates[how.Column] += n
		}
	}
	a := &Accounting{Estimates: estimates, Inputs: m.inputs, Joins: []JoinResult{}, Rows: m.outN, Sums: m.named(m.outSums), Reading: m.reading, Unmet: m.unmetN}
	a.Stack = m.stackResult()
	for _, j := range m.joins {
		r := j.result
		r.With, r.Table, r.On, r.Beside, r.JoinedRows, r.Grain = j.With, j.in.Table, append([]string{}, j.Left...), j.spans(), j.rows, j.in.grain
		r.JoinedUnused = j.rows - j.used.count()
		r.SumsIn, r.SumsOut, r.SumsSetAside, r.SumsMultiplied = m.named(j.sumsIn), m.named(j.sumsOut),
			m.named(j.sumsAside), m.named(j.sumsMultiple)
		if j.Unasked == KeepUnasked {
			r.SumsAdded = m.named(j.sumsAdded)
		}
		r.Misses, r.MissesCut, r.Taken = []KeyMiss{}, j.missed, []Taken{}
		for k, name := range j.names {
			one := Taken{Column: name, From: j.Take[k], Filled: j.then[k].filled, Of: r.RowsOut}
			if j.there.cells[j.taken[k]].Type.IsNumber() {
				one.SumThere, one.SumThen = j.has[k].Shortest(), j.then[k].sum.Shortest()
			}
			r.Taken = append(r.Taken, one)
		}
		keys := slices.SortedFunc(maps.Keys(j.misses),
			func(a, b string) int { return cmp.Or(cmp.Compare(j.misses[b], j.misses[a]), cmp.Compare(a, b)) })
		r.Why = []Why{}
		var meets map[string]string
		if len(keys) > 0 && j.span == nil && !m.plan.counting {
			var err error
			if r.Why, meets, err = j.why(ctx, j.misses, workers); err != nil {
				return nil, err
			}
		}
		r.MissesMore = int64(max(len(keys)-examplesShown, 0))
		for _, key := range keys[:min(len(keys), examplesShown)] {
			r.Misses = append(r.Misses, KeyMiss{shownKey(key), j.misses[key], shownKey(meets[key])})
		}
		if err := j.metEnough(&r); err != nil {
			return nil, err
		}
		a.Joins = append(a.Joins, r)
	}
	return a, a.Balance()
}

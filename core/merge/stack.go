package merge

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Input is a cleaned table that takes part in a merge.
type Input struct {
	Dataset string
	Table   int64  // the number that its keeper knows it by; 0 for none
	Name    string // of the file that it was delivered as; empty where it is not known
	Source  table.Source
	Book    *rulebook.Rulebook // as it applies to a table of ours
	Digest  string             // SHA-256 of its bytes; empty where it is not known

	grain *GrainResult // of a table whose grain was changed for the merge
}

// label names a table in messages.
func (in *Input) label() string {
	switch {
	case in.Table > 0 && in.Name != "":
		return fmt.Sprintf("%s (table %d, %s)", in.Dataset, in.Table, in.Name)
	case in.Table > 0:
		return fmt.Sprintf("%s (table %d)", in.Dataset, in.Table)
	case in.Name != "":
		return fmt.Sprintf("%s (%s)", in.Dataset, in.Name)
	}
	return in.Dataset
}

// Inputs are the tables that take part, those of one dataset in the order in which they arrived.
type Inputs []Input

// of returns the tables of a dataset.
func (all Inputs) of(dataset string) []*Input {
	var out []*Input
	for i := range all {
		if all[i].Dataset == dataset {
			out = append(out, &all[i])
		}
	}
	return out
}

// stackedTable is one of the tables that are put under each other.
type stackedTable struct {
	*Input
	names   []string // of its columns, as the stack calls them
	from    []int    // for each column of the stack its own; -1 where it lacks it
	first   int64    // rows of the stack before it
	origins []origin
}

// own is what a table itself calls a column of the stack.
func (t *stackedTable) own(column string) string {
	return t.Source.Columns()[slices.Index(t.names, column)]
}

func (t *stackedTable) cells(column string) *rulebook.Cells { return t.Book.Cells(t.own(column)) }

// lays puts the columns of a batch of the table where the stack has them.
func (t *stackedTable) lays(b *table.Batch) *table.Batch {
	columns := make([]table.Column, len(t.from))
	nothing := table.Column{Texts: []string{""}, Codes: make([]uint32, b.Len())}
	for i, c := range t.from {
		if columns[i] = nothing; c >= 0 {
			columns[i] = b.Columns[c]
		}
	}
	return &table.Batch{Columns: columns, Rows: b.Rows, Lines: b.Lines}
}

// layOut finds the tables of the stack and the columns that they have together.
func (m *merger) layOut(inputs Inputs) error {
	for _, dataset := range m.plan.Stack {
		for _, in := range inputs.of(dataset) {
			t := &stackedTable{Input: in}
			if err := t.call(m.plan.Columns[dataset]); err != nil {
				return err
			}
			if err := m.meetColumns(t); err != nil {
				return err
			}
			m.tables = append(m.tables, t)
		}
	}
	for _, t := range m.tables {
		t.from = make([]int, len(m.stacked))
		for i, name := range m.stacked {
			if t.from[i] = slices.Index(t.names, name); t.from[i] < 0 {
				m.lacking[name] = append(m.lacking[name], m.shortly(t.Input))
			}
		}
		t.origins = m.marksOf(*t.Input, func(column string) (string, bool) {
			return t.names[slices.Index(t.Source.Columns(), column)], true
		})
	}
	for _, t := range m.tables {
		for _, measure := range t.Book.Measures {
			at := slices.Index(t.Source.Columns(), measure)
			if at < 0 {
				continue
			}
			name := t.names[at]
			m.measures[name] = slices.Index(m.stacked, name)
			m.readers[name] = m.frame.cells[m.measures[name]]
		}
	}
	return nil
}

// shortly names a table by its dataset, and by its own where the stack has several of it.
func (m *merger) shortly(in *Input) string {
	if m.plan.Tables[in.Dataset].Several() {
		return in.label()
	}
	return in.Dataset
}

// call gives the columns of a table the names that the stack has for them.
func (t *stackedTable) call(renamed map[string]string) error {
	t.names = slices.Clone(t.Source.Columns())
	for _, was := range slices.Sorted(maps.Keys(renamed)) {
		at := slices.Index(t.Source.Columns(), was)
		if at < 0 {
			return fmt.Errorf("%s has no column %q%s", t.label(), was, document.Nearest(was, t.Source.Columns()))
		}
		t.names[at] = renamed[was]
	}
	for i, name := range t.names {
		if other := slices.Index(t.names[:i], name); other >= 0 {
			return fmt.Errorf("%s would bring two columns as %q: %q and %q; call one of them otherwise", t.label(), name, t.Source.Columns()[other], t.Source.Columns()[i])
		}
	}
	return nil
}

// meetColumns adds the columns of a table to those of the stack, and refuses those that are something else there.
func (m *merger) meetColumns(t *stackedTable) error {
	for i, name := range t.names {
		own := t.Source.Columns()[i]
		cells, declared := t.Book.Cells(own), t.Book.Column(own)
		at := slices.Index(m.stacked, name)
		if at < 0 {
			m.stacked = append(m.stacked, name)
			m.types[name] = cells.Type
			m.frame.add(name, cells, declared != nil)
			m.firsts = append(m.firsts, t.Input)
			m.declared = append(m.declared, declared)
			continue
		}
		if m.types[name] != cells.Type {
			return fmt.Errorf("the column %q is of type %s in %s and of type %s in %s; declare it alike before stacking, and have a step convert or standard_form in the fix plan of the one make its values so, or call it otherwise in columns",
				name, m.types[name], m.firsts[at].label(), cells.Type, t.label())
		}
		if err := m.sameThing(name, m.declared[at], declared, m.firsts[at], t.Input); err != nil {
			return err
		}
	}
	return nil
}

// sameThing refuses to stack a column whose unit or codes mean other things in another table.
func (m *merger) sameThing(name string, a, b *rulebook.Column, first, other *Input) error {
	if a == nil || b == nil {
		return nil
	}
	if a.Unit != b.Unit && a.Unit != "" && b.Unit != "" {
		return fmt.Errorf("the column %q is in %s in %s and in %s in %s, so that its sums would mean nothing; a step convert in the fix plan of one of them, with times, would settle it",
			name, a.Unit, first.label(), b.Unit, other.label())
	}
	if a.CodeList == "" || b.CodeList == "" || slices.Contains(m.plan.OtherCodes, name) {
		return nil
	}
	if says := first.Book.CodeLists[a.CodeList].Contradicts(other.Book.CodeLists[b.CodeList]); says != "" {
		return fmt.Errorf("the codes of the column %q are not the same in %s and in %s: %s; a step map_codes in the fix plan of one of them would settle it, or name the column in other_codes",
			name, first.label(), other.label(), says)
	}
	return nil
}

// stack writes the rows of a table of the stack, through all joins.
func (m *merger) stack(ctx context.Context, t *stackedTable, workers int, writer *table.Writer) error {
	rows := InputRows{Dataset: t.Dataset, Table: t.Table, Name: t.Name, Columns: t.Source.Columns()}
	if t.grain != nil {
		grain := *t.grain
		grain.SumsBefore = Sums{}
		for measure, sum := range t.grain.SumsBefore {
			grain.SumsBefore[t.names[slices.Index(t.Source.Columns(), measure)]] = sum
		}
		rows.Grain = &grain
	}
	sums := map[string]table.Decimal{}
	days := &covered{}
	if m.gathering != nil {
		t.first = m.stackN
		m.periods = append(m.periods, days)
	}
	work := func(b *table.Batch) (*joinedBatch, error) { return m.join(b, t) }
	err := table.ScanBatches(ctx, t.Source, workers, work, func(j *joinedBatch) error {
		if rows.Rows += j.in; m.stackN+rows.Rows > table.MaxRows {
			return errTooManyStacked
		}
		if j.gathered != nil {
			if err := m.takeGathered(j.gathered, days); err != nil {
				return err
			}
		}
		rows.SetAside += j.aside
		m.asideN += j.aside
		addSums(sums, j.sumsIn, 1)
		addSums(m.sumsAside, j.sumsAside, 1)
		addSums(m.sumsFilled, j.sumsFilled, 1)
		for c, n := range j.filled {
			m.filled[m.stacked[c]] += n
		}
		if err := m.apart(j.asideRows, j.asideN); err != nil {
			return err
		}
		return m.put(j, writer)
	})
	if err != nil {
		return fmt.Errorf("stacking %s: %w", t.label(), err)
	}
	rows.Sums = m.named(sums)
	m.inputs = append(m.inputs, rows)
	m.stackN += rows.Rows - rows.SetAside
	addSums(m.sums, sums, 1)
	return nil
}

// join lays a batch out in the columns of the stack and passes it through every join.
func (m *merger) join(b *table.Batch, t *stackedTable) (*joinedBatch, error) {
	out := &joinedBatch{in: int64(b.Len()), out: t.lays(b), flags: flags{}}
	for i := range t.from {
		if of := flag(t.origins, m.stacked[i], func(at int) uint32 { return b.Rows[at] }, b.Len()); of != nil {
			out.flags[i] = of
		}
	}
	if m.gathering != nil {
		period := m.periodColumn()
		var cells *rulebook.Cells
		if period >= 0 {
			if cells = m.frame.cells[period]; t.from[period] < 0 {
				period = -1
			}
		}
		out.gathered = m.gather(out.out, t, m.shared.parts(), period, cells)
	}
	out.sumsIn = m.weigh(out.out, nil)
	out.sumsOut = out.sumsIn
	if err := m.settle(out, t); err != nil {
		return nil, err
	}
	err := m.through(out, 0, t.Input, int32(slices.Index(m.tables, t)), t)
	out.out.Columns = nil // what is asked of the rows from here on was worked out
	table.Recycle(b.Columns)
	return out, err
}

// settle takes out of a batch of the stack the rows for which others stand, and fills the cells of those that stand for others.
func (m *merger) settle(out *joinedBatch, t *stackedTable) error {
	if m.shared == nil || m.gathering != nil || m.shared.aside.IsEmpty() {
		return nil
	}
	if err := m.shared.fill(m, out, t); err != nil {
		return err
	}
	b := out.out
	var kept, aside []int
	for i, row := range b.Rows {
		if m.shared.aside.Contains(uint32(t.first) + row) {
			aside = append(aside, i)
		} else {
			kept = append(kept, i)
		}
	}
	if len(aside) == 0 {
		return nil
	}
	out.aside, out.sumsAside = int64(len(aside)), m.weigh(b, aside)
	out.sumsOut = maps.Clone(out.sumsOut)
	addSums(out.sumsOut, out.sumsAside, -1)
	if m.unmet != nil {
		keys := make([]string, len(aside))
		reader := newKeyReader(b, m.frame, m.shared.parts(), true)
		for k, i := range aside {
			keys[k] = shownKey(reader.text(i))
		}
		out.asideRows, out.asideN = m.unmetRows(b, aside, keys, t.Input, anotherStands)
	}
	out.out, out.flags = gather(b, kept), out.flags.gathered(kept)
	return nil
}

// origin are the columns that say where a row is from, as they are declared: its dataset, its table and its row there.
func (m *merger) originColumns(in *Input, rows []uint32) (names []string, columns []table.Column) {
	alike := func(text string) table.Column {
		return table.Column{Texts: []string{text}, Codes: make([]uint32, len(rows))}
	}
	if m.plan.Origin != "" {
		names, columns = append(names, m.plan.Origin), append(columns, alike(in.Dataset))
	}
	if m.plan.OriginTable != "" {
		text := cmp.Or(in.Name, in.Dataset)
		if in.Table > 0 {
			text = strconv.FormatInt(in.Table, 10)
		}
		names, columns = append(names, m.plan.OriginTable), append(columns, alike(text))
	}
	if m.plan.OriginRow != "" {
		names, columns = append(names, m.plan.OriginRow), append(columns, numbered(rows))
	}
	return names, columns
}

// stackResult says what the stack came to.
func (m *merger) stackResult() StackResult {
	sums := maps.Clone(m.sums)
	addSums(sums, m.sumsAside, -1)
	addSums(sums, m.sumsFilled, 1)
	r := StackResult{Rows: m.stackN, Sums: m.named(sums), Lacking: m.lacking, Periods: m.periodsOf(), SetAside: m.asideN, Renamed: m.plan.Columns}
	if m.shared != nil {
		r.Shared = &m.shared.result
	}
	if m.asideN > 0 {
		r.SumsSetAside = m.named(m.sumsAside)
	}
	if len(m.filled) > 0 {
		r.Filled, r.SumsFilled = m.filled, m.named(m.sumsFilled)
	}
	return r
}

// numbered is a column of numbers.
func numbered(rows []uint32) table.Column {
	c := table.Column{Texts: make([]string, len(rows)), Codes: make([]uint32, len(rows))}
	for k, row := range rows {
		c.Texts[k], c.Codes[k] = strconv.FormatUint(uint64(row), 10), uint32(k)
	}
	return c
}

package fix

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// changesShown is how many changes a preview lists.
const changesShown = 300

// Ledger accounts for rows and sums from the delivery to the cleaned table.
type Ledger struct {
	RowsIn  int64             `json:"rows_in"`
	RowsOut int64             `json:"rows_out"`
	SumsIn  map[string]string `json:"sums_in"` // of each measure, exact
	SumsOut map[string]string `json:"sums_out"`
	Steps   []LedgerStep      `json:"steps"`
	// Written counts, per column, the cells that say the same in the standard form:
	// another date pattern or decimal mark, or nothing for a mark of a missing value.
	Written map[string]int64 `json:"written"`
	// Unheaded is how many rows had cells beyond the header's; the change log has them.
	Unheaded int64 `json:"unheaded"`
}

// LedgerStep is what one step did.
type LedgerStep struct {
	Step   int               `json:"step"`
	Kind   string            `json:"kind"`
	Reason string            `json:"reason"`
	Cells  int64             `json:"cells"`          // changed
	Rows   int64             `json:"rows"`           // removed
	Sums   map[string]string `json:"sums"`           // what each measure's sum changed by
	Note   string            `json:"note,omitempty"` // what a steward should look at
}

// Balance says where the ledger does not add up, or nil.
func (l *Ledger) Balance() error {
	rows := l.RowsIn
	sums := map[string]table.Decimal{}
	for m, text := range l.SumsIn {
		sums[m], _ = table.ParseDecimal(text)
	}
	for _, s := range l.Steps {
		rows -= s.Rows
		for m, text := range s.Sums {
			d, _ := table.ParseDecimal(text)
			sums[m] = sums[m].Add(d)
		}
	}
	if rows != l.RowsOut {
		return fmt.Errorf("the ledger does not add up: %d rows in, less what the steps removed, are %d, and %d are in the table", l.RowsIn, rows, l.RowsOut)
	}
	for m, sum := range sums {
		if sum.Shortest() != l.SumsOut[m] {
			return fmt.Errorf("the ledger does not add up: the sum of %s should be %s, and is %s in the table", m,
				sum.Shortest(), l.SumsOut[m])
		}
	}
	return nil
}

// Preview is what a plan would do.
type Preview struct {
	Ledger      Ledger        `json:"ledger"`
	ChangeCount int64         `json:"change_count"`
	Changes     []Change      `json:"changes"` // the first changesShown
	Before      *audit.Result `json:"before"`
	After       *audit.Result `json:"after"`
}

// Show works out what plan would do to source without writing anything.
func Show(ctx context.Context, source table.Source, book *rulebook.Rulebook, plan *Plan,
	workers int) (*Preview, error) {
	r, err := decide(ctx, source, book, plan, workers)
	if err != nil {
		return nil, err
	}
	out := &Preview{Changes: []Change{}}
	ledger, err := r.run(ctx, source, workers, func(_ *table.Batch, changes []Change) error {
		out.ChangeCount += int64(len(changes))
		out.Changes = append(out.Changes, changes[:min(len(changes), changesShown-len(out.Changes))]...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	out.Ledger = *ledger
	if out.Before, err = audit.Run(ctx, source, book, workers); err != nil {
		return nil, err
	}
	out.After, err = audit.Run(ctx, stepped{source, r}, book, workers)
	return out, err
}

// Apply writes the cleaned table to out, in the standard reading, and its change
// log, as JSON Lines, to log. The caller checks the table with Verify.
func Apply(ctx context.Context, source table.Source, book *rulebook.Rulebook, plan *Plan, workers int,
	out, log io.Writer) (*Ledger, error) {
	r, err := decide(ctx, source, book, plan, workers)
	if err != nil {
		return nil, err
	}
	writer := table.NewWriter(out, r.names)
	buffered := bufio.NewWriterSize(log, 1<<16)
	lines := json.NewEncoder(buffered)
	ledger, err := r.run(ctx, source, workers, func(b *table.Batch, changes []Change) error {
		for i := range changes {
			if err := lines.Encode(&changes[i]); err != nil {
				return err
			}
		}
		return writer.Write(b)
	})
	if err != nil {
		return nil, err
	}
	if err := buffered.Flush(); err != nil {
		return nil, err
	}
	return ledger, writer.Flush()
}

// Verify reads the written table again, on its own terms, and holds the ledger against it.
func Verify(ctx context.Context, written table.Source, book *rulebook.Rulebook, ledger *Ledger, workers int) error {
	result, err := audit.Run(ctx, written, book.ForTable(rulebook.TableReading{}), workers)
	if err != nil {
		return err
	}
	read := *ledger
	read.RowsOut, read.SumsOut = result.Rows, result.Sums
	return read.Balance()
}

// stepped is a table as it stands after the steps.
type stepped struct {
	table.Source
	runner *runner
}

// Open implements table.Source.
func (s stepped) Open(ctx context.Context) (table.Parts, error) {
	parts, err := s.Source.Open(ctx)
	return steppedParts{parts, s.runner}, err
}

type steppedParts struct {
	table.Parts
	runner *runner
}

// Next implements table.Parts.
func (s steppedParts) Next() (table.Part, error) {
	part, err := s.Parts.Next()
	return steppedPart{part, s.runner}, err
}

type steppedPart struct {
	table.Part
	runner *runner
}

// Batch implements table.Part.
func (s steppedPart) Batch([]*table.Dictionary) (*table.Batch, error) {
	b, err := s.Part.Batch(nil)
	if err != nil {
		return nil, err
	}
	return s.runner.apply(b, len(s.runner.plan.Steps), false).batch, nil
}

// decide makes a pass over the table for every step that must compare rows.
func decide(ctx context.Context, source table.Source, book *rulebook.Rulebook, plan *Plan,
	workers int) (*runner, error) {
	r := newRunner(plan, book, source.Columns())
	for i, s := range plan.Steps {
		for _, name := range s.Action.Columns() {
			if _, ok := r.position[name]; !ok {
				return nil, fmt.Errorf("step %d (%s): the table has no column %q; its columns are %s", i+1, s.Kind,
					name, strings.Join(r.names, ", "))
			}
		}
		chooser, ok := s.Action.(Chooser)
		if !ok {
			continue
		}
		d, err := r.decideStep(ctx, source, i, chooser, workers)
		if err != nil {
			return nil, fmt.Errorf("step %d (%s): %w", i+1, s.Kind, err)
		}
		r.decided[i] = d
	}
	return r, nil
}

func (r *runner) decideStep(ctx context.Context, source table.Source, i int, chooser Chooser,
	workers int) (*decisions, error) {
	groups := table.NewGroups(table.NewRoom(2))
	defer groups.Close()
	hash := func(b *table.Batch) ([]table.HashedRow, error) {
		return r.hashRows(r.apply(b, i, false).batch, chooser), nil
	}
	if err := table.Scan(ctx, source, workers, hash, groups.AddAll); err != nil {
		return nil, err
	}
	members := map[uint32]int{} // row to group
	var sizes int
	rows := table.NewRowSet()
	if err := groups.Repeated(workers, func(_ table.Hash, group []uint32) error {
		for _, row := range group {
			members[row] = sizes
			rows.Add(row)
		}
		sizes++
		return nil
	}); err != nil {
		return nil, err
	}
	return r.choose(ctx, source, i, workers, &groupRows{chooser, members, sizes, rows})
}

func (r *runner) hashRows(b *table.Batch, chooser Chooser) []table.HashedRow {
	out := make([]table.HashedRow, 0, b.Len())
	group := chooser.Groups(r.typed(b))
	for at, row := range b.Rows {
		if h, whole := group(at); whole {
			out = append(out, table.HashedRow{Hash: h, Row: row})
		}
	}
	return out
}

// groupRows are the rows that belong together by a chooser.
type groupRows struct {
	chooser Chooser
	members map[uint32]int // row to group
	groups  int
	rows    *table.RowSet // all of them
}

// rank says how well a row does in its group: the greatest is kept.
type rank struct {
	row   uint32
	value table.Value
}

// choose picks the survivor of every group. Rows are met in file order, and only a
// better one replaces the row chosen so far, so that the earliest of equals stays.
func (r *runner) choose(ctx context.Context, source table.Source, i, workers int, g *groupRows) (*decisions, error) {
	best := make([]rank, g.groups)
	work := func(b *table.Batch) ([]rank, error) {
		b = r.apply(b, i, false).batch
		var ranks []rank
		value := g.chooser.Ranks(r.typed(b))
		for at, row := range b.Rows {
			if g.rows.Contains(row) {
				ranks = append(ranks, rank{row, value(at)})
			}
		}
		return ranks, nil
	}
	err := table.ScanWhere(ctx, source, g.rows, workers, work, func(ranks []rank) error {
		for _, one := range ranks {
			chosen := &best[g.members[one.row]]
			if chosen.row == 0 || g.chooser.Better(one.value, chosen.value) {
				*chosen = one
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	d := &decisions{drop: table.NewRowSet(), keptBy: map[uint32]uint32{}}
	for row, group := range g.members {
		if best[group].row != row {
			d.drop.Add(row)
			d.keptBy[row] = best[group].row
		}
	}
	return d, nil
}

// run makes the last pass: every batch through every step, in file order to take.
func (r *runner) run(ctx context.Context, source table.Source, workers int,
	take func(*table.Batch, []Change) error) (*Ledger, error) {
	total := &worked{steps: make([]stepWork, len(r.plan.Steps)), written: make([]int64, len(r.names)),
		sumsIn: make([]table.Decimal, len(r.measures)), sumsOut: make([]table.Decimal, len(r.measures))}
	for i := range total.steps {
		total.steps[i].sums = make([]table.Decimal, len(r.measures))
	}
	l := &Ledger{}
	work := func(b *table.Batch) (*worked, error) {
		w := r.apply(b, len(r.plan.Steps), true)
		return w, r.standardise(w)
	}
	err := table.Scan(ctx, source, workers, work, func(w *worked) error {
		l.RowsIn += w.rowsIn
		l.RowsOut += int64(w.batch.Len())
		l.Unheaded += int64(len(w.batch.Surplus))
		addAll(total.sumsIn, w.sumsIn)
		addAll(total.sumsOut, w.sumsOut)
		for i, s := range w.steps {
			t := &total.steps[i]
			t.cells, t.rows, t.matched = t.cells+s.cells, t.rows+s.rows, t.matched+s.matched
			addAll(t.sums, s.sums)
		}
		for c, n := range w.written {
			total.written[c] += n
		}
		total.mixed = append(total.mixed, w.mixed[:min(len(w.mixed), 5)]...)
		return take(w.batch, w.changes)
	})
	if err != nil {
		return nil, err
	}
	if len(total.mixed) > 0 {
		return nil, mixedError(total.mixed)
	}
	r.fillLedger(l, total)
	return l, l.Balance()
}

func addAll(into, from []table.Decimal) {
	for i, d := range from {
		into[i] = into[i].Add(d)
	}
}

func (r *runner) named(sums []table.Decimal) map[string]string {
	out := map[string]string{}
	for m, c := range r.measures {
		out[r.names[c]] = sums[m].Shortest()
	}
	return out
}

func (r *runner) fillLedger(l *Ledger, total *worked) {
	l.SumsIn, l.SumsOut, l.Written, l.Steps = r.named(total.sumsIn), r.named(total.sumsOut), map[string]int64{},
		[]LedgerStep{}
	for c, n := range total.written {
		if n > 0 {
			l.Written[r.names[c]] = n
		}
	}
	for i, s := range r.plan.Steps {
		t := total.steps[i]
		step := LedgerStep{Step: i + 1, Kind: s.Kind, Reason: s.Reason, Cells: t.cells, Rows: t.rows,
			Sums: r.named(t.sums)}
		if noter, ok := s.Action.(Noter); ok {
			step.Note = noter.Note(t.matched)
		}
		if step.Note == "" && t.cells == 0 && t.rows == 0 {
			step.Note = "This step had nothing to do."
		}
		l.Steps = append(l.Steps, step)
	}
}

// standardise puts the cells into the standard form, and the rest of what a table
// of ours cannot hold (cells beyond the header, undecodable bytes) into the log.
func (r *runner) standardise(w *worked) error {
	standard := table.StandardFormat
	for c := range w.batch.Columns {
		old := w.batch.Columns[c]
		counts := old.Counts(nil)
		texts := make([]string, len(old.Texts))
		for k, text := range old.Texts {
			cell := r.cells[c].Read(text)
			texts[k] = text
			switch {
			case cell.Missing:
				texts[k] = ""
			case cell.Mistyped:
				if _, ok := standard.Parse(r.cells[c].Type, text); ok && counts[k] > 0 {
					for at, code := range old.Codes {
						if int(code) == k {
							w.mixed = append(w.mixed, Change{Row: w.batch.Rows[at], Line: w.batch.Lines[at],
								Column: r.names[c], Old: text})
						}
					}
				}
			case cell.Value.Kind != table.Text:
				texts[k] = cell.Value.Standard()
			}
			if texts[k] != text {
				if w.written == nil {
					w.written = make([]int64, len(r.names))
				}
				w.written[c] += counts[k]
			}
		}
		w.replace(c, table.Column{Texts: texts, Codes: old.Codes})
	}
	for at := range w.batch.Rows {
		cells, ok := w.batch.Surplus[at]
		if !ok {
			continue
		}
		w.changes = append(w.changes, Change{Row: w.batch.Rows[at], Line: w.batch.Lines[at],
			Old:    strings.Join(cells, " | "),
			Reason: "The row has more cells than the header has names; the table cannot hold them."})
	}
	for _, d := range w.batch.Defects {
		if d.Kind == table.BadBytes {
			w.changes = append(w.changes, Change{Row: d.Row, Line: d.Line, Column: d.Column, Old: d.Detail,
				Reason: "The bytes stand for no character in the declared encoding; the table has a mark in their place."})
		}
	}
	return nil
}

// mixedError refuses to write texts that would quietly become values: a text that
// is no number by the delivery's reading and is one by the table's.
func mixedError(mixed []Change) error {
	places := make([]string, 0, 5)
	for _, m := range mixed[:min(len(mixed), 5)] {
		places = append(places, fmt.Sprintf("%q in %s (line %d)", m.Old, m.Column, m.Line))
	}
	return fmt.Errorf("some values are not of their type as the delivery is read, but would be in the table, with another meaning perhaps: %s; decide each with a step set_cell or set_missing", strings.Join(places, ", "))
}

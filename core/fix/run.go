package fix

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Outputs are where a run writes; what is nil is not wanted.
type Outputs struct {
	Table io.Writer // the cleaned table, as CSV
	Log   io.Writer // the change log, as JSON Lines of LogEntry
	// Map has, for every row that a step made of others, which those were, as JSON Lines of RowMade.
	Map io.Writer
	// Marks says which cells of the cleaned table are estimates, as table.Marks writes it; nothing where none are.
	Marks io.Writer
	// Draws has the draws of these cells beyond the first, as Parquet of Draw; nothing where there are none.
	Draws io.Writer
}

// whole returns the outputs with somewhere for what is not wanted.
func (o Outputs) whole() Outputs {
	for _, w := range []*io.Writer{&o.Table, &o.Log, &o.Map, &o.Marks, &o.Draws} {
		if *w == nil {
			*w = io.Discard
		}
	}
	return o
}

// Input is a table with what is declared of it.
type Input struct {
	Source table.Source
	Book   *rulebook.Rulebook
	// Result is the rulebook of the dataset that the plan makes, where that is another; nil for Book.
	Result *rulebook.Rulebook
	// Stages, where it is set, keep what is done for the next run on the same table, which Key names together with all that
	// says how it is read.
	Stages *Stages
	Key    string
}

// key names what a run of a plan rests on beside its steps; empty where nothing is kept of it.
func (in Input) key(plan *Plan) string {
	if in.Stages == nil || in.Key == "" {
		return ""
	}
	today := int64(0)
	if in.Book.Beside != nil {
		today = in.Book.Beside.Today
	}
	return fmt.Sprintf("%s %s %v %d", in.Key, plan.Makes, plan.Earlier, today)
}

// Run makes the cleaned table of a table. A preview is a run whose outputs are thrown away; whoever keeps them asks the
// ledger first whether a step was refused (Ledger.Refused), and holds the table against it (Verify). Nothing of the
// table that arrived changes. The outcome does not depend on the number of workers.
func Run(ctx context.Context, in Input, plan *Plan, workers int, out Outputs) (*Ledger, error) {
	out = out.whole()
	r := &run{plan: plan, workers: workers}
	if err := r.bind(in); err != nil {
		return nil, err
	}
	defer r.close()
	maps := bufio.NewWriterSize(out.Map, 1<<16)
	t := &Table{run: r, source: in.Source, Frame: r.arrived, step: -1}
	defer func() { t.close() }()
	if err := r.before(ctx, in, &t, len(r.steps), maps); err != nil {
		return nil, err
	}
	writer := table.NewWriter(out.Table, t.Names)
	if err := t.last(ctx, writer); err != nil {
		return nil, err
	}
	if err := errors.Join(writer.Flush(), maps.Flush(), r.writeMarks(t.Frame, out)); err != nil {
		return nil, err
	}
	l := r.ledger(t)
	var err error
	if l.LogAt, err = r.log.writeTo(out.Log); err != nil {
		return nil, err
	}
	return l, l.Balance()
}

// before takes a table up to a step: those before it are done, or are pending.
func (r *run) before(ctx context.Context, in Input, at **Table, step int, maps *bufio.Writer) (err error) {
	var made []*stage
	defer func() {
		other := in.Book.Beside != nil && len(in.Book.Beside.Used) > 0 // tables that may be others the next time
		if err == nil && !other && len(made) > 0 {
			in.Stages.keep(made)
			return
		}
		for _, one := range made {
			one.release()
		}
	}()
	key, begun, whole := in.key(r.plan), 0, true
	if key != "" {
		if known := in.Stages.find(key, r.plan.Steps[:step]); known != nil {
			begun = len(known.steps)
			*at = known.goOn(r)
		}
	}
	for i := begun; i < step; i++ {
		s, t := &r.steps[i], *at
		next := t
		switch {
		case s.off:
		case s.work.Settle != nil:
			next, err = t.settle(ctx, i)
		case s.work.Make != nil:
			next, err = t.make(ctx, i, maps)
		default:
			t.pending = append(t.pending, i)
		}
		if err != nil {
			return fmt.Errorf("step %d (%s): %w", i+1, s.Kind, err)
		}
		next.Frame, *at = s.after, next
		// The map of rows that were made goes out as it is made, and is not kept.
		whole = whole && (s.off || s.work.Make == nil)
		if _, spooled := next.source.(*spool); key != "" && whole && spooled && !s.off && s.settled {
			made = append(made, stageOf(key, r, next, i+1))
		}
	}
	return nil
}

func (r *run) close() {
	r.log.close()
	r.drawn.close()
}

// Compare shows what each method would make of the gaps that a step of a plan estimates, from 1, as the step finds the table.
func Compare(ctx context.Context, in Input, plan *Plan, step, workers int) (*estimate.Comparison, error) {
	r := &run{plan: plan, workers: workers}
	if err := r.bind(in); err != nil {
		return nil, err
	}
	defer r.close()
	if step < 1 || step > len(r.steps) || r.steps[step-1].off || r.steps[step-1].work.Compare == nil {
		return nil, fmt.Errorf("step %d of the plan is none that estimates", step)
	}
	t := &Table{run: r, source: in.Source, Frame: r.arrived, step: -1}
	defer func() { t.close() }()
	if err := r.before(ctx, in, &t, step-1, bufio.NewWriter(io.Discard)); err != nil {
		return nil, err
	}
	t.step = step - 1
	return r.steps[step-1].work.Compare(ctx, t)
}

// run is a plan at work.
type run struct {
	plan     *Plan
	workers  int
	arrived  *Frame
	measures []string
	steps    []bound
	log      *sections
	marks    []*marked
	drawn    *sections    // by step, the draws of the cells that it estimated
	kept     *table.Marks // of the cleaned table
	written  uint32       // rows of the cleaned table so far
	draws    int64        // that were written beside it

	rowsIn, rows int64 // of the table that arrived, and as the steps so far leave it
	sumsIn, sums []table.Decimal
	unheaded     int64
}

// bound is a step fitted to the table.
type bound struct {
	Step
	off           bool
	kept          *held // what its work looks at, where that has to be given back
	settled       bool  // it looked at the whole table, and changes or drops single rows now
	work          *Work
	before, after *Frame
	where         *condition.Condition
	entry, reason []byte // of its lines in the log

	told       told
	cells      int64
	rowsGone   int64
	before0    *int64 // rows, where it makes others
	made       *int64
	sums       []table.Decimal // what it changed the sums by
	mistyped   int64
	uncoded    int64
	examples   []LogEntry
	restructed []ColumnFrom
	moments    []estimate.Moments // of what it estimated, by draw
}

// bind fits every step to the columns of the table, before anything is done.
func (r *run) bind(in Input) error {
	book, result := in.Book, in.Result
	if result == nil {
		result = book
	}
	r.arrived = frameOf(book, in.Source.Columns())
	frame := r.arrived
	r.arrivedMarks(in.Source)
	var failed []error
	for i, step := range r.plan.Steps {
		s := bound{Step: step, off: step.Off, before: frame, after: frame}
		s.entry = fmt.Appendf(nil, `{"step":%d,`, i+1)
		s.reason = append(appendText([]byte(`,"reason":`), step.Reason), '}', '\n')
		if !step.Off {
			b := &Binder{Frame: frame, Book: book, Result: result, Earlier: r.plan.Earlier, wrong: func(_, _ string, err error) {
				failed = append(failed, fmt.Errorf("step %d (%s): %w", i+1, step.Kind, err))
			}}
			s.work, s.where = step.bind(b)
			if len(r.marks) > 0 && !kindOf(step.Kind).KeepsMarks {
				failed = append(failed, fmt.Errorf("step %d (%s): %w", i+1, step.Kind, &losesMarks{step.Kind}))
				b.fails = true
			}
			if how := s.work.Estimates; how != nil && !b.fails {
				reasoned := *how
				reasoned.Reason = step.Reason
				r.marks = append(r.marks, newMarked(reasoned, i, s.before.At(how.Column)))
			}
			if b.fails {
				return errors.Join(append(failed, errors.New("nothing was applied"))...)
			}
			if s.work.Frame != nil {
				s.after = s.work.Frame
				s.restructed = restructured(frame, s.after, s.work.From)
			}
		}
		frame = s.after
		r.steps = append(r.steps, s)
	}
	for _, m := range slices.Concat(book.Measures, result.Measures) {
		if (r.arrived.At(m) >= 0 || frame.At(m) >= 0) && !slices.Contains(r.measures, m) {
			r.measures = append(r.measures, m)
		}
	}
	r.log, r.drawn = newSections(len(r.steps)+1), newSections(len(r.steps))
	r.sumsIn, r.sums = make([]table.Decimal, len(r.measures)), make([]table.Decimal, len(r.measures))
	for i := range r.steps {
		r.steps[i].sums = make([]table.Decimal, len(r.measures))
	}
	return nil
}

// restructured says where columns came from, where that is not where they stand.
func restructured(before, after *Frame, from []int) []ColumnFrom {
	if slices.Equal(before.Names, after.Names) {
		return nil
	}
	out := make([]ColumnFrom, len(after.Names))
	for c, name := range after.Names {
		at := -1
		if from != nil {
			at = from[c]
		} else if c < len(before.Names) {
			at = c
		}
		out[c].Name = name
		if at >= 0 {
			out[c].From = before.Names[at]
		}
	}
	return out
}

func (r *run) ledger(t *Table) *Ledger {
	l := &Ledger{Draws: r.draws, RowsIn: r.rowsIn, RowsOut: r.rows, SumsIn: r.named(r.sumsIn), SumsOut: r.named(r.sums),
		Steps: []LedgerStep{}, Columns: t.Names, Arrived: r.arrived.Names, Unheaded: r.unheaded, Reading: rulebook.ReadingOf(t.Names, t.Cells)}
	for _, m := range r.kept.All {
		if l.Estimates == nil {
			l.Estimates = map[string]int64{}
		}
		l.Estimates[m.Column] += int64(m.Rows.GetCardinality())
	}
	for i := range r.steps {
		s := &r.steps[i]
		if s.work != nil && s.work.Judge != nil {
			if why, rows := s.work.Judge(s.told.counts); why != "" {
				s.told.refuse(why, rows)
			}
		}
		step := LedgerStep{Step: i + 1, Kind: s.Kind, Reason: s.Reason, Off: s.off, Varies: s.Varies, Cells: s.cells, Rows: s.rowsGone,
			RowsBefore: s.before0, RowsMade: s.made, Sums: r.named(s.sums), Columns: s.restructed, Mistyped: s.mistyped,
			Uncoded: s.uncoded, Refused: s.told.refused, Undecided: s.told.undecided, Open: s.told.open, Examples: append([]LogEntry{}, s.examples...)}
		step.Estimated = s.estimated()
		step.Note = s.note()
		l.Steps = append(l.Steps, step)
	}
	return l
}

// note is what a steward should look at.
func (s *bound) note() string {
	var notes []string
	add := func(note string) {
		if note != "" {
			notes = append(notes, note)
		}
	}
	if s.off {
		return "This step is switched off."
	}
	if s.work.Note != nil {
		add(s.work.Note(s.told.counts))
	}
	if s.mistyped > 0 {
		add(document.Counted(s.mistyped, "cell has", "cells have") + " a text then that is no value of its column's type.")
	}
	if s.uncoded > 0 {
		add(document.Counted(s.uncoded, "code is", "codes are") + " in the code list now, and would not be then; the list must change with this step.")
	}
	if len(notes) == 0 && s.cells == 0 && s.rowsGone == 0 && s.made == nil && s.restructed == nil && len(s.told.refused) == 0 {
		add("This step had nothing to do.")
	}
	return strings.Join(notes, " ")
}

func addAll(into, from []table.Decimal) {
	for i, d := range from {
		into[i] = into[i].Add(d)
	}
}

func (r *run) named(sums []table.Decimal) map[string]string {
	out := map[string]string{}
	for m, name := range r.measures {
		out[name] = sums[m].Shortest()
	}
	return out
}

// sumsOf adds up every measure over a batch.
func (r *run) sumsOf(f *Frame, b *table.Batch, some []int) []table.Decimal {
	sums := make([]table.Decimal, len(r.measures))
	for m, name := range r.measures {
		if c := f.At(name); c >= 0 {
			sums[m] = f.Cells[c].Sum(&b.Columns[c], some)
		}
	}
	return sums
}

// passed is a batch that went through steps.
type passed struct {
	batch    *table.Batch
	look     bool // nothing is recorded
	arrived  bool // it is of the table that arrived
	rowsIn   int64
	sumsIn   []table.Decimal
	steps    []passedStep
	arrival  []byte // of the log
	unheaded int64
	rows     []byte // of the table that is written
	spooled  spooled
}

// passedStep is what a step did to a batch.
type passedStep struct {
	told              told
	estimated         []uint32           // rows
	drawn             []byte             // their draws beyond the first
	moments           []estimate.Moments // of their draws
	cells, rows       int64
	sums              []table.Decimal
	mistyped, uncoded int64
	log               []byte
	examples          []LogEntry
}

// through takes a batch through steps; where it is for a look alone, nothing of it is recorded.
func (r *run) through(b *table.Batch, steps []int, arrived bool, frame *Frame, look bool) (*passed, error) {
	p := &passed{batch: b, look: look, arrived: arrived, steps: make([]passedStep, len(steps))}
	if arrived {
		p.rowsIn, p.sumsIn = int64(b.Len()), r.sumsOf(frame, b, nil)
		p.arrival, p.unheaded = unheld(b), int64(len(b.Surplus))
	}
	for k, i := range steps {
		if err := r.step(p, &p.steps[k], &r.steps[i]); err != nil {
			return nil, fmt.Errorf("step %d (%s): %w", i+1, r.steps[i].Kind, err)
		}
	}
	return p, nil
}

// unheld writes to the log what a table of ours cannot hold: cells beyond the header, and bytes that stand for nothing.
func unheld(b *table.Batch) []byte {
	var out []byte
	add := func(c LogEntry) {
		line, _ := json.Marshal(c) // nothing in it can fail
		out = append(append(out, line...), '\n')
	}
	for at := range b.Rows {
		if cells, ok := b.Surplus[at]; ok {
			add(LogEntry{Row: b.Rows[at], Line: b.Lines[at], Old: strings.Join(cells, " | "),
				Reason: "The row has more cells than the header has names; the table cannot hold them."})
		}
	}
	for _, d := range b.Defects {
		if d.Kind == table.BadBytes {
			add(LogEntry{Row: d.Row, Line: d.Line, Column: d.Column, Old: d.Detail,
				Reason: "The bytes stand for no character in the declared encoding; the table has a mark in their place."})
		}
	}
	return out
}

// rowsOf gives a step the rows of a batch.
func rowsOf(f *Frame, b *table.Batch, where *condition.Condition, told *told) *Rows {
	rows := &Rows{Batch: rulebook.Batch{Batch: b, Names: f.Names, Cells: f.Cells}, told: told}
	if where != nil {
		truths := where.Evaluate(rows.Batch)
		rows.meant = make([]bool, len(truths))
		for at, truth := range truths {
			rows.meant[at] = truth == condition.True
		}
	}
	return rows
}

func (r *run) step(p *passed, did *passedStep, s *bound) error {
	did.sums = make([]table.Decimal, len(r.measures))
	rows := rowsOf(s.before, p.batch, s.where, &did.told)
	if s.work.Frame != nil {
		moved := s.work.moves(p.batch)
		r.moved(did, s, p.batch, moved)
		p.batch = moved
		rows.Batch = rulebook.Batch{Batch: moved, Names: s.after.Names, Cells: s.after.Cells}
	}
	if s.work.Edit != nil {
		edits, err := s.work.Edit(rows)
		if err != nil {
			return err
		}
		copied := *p.batch
		copied.Columns = slices.Clone(p.batch.Columns)
		for _, e := range edits {
			was := copied.Columns[e.Column]
			copied.Columns[e.Column] = r.changed(did, s, &copied, e, rows.meant, p.look)
			if s.work.Estimates != nil {
				did.estimates(s, &copied, e, &was, p.look)
			}
		}
		p.batch = &copied
		rows.Batch.Batch = p.batch
	}
	if s.work.Drop != nil {
		leaves, err := s.work.Drop(rows)
		if err != nil {
			return err
		}
		r.drop(p, did, s, rows, leaves)
	}
	return nil
}

// moves gives the columns of a batch the places that they have after the step; a new one is empty.
func (w *Work) moves(b *table.Batch) *table.Batch {
	out := *b
	out.Columns = make([]table.Column, len(w.Frame.Names))
	for c := range out.Columns {
		at := -1
		switch {
		case w.From != nil:
			at = w.From[c]
		case c < len(b.Columns):
			at = c
		}
		if at >= 0 {
			out.Columns[c] = b.Columns[at]
		} else {
			out.Columns[c] = table.Column{Texts: []string{""}, Codes: make([]uint32, b.Len())}
		}
	}
	return &out
}

// moved accounts for measures that come, go or are read otherwise with the step's columns.
func (r *run) moved(did *passedStep, s *bound, before, after *table.Batch) {
	for m, name := range r.measures {
		was, is := s.before.At(name), s.after.At(name)
		if was >= 0 && is >= 0 && s.work.source(is) == was && s.before.Cells[was].Alike(s.after.Cells[is]) {
			continue
		}
		if was >= 0 {
			did.sums[m] = did.sums[m].Sub(s.before.Cells[was].Sum(&before.Columns[was], nil))
		}
		if is >= 0 {
			did.sums[m] = did.sums[m].Add(s.after.Cells[is].Sum(&after.Columns[is], nil))
		}
	}
}

// source returns where a column of the step's frame was before; -1 for a new one.
func (w *Work) source(c int) int {
	if w.From != nil {
		return w.From[c]
	}
	return c
}

// changed takes what stands in a column then for the rows that are meant, and records what differs.
func (r *run) changed(did *passedStep, s *bound, b *table.Batch, e Edit, meant []bool, look bool) table.Column {
	old, out := b.Columns[e.Column], e.New
	shared := len(old.Codes) > 0 && len(out.Codes) == len(old.Codes) && &old.Codes[0] == &out.Codes[0]
	if shared && &old.Texts[0] == &out.Texts[0] {
		return old
	}
	if meant != nil {
		out = table.Column{Texts: append(slices.Clone(old.Texts), e.New.Texts...), Codes: slices.Clone(old.Codes)}
		for at, code := range e.New.Codes {
			if meant[at] {
				out.Codes[at] = uint32(len(old.Texts)) + code
			}
		}
		shared = false
	}
	if look {
		return out
	}
	g := groupedChanges{n: len(old.Codes)}
	if shared {
		g.byText(&old, &out)
	} else {
		g.byRow(&old, &out)
	}
	name, cells := s.after.Names[e.Column], s.after.Cells[e.Column]
	measure := slices.Index(r.measures, name)
	for _, one := range g.groups {
		was, is := old.Texts[one.old], out.Texts[one.new]
		did.cells += one.rows
		did.log = cellsChanged(did.log, s, b, name, was, is, one.first, g.next)
		if len(did.examples) < examplesShown {
			did.examples = append(did.examples, LogEntry{Row: b.Rows[one.first], Line: b.Lines[one.first], Column: name, Old: was, New: is})
		}
		before, after := cells.Read(was), cells.Read(is)
		if after.Mistyped && !before.Mistyped {
			did.mistyped += one.rows
		}
		if listed := cells.Codes() != nil && !before.Unknown && !before.Spelling && !before.Missing; listed && (after.Unknown || after.Spelling) {
			did.uncoded += one.rows
		}
		if measure >= 0 {
			delta := table.Decimal{}
			if after.Value.Kind == table.Number {
				delta = after.Value.Number
			}
			if before.Value.Kind == table.Number {
				delta = delta.Sub(before.Value.Number)
			}
			did.sums[measure] = did.sums[measure].Add(delta.Times(one.rows))
		}
	}
	return out
}

// groupedChanges are rows of a batch by what stood in a column, and what does.
type groupedChanges struct {
	groups []changeGroup
	n      int     // rows of the batch
	next   []int32 // the next row of the same group; -1 at its end
}

type changeGroup struct {
	old, new    uint32
	first, last int32
	rows        int64
}

func (g *groupedChanges) add(group int32, at int) {
	one := &g.groups[group]
	if g.next == nil {
		g.next = make([]int32, g.n)
	}
	if one.rows == 0 {
		one.first = int32(at)
	} else {
		g.next[one.last] = int32(at)
	}
	one.last, g.next[at] = int32(at), -1
	one.rows++
}

// byText groups rows where both columns have the same codes.
func (g *groupedChanges) byText(old, now *table.Column) {
	group := make([]int32, len(old.Texts)) // from 1; -1 where the text stays
	stays := true
	for code, text := range old.Texts {
		if now.Texts[code] == text {
			group[code] = -1
		} else {
			stays = false
		}
	}
	if stays {
		return
	}
	for at, code := range old.Codes {
		if group[code] < 0 {
			continue
		}
		if group[code] == 0 {
			g.groups = append(g.groups, changeGroup{old: code, new: code})
			group[code] = int32(len(g.groups))
		}
		g.add(group[code]-1, at)
	}
}

// byRow groups rows by both codes.
func (g *groupedChanges) byRow(old, now *table.Column) {
	group := map[uint64]int32{}
	for at, code := range now.Codes {
		was := old.Codes[at]
		if old.Texts[was] == now.Texts[code] {
			continue
		}
		pair := uint64(was)<<32 | uint64(code)
		one, known := group[pair]
		if !known {
			one = int32(len(g.groups))
			group[pair] = one
			g.groups = append(g.groups, changeGroup{old: was, new: code})
		}
		g.add(one, at)
	}
}

// drop takes rows out of the batch.
func (r *run) drop(p *passed, did *passedStep, s *bound, rows *Rows, leaves func(at int) Leaves) {
	var gone []int
	b := p.batch
	for at := range b.Rows {
		if !rows.Means(at) {
			continue
		}
		one := leaves(at)
		if !one.Table {
			continue
		}
		if gone = append(gone, at); p.look {
			continue
		}
		did.log = rowGone(did.log, s, b, at, one)
		if len(did.examples) < examplesShown {
			example := LogEntry{Row: b.Rows[at], Line: b.Lines[at], Gone: map[string]string{}, KeptBy: one.KeptBy}
			for c, name := range s.before.Names {
				example.Gone[name] = b.Columns[c].At(at)
				if one.Stays != nil {
					if example.Stays == nil {
						example.Stays = map[string]string{}
					}
					example.Stays[name] = one.Stays[c]
				}
			}
			did.examples = append(did.examples, example)
		}
	}
	if len(gone) == 0 {
		return
	}
	did.rows = int64(len(gone))
	if !p.look {
		for m, sum := range r.sumsOf(s.before, b, gone) {
			did.sums[m] = did.sums[m].Sub(sum)
		}
	}
	left := 0
	p.batch = b.Keep(func(at int) bool {
		if left < len(gone) && gone[left] == at {
			left++
			return true
		}
		return false
	})
}

// take accounts for a batch that went through steps.
func (r *run) take(p *passed, steps []int) error {
	if p.arrived {
		r.rowsIn += p.rowsIn
		r.rows += p.rowsIn
		addAll(r.sumsIn, p.sumsIn)
		addAll(r.sums, p.sumsIn)
		r.unheaded += p.unheaded
		if err := r.log.add(0, p.arrival); err != nil {
			return err
		}
	}
	for k, i := range steps {
		s, did := &r.steps[i], &p.steps[k]
		s.told.add(did.told)
		s.cells += did.cells
		s.rowsGone += did.rows
		s.mistyped += did.mistyped
		s.uncoded += did.uncoded
		r.rows -= did.rows
		addAll(s.sums, did.sums)
		addAll(r.sums, did.sums)
		for _, c := range did.examples[:min(len(did.examples), examplesShown-len(s.examples))] {
			c.Step, c.Reason = i+1, s.Reason
			s.examples = append(s.examples, c)
		}
		if err := r.log.add(i+1, did.log); err != nil {
			return err
		}
		if s.work.Estimates != nil {
			if err := r.takeEstimates(i, did); err != nil {
				return err
			}
		}
	}
	return nil
}

// RowMade says of which rows a step made one. Both are counted as in the change log.
type RowMade struct {
	Step int         `json:"step"`
	Row  uint32      `json:"row"`
	From [][2]uint32 `json:"from"` // the first and the last of rows that follow on each other
}

// Rows returns the rows that it was made of.
func (m *RowMade) Rows() []uint32 {
	var out []uint32
	for _, span := range m.From {
		for row := span[0]; row <= span[1]; row++ {
			out = append(out, row)
		}
	}
	return out
}

// spans are rows as RowMade has them.
func spans(rows []uint32) [][2]uint32 {
	rows = slices.Clone(rows)
	slices.SortFunc(rows, cmp.Compare)
	var out [][2]uint32
	for _, row := range slices.Compact(rows) {
		if n := len(out); n > 0 && out[n-1][1]+1 == row {
			out[n-1][1] = row
		} else {
			out = append(out, [2]uint32{row, row})
		}
	}
	return out
}

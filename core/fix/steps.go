package fix

import (
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Change is one entry of the change log: a cell that was changed, or a row that left the table.
type Change struct {
	Step   int               `json:"step"` // from 1; 0 for what writing the table itself could not carry over
	Row    uint32            `json:"row"`  // in the delivery
	Line   int64             `json:"line"`
	Column string            `json:"column,omitempty"` // of a cell
	Old    string            `json:"old"`
	New    string            `json:"new"`
	Gone   map[string]string `json:"gone,omitempty"`    // every cell of a row that left
	KeptBy uint32            `json:"kept_by,omitempty"` // the row that stays in its place
	Reason string            `json:"reason"`
}

// worked is what the steps did to one batch.
type worked struct {
	batch   *table.Batch
	changes []Change
	steps   []stepWork
	sumsIn  []table.Decimal
	sumsOut []table.Decimal
	rowsIn  int64
	written []int64 // per column: cells that standard form writes otherwise
	mixed   []Change
}

// stepWork is what one step did to one batch.
type stepWork struct {
	cells, rows, matched int64
	sums                 []table.Decimal // of each measure, after less before
}

// decisions are the rows that a step removes, found in a pass of their own.
type decisions struct {
	drop   *table.RowSet
	keptBy map[uint32]uint32
}

// runner applies the steps of a plan to batches.
type runner struct {
	plan     *Plan
	book     *rulebook.Rulebook
	names    []string
	position map[string]int
	cells    []*rulebook.Cells
	measures []int
	decided  []*decisions // per step; nil for steps that need none
}

func newRunner(plan *Plan, book *rulebook.Rulebook, names []string) *runner {
	r := &runner{plan: plan, book: book, names: names, position: map[string]int{},
		decided: make([]*decisions, len(plan.Steps))}
	for i, name := range names {
		r.position[name] = i
		r.cells = append(r.cells, book.Cells(name))
	}
	for _, m := range book.Measures {
		if at, ok := r.position[m]; ok {
			r.measures = append(r.measures, at)
		}
	}
	return r
}

func (r *runner) typed(b *table.Batch) rulebook.Batch {
	return rulebook.Batch{Batch: b, Names: r.names, Cells: r.cells}
}

// apply runs the first n steps over a batch; log says whether changes are wanted.
func (r *runner) apply(b *table.Batch, n int, log bool) *worked {
	w := &worked{batch: b, rowsIn: int64(b.Len()), steps: make([]stepWork, n)}
	w.sumsIn = r.sums(b)
	before := w.sumsIn
	for i := range n {
		r.step(w, i, log)
		after := r.sums(w.batch)
		w.steps[i].sums = make([]table.Decimal, len(after))
		for m := range after {
			w.steps[i].sums[m] = after[m].Sub(before[m])
		}
		before = after
	}
	w.sumsOut = before
	return w
}

// sums adds up every measure over the batch.
func (r *runner) sums(b *table.Batch) []table.Decimal {
	sums := make([]table.Decimal, len(r.measures))
	for m, c := range r.measures {
		sums[m] = r.cells[c].Sum(&b.Columns[c], nil)
	}
	return sums
}

func (r *runner) step(w *worked, i int, log bool) {
	switch action := r.plan.Steps[i].Action.(type) {
	case Rewriter:
		r.rewrite(w, i, log, action)
	case Setter:
		columns, text := action.Sets()
		chosen := action.Chosen(r.typed(w.batch))
		for _, name := range columns {
			r.set(w, i, log, r.position[name], text, chosen)
		}
	case Remover:
		r.remove(w, i, log, action.Drops(r.typed(w.batch)))
	case Chooser:
		drop := r.decided[i].drop
		r.remove(w, i, log, func(at int) bool { return drop.Contains(w.batch.Rows[at]) })
	}
}

// rewrite gives every text of the step's columns its new text, once per distinct text.
func (r *runner) rewrite(w *worked, i int, log bool, action Rewriter) {
	for _, name := range action.Columns() {
		c := r.position[name]
		old := &w.batch.Columns[c]
		texts, changed := make([]string, len(old.Texts)), false
		for k, text := range old.Texts {
			texts[k] = action.Rewrite(r.cells[c], text)
			changed = changed || texts[k] != text
		}
		if !changed {
			continue
		}
		for at, code := range old.Codes {
			if texts[code] == old.Texts[code] {
				continue
			}
			r.changed(w, i, log, at, c, texts[code])
		}
		w.replace(c, table.Column{Texts: texts, Codes: old.Codes})
	}
}

// replace gives the batch a new column and leaves the old batch as it was.
func (w *worked) replace(c int, column table.Column) {
	copied := *w.batch
	copied.Columns = append([]table.Column(nil), w.batch.Columns...)
	copied.Columns[c] = column
	w.batch = &copied
}

func (r *runner) changed(w *worked, i int, log bool, at, c int, text string) {
	w.steps[i].cells++
	if log {
		w.changes = append(w.changes, Change{Step: i + 1, Row: w.batch.Rows[at], Line: w.batch.Lines[at],
			Column: r.names[c],
			Old:    w.batch.Columns[c].At(at), New: text, Reason: r.plan.Steps[i].Reason})
	}
}

// set changes single cells: for those rows where it holds, to text.
func (r *runner) set(w *worked, i int, log bool, c int, text string, where func(at int) bool) {
	old := &w.batch.Columns[c]
	codes := append([]uint32(nil), old.Codes...)
	for at := range codes {
		if !where(at) {
			continue
		}
		w.steps[i].matched++
		if old.At(at) != text {
			codes[at] = uint32(len(old.Texts))
			r.changed(w, i, log, at, c, text)
		}
	}
	w.replace(c, table.Column{Texts: append(append([]string(nil), old.Texts...), text), Codes: codes})
}

func (r *runner) remove(w *worked, i int, log bool, drop func(at int) bool) {
	for at := range w.batch.Rows {
		if !drop(at) {
			continue
		}
		w.steps[i].rows++
		if !log {
			continue
		}
		change := Change{Step: i + 1, Row: w.batch.Rows[at], Line: w.batch.Lines[at], Gone: map[string]string{},
			Reason: r.plan.Steps[i].Reason}
		for c, name := range r.names {
			change.Gone[name] = w.batch.Columns[c].At(at)
		}
		if r.decided[i] != nil {
			change.KeptBy = r.decided[i].keptBy[w.batch.Rows[at]]
		}
		w.changes = append(w.changes, change)
	}
	w.batch = w.batch.Keep(drop)
}

package leads

import (
	"context"
	"math"
	"slices"
	"strings"

	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// The second reading goes over the table twice: first it picks rows, by which kinds suspect something; then all rows
// say how many of them there are, and which. What is told is exact; only whether something is suspected at all depends
// on the rows that were picked, and these on their numbers alone.

const (
	// pickedRows is how many rows are picked at most, and pickedCells how many cells of them.
	pickedRows  = 20_000
	pickedCells = 600_000
	// columnsCompared is how many columns are held against one another; of wider tables it is the first of them.
	columnsCompared = 200
	firstRowsKept   = 20
)

// Sample is a table with some of its rows.
type Sample struct {
	*Table
	Picked int
	cells  [][]rulebook.Cell // per column, per picked row
	texts  [][]string
	floats [][]float64 // per column of numbers; NaN for none

	grouping map[int]grouping // per column of numbers, once it was looked for
	named    [][]string       // per column, the names of its groups, per picked row; likewise
}

// Suspicion is a question to all rows, or to all groups of equal ones.
type Suspicion struct {
	// Row tells whether a row is one to which it applies, and one of those meant; the columns are given by their places.
	Row func(r *Row) (applies, meant bool)
	// Sum, where it is set, adds a number of a row to one of so many parts.
	Sum   func(r *Row) (part int, value table.Decimal, counts bool)
	Parts int
	// Repeats asks for rows that repeat others.
	Repeats *relation.Repeats
	// Told says what is to be told; false for nothing.
	Told func(a Answer) (Lead, bool)
}

// Answer is what all rows say to a suspicion.
type Answer struct {
	Applies, Rows int64
	Sums          []Summed // by part
	relation.Repeated
}

// Summed are numbers that were added up.
type Summed struct {
	N   int64
	Sum table.Decimal
}

// Row is a row of the table.
type Row struct {
	b     *table.Batch
	r     *relation.Readers
	index int
}

// Cell returns the cell of a column, by its place.
func (r *Row) Cell(c int) *rulebook.Cell { return r.r.Cell(r.b, c, r.index) }

// Text returns its text.
func (r *Row) Text(c int) string { return r.b.Columns[c].At(r.index) }

// FindAgain looks at a table once more. Those of the leads of the first reading that speak of texts get some of their
// rows.
func FindAgain(ctx context.Context, t *Table, source *relation.Table, first []Lead) ([]Lead, error) {
	s, err := pick(ctx, t, source)
	if err != nil {
		return nil, err
	}
	type asked struct {
		kind *Kind
		Suspicion
	}
	var questions []asked
	var repeats []relation.Repeats
	for _, k := range kinds {
		if k.OfRows == nil {
			continue
		}
		for _, one := range k.OfRows(s) {
			questions = append(questions, asked{k, one})
			if one.Repeats != nil {
				repeats = append(repeats, *one.Repeats)
			}
		}
	}
	repeated, err := relation.CountRepeats(ctx, source, repeats)
	if err != nil {
		return nil, err
	}
	rows := make([]Suspicion, len(questions), len(questions)+len(first))
	for i, q := range questions {
		rows[i] = q.Suspicion
	}
	var placed []int // leads of the first reading that are asked for
	for i := range first {
		if row := t.rowsOf(&first[i]); row != nil {
			rows, placed = append(rows, Suspicion{Row: row}), append(placed, i)
		}
	}
	answers, err := answer(ctx, source, rows)
	if err != nil {
		return nil, err
	}
	for k, i := range placed {
		if found := answers[len(questions)+k].FirstRows; found != nil {
			first[i].FirstRows = found
		}
	}
	var out []Lead
	for i, q := range questions {
		a := answers[i]
		if q.Repeats != nil {
			a.Repeated, repeated = repeated[0], repeated[1:]
		}
		if l, ok := q.Told(a); ok {
			if l.FirstRows == nil {
				l.FirstRows = a.FirstRows
			}
			out = append(out, l.of(q.kind, nil, t.Rows))
		}
	}
	return out, nil
}

// rowsOf tells the rows that a lead of the first reading speaks of; nil where that is not known by its texts.
func (t *Table) rowsOf(l *Lead) func(r *Row) (applies, meant bool) {
	c := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == l.Column })
	if c < 0 || len(l.FirstRows) > 0 {
		return nil
	}
	if l.Kind == "date_orders" { // the first that the most frequent pattern does not fit
		patterns := make([]table.DatePattern, len(t.Columns[c].Looks.Orders))
		for i, o := range t.Columns[c].Looks.Orders {
			patterns[i] = table.MustDatePatterns(o.Text)[0]
		}
		return func(r *Row) (bool, bool) {
			if len(patterns) < 2 {
				return false, false
			}
			if _, fits := patterns[0].Parse(r.Text(c)); fits {
				return true, false
			}
			for _, p := range patterns[1:] {
				if _, fits := p.Parse(r.Text(c)); fits {
					return true, true
				}
			}
			return true, false
		}
	}
	if len(l.Texts) == 0 {
		return nil
	}
	texts := map[string]bool{}
	for _, t := range l.Texts {
		texts[t.Text] = true
	}
	return func(r *Row) (bool, bool) {
		text, cell := r.Text(c), r.Cell(c)
		return true, texts[text] || cell.Value.Kind == table.Number && texts[cell.Value.Identity()]
	}
}

// pick reads the rows that suspicions rest on: all where they are few.
func pick(ctx context.Context, t *Table, source *relation.Table) (*Sample, error) {
	columns := len(t.Columns)
	s := &Sample{Table: t, cells: make([][]rulebook.Cell, columns), texts: make([][]string, columns),
		floats: make([][]float64, columns), named: make([][]string, columns)}
	wanted := int64(min(pickedRows, pickedCells/max(columns, 1)))
	every := max(1, (t.Rows+wanted-1)/max(wanted, 1))
	type picked struct {
		cells [][]rulebook.Cell
		texts [][]string
	}
	at := make([]int, columns)
	for c := range at {
		at[c] = c
	}
	begin := func() *picked { return &picked{make([][]rulebook.Cell, columns), make([][]string, columns)} }
	work := func(p *picked, r *relation.Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if every > 1 && relation.Scattered(row)%uint64(every) != 0 {
				continue
			}
			for c := range at {
				cell, text := *r.Cell(b, c, k), strings.Clone(b.Columns[c].At(k))
				cell.Value.Text = strings.Clone(cell.Value.Text)
				p.cells[c], p.texts[c] = append(p.cells[c], cell), append(p.texts[c], text)
			}
		}
	}
	err := relation.Scan(ctx, source, at, begin, work, func(p *picked) {
		for c := range at {
			s.cells[c] = append(s.cells[c], p.cells[c]...)
			s.texts[c] = append(s.texts[c], p.texts[c]...)
		}
	})
	if columns > 0 {
		s.Picked = len(s.cells[0])
	}
	for c := range t.Columns {
		if !t.Columns[c].Type.IsNumber() {
			continue
		}
		s.floats[c] = make([]float64, s.Picked)
		for i := range s.floats[c] {
			s.floats[c][i] = math.NaN()
			if v := s.cells[c][i].Value; v.Kind == table.Number {
				s.floats[c][i] = v.Number.Float()
			}
		}
	}
	return s, err
}

func (s *Summed) add(n int64, sum table.Decimal) { s.N, s.Sum = s.N+n, s.Sum.Add(sum) }

// answer asks all rows.
func answer(ctx context.Context, source *relation.Table, asked []Suspicion) ([]Answer, error) {
	out := make([]Answer, len(asked))
	any := false
	for _, s := range asked {
		any = any || s.Row != nil
	}
	if !any {
		return out, nil
	}
	at := make([]int, len(source.Source.Columns()))
	for c := range at {
		at[c] = c
	}
	begin := func() []Answer {
		answers := make([]Answer, len(asked))
		for i, s := range asked {
			answers[i].Sums = make([]Summed, s.Parts)
		}
		return answers
	}
	out = begin()
	work := func(some []Answer, r *relation.Readers, b *table.Batch) {
		row := &Row{b: b, r: r}
		for i, s := range asked {
			if s.Row == nil {
				continue
			}
			for row.index = range b.Rows {
				applies, meant := s.Row(row)
				if applies {
					some[i].Applies++
				}
				if s.Sum != nil {
					if part, value, counts := s.Sum(row); counts {
						some[i].Sums[part].add(1, value)
					}
				}
				if !meant {
					continue
				}
				if some[i].Rows++; len(some[i].FirstRows) < firstRowsKept {
					some[i].FirstRows = append(some[i].FirstRows, b.Rows[row.index])
				}
			}
		}
	}
	err := relation.Scan(ctx, source, at, begin, work, func(some []Answer) {
		for i := range out {
			out[i].Applies += some[i].Applies
			for part, one := range some[i].Sums {
				out[i].Sums[part].add(one.N, one.Sum)
			}
			out[i].Rows += some[i].Rows
			out[i].FirstRows = append(out[i].FirstRows, some[i].FirstRows...)
			out[i].FirstRows = out[i].FirstRows[:min(len(out[i].FirstRows), firstRowsKept)]
		}
	})
	return out, err
}

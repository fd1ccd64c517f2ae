package audit

import (
	"context"
	"slices"

	"proudsieve/core/intake/detect"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What nobody declared is described by what it holds. The first rows suggest a type for each open column; while all of
// them are read, the texts that are not of it are counted by the types they have; and where the whole decides
// otherwise than its beginning, the columns alone are read once more that are read otherwise then.

// WithOpen returns the rulebook with the columns of the table that it does not declare.
func WithOpen(ctx context.Context, book *rulebook.Rulebook, source table.Source) (*rulebook.Rulebook, error) {
	names := source.Columns()
	if !slices.ContainsFunc(names, func(name string) bool { return book.Column(name) == nil }) {
		return book, nil
	}
	rows, _, err := detect.Sample(ctx, source)
	if err != nil {
		return nil, err
	}
	var seen []detect.ColumnEvidence
	if rows != nil {
		seen = detect.Columns(names, rows)
	}
	return book.WithOpen(names, seen, rows), nil
}

// Settle returns a rulebook with the open columns of a table as its audit settled them.
func (r *Result) Settle(book *rulebook.Rulebook) *rulebook.Rulebook {
	opened := map[string]rulebook.Opened{}
	for i := range r.Columns {
		is := rulebook.Opened{Type: r.Columns[i].Type, Dates: r.Columns[i].ReadBy}
		// Earlier audits do not say by which pattern they read; it was the one that the first rows suggest.
		if c := book.Column(r.Columns[i].Name); is.Dates == "" && c != nil && c.Type == is.Type && len(c.Dates) > 0 {
			is.Dates = c.Dates[0]
		}
		opened[r.Columns[i].Name] = is
	}
	return book.Settled(opened)
}

// census counts the cells of an open column by what they look like, those aside that are read as its numbers, or as
// dates of the only pattern there is.
type census []lookCount

type lookCount struct {
	looks rulebook.Looks
	rows  int64
}

// looksOf tells what the text of an open column looks like, where that is not known by the column's type.
func looksOf(cells *rulebook.Cells, cell rulebook.Cell, text string) rulebook.Looks {
	k := cell.Value.Kind
	patterns, _ := cells.Patterns()
	if cell.Missing || k == table.Number || (k == table.Date || k == table.Instant) && len(patterns) == 0 {
		return 0
	}
	return cells.LooksLike(text)
}

func (c *census) add(l rulebook.Looks, rows int64) {
	for i := range *c {
		if (*c)[i].looks == l {
			(*c)[i].rows += rows
			return
		}
	}
	*c = append(*c, lookCount{l, rows})
}

func (c *census) merge(o census) {
	for _, one := range o {
		c.add(one.looks, one.rows)
	}
}

// of counts the cells that look like one of some things.
func (c census) of(l rulebook.Looks) (rows int64) {
	for _, one := range c {
		if one.looks&l != 0 {
			rows += one.rows
		}
	}
	return rows
}

// openColumns decides the types of the open columns: the narrowest of numbers, dates, datetimes and booleans that all
// filled cells of a column are of; else the one that nine in ten are of; else text. Numbers with zeros before them
// are none, and those of a column where all have the same length are texts even if few begin with a zero.
func (r *run) openColumns() map[string]rulebook.Opened {
	opened := map[string]rulebook.Opened{}
	for c, name := range r.plan.names {
		if j := r.plan.judges[c]; j.cells.Open {
			opened[name] = r.census[c].decide(j.cells, r.summaries[c].Facts())
		}
	}
	return opened
}

// readAnew reads those open columns once more, and nothing else, of which all of their values decided otherwise than they were read. No
// rule speaks of a column that is not declared, and what is missing is so whatever the type. It reports false, and the run is of no use
// any more, where the texts of the columns are so many that what is counted of one depends on the others.
func (r *run) readAnew(ctx context.Context, source table.Source, opened map[string]rulebook.Opened, marks *table.Marks) (bool, error) {
	if r.crowded {
		return false, nil
	}
	book := r.plan.book.Settled(opened)
	var at []int
	var names []string
	for c, name := range r.plan.names {
		if is, open := opened[name]; open && !r.plan.book.Column(name).ReadsAs(is) {
			at, names = append(at, c), append(names, name)
		}
	}
	bare := *book
	bare.Rules, bare.Measures = nil, nil
	only := table.Only(source, at)
	some := newPlan(&bare, names)
	some.mark(marks)
	if err := some.foresee(ctx, only); err != nil {
		return false, err
	}
	anew := newRun(some, r.workers)
	defer anew.close()
	if err := table.ScanStretches(ctx, only, r.workers, anew.begin, (*stretch).judge, (*stretch).end,
		func(s *stretch) error { return anew.take(ctx, s) }); err != nil {
		return false, err
	}
	for k, c := range at {
		r.summaries[c], r.census[c] = anew.summaries[k], anew.census[k]
	}
	r.plan = newPlan(book, r.plan.names)
	r.plan.mark(marks)
	return r.counted() <= textsCounted, nil
}

const (
	// typicalOpen is how many of a hundred filled cells must be of a type for an open column to be of it.
	typicalOpen = 90
	// mixedOrders is the part, one in so many, of the dates that fit one pattern alone from which on those that fit
	// another one alone make the column one of mixed patterns, which is read by none.
	mixedOrders = 20
)

func (c census) decide(cells *rulebook.Cells, f profile.Facts) rulebook.Opened {
	patterns, own := cells.Patterns()
	if len(patterns) > 0 {
		dates := c.datesOf(patterns, f.Filled)
		if dates != "" && dates != undecided {
			pattern := table.MustDatePatterns(dates)[0]
			if pattern.Timed() {
				return rulebook.Opened{Type: table.TypeDateTime, Dates: dates}
			}
			return rulebook.Opened{Type: table.TypeDate, Dates: dates}
		}
		if dates == undecided {
			return rulebook.Opened{Type: table.TypeText}
		}
	}
	numbers, number := c.of(rulebook.LooksDecimal), table.TypeInteger
	if numbers > c.of(rulebook.LooksInteger) || f.Fractions {
		number = table.TypeDecimal
	}
	candidates := []struct {
		is   table.Type
		rows int64
	}{{number, numbers}, {table.TypeDate, c.of(rulebook.LooksDate)}, {table.TypeDateTime, c.of(rulebook.LooksInstant)},
		{table.TypeBoolean, c.of(rulebook.LooksBoolean)}}
	for i := range candidates {
		one := &candidates[i]
		if rulebook.ReadAlike(one.is, cells.Type) && one.is != table.TypeBoolean && len(patterns) == 0 {
			one.rows += f.Filled - f.Mistyped
		}
	}
	if c.of(rulebook.LooksPadded) > 0 && number == table.TypeInteger && f.Shortest == f.Longest {
		return rulebook.Opened{Type: table.TypeText}
	}
	for _, share := range []int64{100, typicalOpen} {
		for _, one := range candidates {
			if f.Filled > 0 && one.rows*100 >= f.Filled*share {
				if one.is == cells.Type {
					return rulebook.Opened{Type: one.is, Dates: own}
				}
				return rulebook.Opened{Type: one.is}
			}
		}
	}
	return rulebook.Opened{Type: table.TypeText}
}

// undecided stands for a pattern where several read the dates, and nothing decides between them.
const undecided = "?"

// datesOf returns the pattern that nine in ten of the filled cells fit; empty for none.
func (c census) datesOf(patterns []table.DatePattern, filled int64) string {
	bit := func(i int) rulebook.Looks { return rulebook.LooksPattern << i }
	best := 0
	for i := range patterns {
		if c.of(bit(i)) > c.of(bit(best)) {
			best = i
		}
	}
	if rows := c.of(bit(best)); filled == 0 || rows*100 < filled*typicalOpen {
		return ""
	}
	for i := range patterns {
		if i == best {
			continue
		}
		alone, others := int64(0), int64(0) // that fit the best, and not this one, and the other way round
		for _, one := range c {
			switch one.looks & (bit(best) | bit(i)) {
			case bit(best):
				alone += one.rows
			case bit(i):
				others += one.rows
			}
		}
		if others*mixedOrders >= alone && c.of(bit(i)) > 0 && c.confused(bit(best)|bit(i)) {
			return undecided
		}
	}
	return patterns[best].String()
}

// confused reports whether some cells fit two patterns.
func (c census) confused(both rulebook.Looks) bool {
	for _, one := range c {
		if one.looks&both == both && one.rows > 0 {
			return true
		}
	}
	return false
}

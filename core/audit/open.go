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
// otherwise than its beginning, it is read once more.

// withOpen returns the rulebook with the columns of the table that it does not declare.
func withOpen(ctx context.Context, book *rulebook.Rulebook, source table.Source) (*rulebook.Rulebook, error) {
	names := source.Columns()
	if !slices.ContainsFunc(names, func(name string) bool { return book.Column(name) == nil }) {
		return book, nil
	}
	rows, err := detect.Sample(ctx, source)
	if err != nil {
		return nil, err
	}
	var seen []detect.ColumnEvidence
	if rows != nil {
		seen = detect.Columns(names, rows)
	}
	return book.WithOpen(names, seen, rows), nil
}

// census counts the cells of an open column by what they look like, those aside that are read as its numbers, dates
// or datetimes.
type census [rulebook.AllLooks + 1]int64

// looksOf tells what the text of an open column looks like, where that is not known by the column's type.
func looksOf(cells *rulebook.Cells, cell rulebook.Cell, text string) rulebook.Looks {
	if k := cell.Value.Kind; cell.Missing || k == table.Number || k == table.Date || k == table.Instant {
		return 0
	}
	return cells.LooksLike(text)
}

func (c *census) merge(o *census) {
	for looks, rows := range o {
		c[looks] += rows
	}
}

// of counts the cells that look like something.
func (c *census) of(l rulebook.Looks) (rows int64) {
	for looks, n := range c {
		if rulebook.Looks(looks)&l != 0 {
			rows += n
		}
	}
	return rows
}

// openTypes decides the types of the open columns: the narrowest of numbers, dates, datetimes and booleans that all
// filled cells of a column are of; else the one that nine in ten are of; else text. Numbers with zeros before them
// are none, and those of a column where all have the same length are texts even if few begin with a zero.
func (r *run) openTypes() map[string]table.Type {
	types := map[string]table.Type{}
	for c, name := range r.plan.names {
		if j := r.plan.judges[c]; j.cells.Open {
			types[name] = r.census[c].decide(j.cells.Type, r.summaries[c].Facts())
		}
	}
	return types
}

// typicalOpen is how many of a hundred filled cells must be of a type for an open column to be of it.
const typicalOpen = 90

func (c *census) decide(guessed table.Type, f profile.Facts) table.Type {
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
		if one := &candidates[i]; rulebook.ReadAlike(one.is, guessed) && guessed != table.TypeBoolean {
			one.rows += f.Filled - f.Mistyped
		}
	}
	if c.of(rulebook.LooksPadded) > 0 && number == table.TypeInteger && f.Shortest == f.Longest {
		return table.TypeText
	}
	for _, share := range []int64{100, typicalOpen} {
		for _, one := range candidates {
			if f.Filled > 0 && one.rows*100 >= f.Filled*share {
				return one.is
			}
		}
	}
	return table.TypeText
}

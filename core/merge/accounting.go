package merge

import (
	"fmt"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Accounting says what became of every row.
type Accounting struct {
	Inputs []InputRows  `json:"inputs"`
	Stack  StackResult  `json:"stack"`
	Joins  []JoinResult `json:"joins"`
	Rows   int64        `json:"rows"` // of the merged table
	Sums   Sums         `json:"sums"`
	// Estimates counts, per column, the cells of the merged table that are estimates.
	Estimates map[string]int64 `json:"estimates,omitempty"`
	// Reading is how the texts of the merged table are read that are not in standard form.
	Reading rulebook.TableReading `json:"reading,omitzero"`
	// Unmet counts the rows of the table of those that found no partner, where it was asked for.
	Unmet int64 `json:"unmet,omitempty"`
}

// Sums are the exact sums of the measures.
type Sums map[string]string

// InputRows is what one stacked table brought.
type InputRows struct {
	Dataset string `json:"dataset"`
	Table   int64  `json:"table,omitempty"` // its number; 0 where it has none
	Name    string `json:"name,omitempty"`  // of the file that it was delivered as
	Rows    int64  `json:"rows"`
	Sums    Sums   `json:"sums"`
	// Columns are those that the table has.
	Columns []string `json:"columns,omitempty"`
	// SetAside counts those of its rows for which another one of the stack stands.
	SetAside int64 `json:"set_aside,omitempty"`
	// Grain says how its rows were made of those of the table; nil where they are these.
	Grain *GrainResult `json:"grain,omitempty"`
}

// StackResult is the stacked table.
type StackResult struct {
	Rows    int64               `json:"rows"`    // those of the inputs - SetAside
	Sums    Sums                `json:"sums"`    // those of the inputs - SumsSetAside + SumsFilled
	Lacking map[string][]string `json:"lacking"` // columns that some of the datasets do not have
	// Renamed is what the stack calls columns that have other names in a dataset.
	Renamed map[string]map[string]string `json:"renamed,omitempty"`
	// SetAside counts rows for which another one of the stack stands, and Filled, per column, cells of these that are from rows
	// that were set aside.
	SetAside     int64            `json:"set_aside,omitempty"`
	SumsSetAside Sums             `json:"sums_set_aside,omitempty"`
	Filled       map[string]int64 `json:"filled,omitempty"`
	SumsFilled   Sums             `json:"sums_filled,omitempty"`
	// Shared says which keys and rows several of the tables have; nil of a single table.
	Shared *Shared `json:"shared,omitempty"`
	// Periods says which days the tables cover; nil of a single table, or where there is no column of days.
	Periods *Periods `json:"periods,omitempty"`
}

// JoinResult is what one join did.
type JoinResult struct {
	With           string       `json:"with"`
	Table          int64        `json:"table,omitempty"` // the number of the joined table; 0 where it has none
	On             []string     `json:"on"`
	Beside         string       `json:"beside,omitempty"`   // what is compared beside the key
	Unplaced       int64        `json:"unplaced,omitempty"` // rows of the joined table whose range or time is no value of its type
	RowsIn         int64        `json:"rows_in"`
	Matched        int64        `json:"matched"`
	Unmatched      int64        `json:"unmatched"`         // rows whose key the joined table does not have
	Blank          int64        `json:"blank,omitempty"`   // of these, those whose key has nothing in a part, so that it meets nothing
	Outside        int64        `json:"outside,omitempty"` // of these, those whose key is there, but no range or time that theirs falls to
	SetAside       int64        `json:"set_aside"`         // of these, how many left the table
	Multiplied     int64        `json:"multiplied"`        // rows added because a key was there more than once
	Added          int64        `json:"added,omitempty"`   // rows of the joined table that no row asked for, and that were kept
	Chosen         int64        `json:"chosen,omitempty"`  // keys of which one of several rows was taken
	Tied           int64        `json:"tied,omitempty"`    // of these, those where the first in the file was taken of several as good
	RowsOut        int64        `json:"rows_out"`          // RowsIn - SetAside + Multiplied + Added
	JoinedRows     int64        `json:"joined_rows"`       // of the joined table
	Grain          *GrainResult `json:"grain,omitempty"`   // how its rows were made of those of the table; nil where they are these
	JoinedUnused   int64        `json:"joined_unused"`     // of these, how many no row asked for
	SumsIn         Sums         `json:"sums_in"`           // of each measure
	SumsOut        Sums         `json:"sums_out"`          // SumsIn - SumsSetAside + SumsMultiplied + SumsAdded
	SumsSetAside   Sums         `json:"sums_set_aside"`    //
	SumsMultiplied Sums         `json:"sums_multiplied"`   //
	SumsAdded      Sums         `json:"sums_added,omitempty"`
	Misses         []KeyMiss    `json:"misses"` // the most frequent keys without a partner
	// Taken says of each column that was added how full it is.
	Taken []Taken `json:"taken"`
	// Why says what would have to be levelled for keys without a partner to meet one.
	Why []Why `json:"why"`
	// MissesMore is how many more there are.
	MissesMore int64 `json:"misses_more,omitempty"`
	// MissesCut says that there were too many different ones to count: some may be missing here.
	MissesCut bool `json:"misses_cut,omitempty"`
}

// Taken is a column that a join added.
type Taken struct {
	Column string `json:"column"`         // as the merged table calls it
	From   string `json:"from,omitempty"` // as the joined table does
	Filled int64  `json:"filled"`         // rows that have a value in it, after the join
	Of     int64  `json:"of"`             // rows
	// SumThere is the sum of the column in the joined table, and SumThen that after the join, where rows may have been taken
	// several times or never; empty of what are no numbers.
	SumThere string `json:"sum_there,omitempty"`
	SumThen  string `json:"sum_then,omitempty"`
}

// KeyMiss is a key without a partner, and the one that it would meet once both are levelled.
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
		if g := in.Grain; g != nil {
			for m, before := range g.SumsBefore {
				if before != in.Sums[m] {
					return fmt.Errorf("the merge does not add up: the sum of %s in %s is %s, and %s once its grain is changed", m, in.Dataset, before, in.Sums[m])
				}
			}
		}
		rows += in.Rows
		add(sums, in.Sums, 1)
	}
	check := func(what string, gotRows int64, got Sums) error {
		if rows != gotRows {
			return fmt.Errorf("the merge does not add up: %s should have %d rows, and has %d", what, rows, gotRows)
		}
		for m, sum := range sums {
			if sum.Shortest() != got[m] {
				return fmt.Errorf("the merge does not add up: in %s the sum of %s should be %s, and is %s", what, m,
					sum.Shortest(), got[m])
			}
		}
		return nil
	}
	rows -= a.Stack.SetAside
	add(sums, a.Stack.SumsSetAside, -1)
	add(sums, a.Stack.SumsFilled, 1)
	if err := check("the stacked table", a.Stack.Rows, a.Stack.Sums); err != nil {
		return err
	}
	for _, j := range a.Joins {
		if j.Matched+j.Unmatched != j.RowsIn {
			return fmt.Errorf("the merge does not add up: of %d rows joined with %s, %d are matched and %d are not",
				j.RowsIn, j.With, j.Matched, j.Unmatched)
		}
		rows += j.Multiplied - j.SetAside + j.Added
		add(sums, j.SumsMultiplied, 1)
		add(sums, j.SumsAdded, 1)
		add(sums, j.SumsSetAside, -1)
		if err := check("the table joined with "+j.With, j.RowsOut, j.SumsOut); err != nil {
			return err
		}
	}
	return check("the merged table", a.Rows, a.Sums)
}

// Brought is a table that a merged one was made of, with its rows.
type Brought struct {
	Dataset string
	Table   int64
	Rows    int64
}

// Holds says where the accounting is not that of a table of so many rows, made of tables which have the rows that are given; nil
// where it is. What is certified rests on it.
func (a *Accounting) Holds(rows int64, of []Brought) error {
	if err := a.Balance(); err != nil {
		return err
	}
	if a.Rows != rows {
		return fmt.Errorf("the accounting of the merge ends with %d rows, and the table has %d", a.Rows, rows)
	}
	told := make([]bool, len(of))
	brought := func(dataset string, number, n int64, grain *GrainResult) error {
		if grain != nil {
			n = grain.RowsBefore
		}
		// Accountings of earlier versions name datasets alone, of which one table took part.
		at := slices.IndexFunc(of, func(b Brought) bool { return b.Dataset == dataset && (number == 0 || b.Table == number) })
		switch {
		case at < 0:
			return fmt.Errorf("the accounting of the merge speaks of a table of %s, which is not one that it was made of", dataset)
		case of[at].Rows != n:
			return fmt.Errorf("the accounting of the merge has %d rows of %s, and its table has %d", n, dataset, of[at].Rows)
		}
		told[at] = true
		return nil
	}
	for _, in := range a.Inputs {
		if err := brought(in.Dataset, in.Table, in.Rows, in.Grain); err != nil {
			return err
		}
	}
	for _, j := range a.Joins {
		if err := brought(j.With, j.Table, j.JoinedRows, j.Grain); err != nil {
			return err
		}
	}
	if at := slices.Index(told, false); at >= 0 {
		return fmt.Errorf("the accounting of the merge does not speak of the %d rows of table %d of %s, of which it was made", of[at].Rows, of[at].Table, of[at].Dataset)
	}
	return nil
}

func add(into map[string]table.Decimal, sums Sums, sign int64) {
	for m, text := range sums {
		d, _ := table.ParseDecimal(text)
		into[m] = into[m].Add(d.Times(sign))
	}
}

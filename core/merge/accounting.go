package merge

import (
	"fmt"

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
	Unmatched      int64     `json:"unmatched"`        // rows whose key the joined table does not have
	Blank          int64     `json:"blank,omitempty"`  // of these, those whose key has nothing in a part, so that it meets nothing
	SetAside       int64     `json:"set_aside"`        // of these, how many left the table
	Multiplied     int64     `json:"multiplied"`       // rows added because a key was there more than once
	Added          int64     `json:"added,omitempty"`  // rows of the joined table that no row asked for, and that were kept
	Chosen         int64     `json:"chosen,omitempty"` // keys of which one of several rows was taken
	Tied           int64     `json:"tied,omitempty"`   // of these, those where the first in the file was taken of several as good
	RowsOut        int64     `json:"rows_out"`         // RowsIn - SetAside + Multiplied + Added
	JoinedRows     int64     `json:"joined_rows"`      // of the joined table
	JoinedUnused   int64     `json:"joined_unused"`    // of these, how many no row asked for
	SumsIn         Sums      `json:"sums_in"`          // of each measure
	SumsOut        Sums      `json:"sums_out"`         // SumsIn - SumsSetAside + SumsMultiplied + SumsAdded
	SumsSetAside   Sums      `json:"sums_set_aside"`   //
	SumsMultiplied Sums      `json:"sums_multiplied"`  //
	SumsAdded      Sums      `json:"sums_added,omitempty"`
	Misses         []KeyMiss `json:"misses"` // the most frequent keys without a partner
	// Taken says of each column that was added how full it is.
	Taken []Taken `json:"taken"`
	// Why says what would have to be levelled for keys without a partner to meet one.
	Why []Why `json:"why"`
	// MissesCut says that there were too many different ones to count: some may be missing here.
	MissesCut bool `json:"misses_cut,omitempty"`
}

// Taken is a column that a join added.
type Taken struct {
	Column string `json:"column"` // as the merged table calls it
	Filled int64  `json:"filled"` // rows that have a value in it, after the join
	Of     int64  `json:"of"`     // rows
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

// Holds says where the accounting is not that of a table of so many rows, made of tables of which each dataset's has the rows
// that are given; nil where it is. What is certified rests on it.
func (a *Accounting) Holds(rows int64, of map[string]int64) error {
	if err := a.Balance(); err != nil {
		return err
	}
	if a.Rows != rows {
		return fmt.Errorf("the accounting of the merge ends with %d rows, and the table has %d", a.Rows, rows)
	}
	brought := func(dataset string, n int64) error {
		switch has, known := of[dataset]; {
		case !known:
			return fmt.Errorf("the accounting of the merge speaks of a table of %s, which is not one that it was made of", dataset)
		case has != n:
			return fmt.Errorf("the accounting of the merge has %d rows of %s, and its table has %d", n, dataset, has)
		}
		return nil
	}
	for _, in := range a.Inputs {
		if err := brought(in.Dataset, in.Rows); err != nil {
			return err
		}
	}
	for _, j := range a.Joins {
		if err := brought(j.With, j.JoinedRows); err != nil {
			return err
		}
	}
	return nil
}

func add(into map[string]table.Decimal, sums Sums, sign int64) {
	for m, text := range sums {
		d, _ := table.ParseDecimal(text)
		into[m] = into[m].Add(d.Times(sign))
	}
}

package fix

import (
	"context"
	"maps"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Verify reads the written table again, on its own terms, and holds the ledger against it: its rows, and the sums of its
// measures. The rulebook is that of the dataset that the plan makes.
func Verify(ctx context.Context, written table.Source, book *rulebook.Rulebook, ledger *Ledger, workers int) error {
	read, err := audit.Measured(ctx, written, book.ForTable(ledger.Reading), slices.Sorted(maps.Keys(ledger.SumsOut)), workers)
	if err != nil {
		return err
	}
	return ledger.Holds(read)
}

// Holds says where an audit of the cleaned table has other rows or sums than the ledger.
func (l *Ledger) Holds(result *audit.Result) error {
	read := *l
	read.RowsOut, read.SumsOut = result.Rows, map[string]string{}
	for m := range l.SumsOut {
		read.SumsOut[m] = "0"
		if sum, ok := result.Sums[m]; ok {
			read.SumsOut[m] = sum
		}
	}
	return read.Balance()
}

package fix

import (
	"context"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Verify reads the written table again, on its own terms, and holds the ledger against it. The rulebook is that of the
// dataset that the plan makes.
func Verify(ctx context.Context, written table.Source, book *rulebook.Rulebook, ledger *Ledger, workers int) error {
	counted := book.ForTable(ledger.Reading)
	counted.Rules = nil // rows and sums are asked, and no rule
	result, err := audit.Run(ctx, written, counted, workers)
	if err != nil {
		return err
	}
	return ledger.Holds(result)
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

package fix_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
)

// A fix plan is applied: the cleaned table and its change log are written, and the ledger
// accounts for every row and sum.
func ExampleRun() {
	book, _ := rulebook.Parse([]byte(
		"dataset: visits\ncolumns:\n  - {name: crew}\n  - {name: flow, type: decimal}\nmeasures: [flow]\n"))
	plan, err := fix.Parse([]byte(`fix_plan: visits_clean
dataset: visits
steps:
  - {do: trim, columns: [crew], reason: Stray spaces.}
  - {do: remove_equal_rows, reason: Twice.}
`), book)
	if err != nil {
		fmt.Println(err)
		return
	}
	text := "crew,flow\n red,1.5\nred,1.5\nblue,2\n"
	file, err := intake.Open(context.Background(), func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(text[offset:])), nil
	}, book.Reading)
	if err != nil {
		fmt.Println(err)
		return
	}
	ledger, err := fix.Run(context.Background(), fix.Input{Source: file, Book: book}, plan, 1, fix.Outputs{Table: os.Stdout, Log: os.Stdout})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(ledger.RowsIn, ledger.RowsOut, ledger.SumsIn["flow"], ledger.SumsOut["flow"], ledger.Balance())
	// Output:
	// crew,flow
	// red,1.5
	// blue,2
	// {"step":1,"row":1,"line":2,"column":"crew","old":" red","new":"red","reason":"Stray spaces."}
	// {"step":2,"row":2,"line":3,"old":"","new":"","gone":{"crew":"red","flow":"1.5"},"kept_by":1,"reason":"Twice."}
	// 3 2 5 3.5 <nil>
}

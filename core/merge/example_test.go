package merge_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// A table is joined with another by key; the accounting says what became of every row.
func ExampleRun() {
	plan, err := merge.Parse([]byte(`merge: survey
stack: [results]
join:
  - {with: stations, match: [station], take: [river], unmatched: keep}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	t := &testing.T{}
	input := func(dataset, columns, text string) merge.Input {
		book := testkit.Book(t, "dataset: "+dataset+"\ncolumns: ["+columns+"]\n")
		var source table.Source = testkit.File(t, text, intake.Standard())
		return merge.Input{Dataset: dataset, Source: source, Book: book}
	}
	inputs := merge.Inputs{
		input("results", "{name: station}, {name: value, type: decimal}", "station,value\nS1,1\nS2,2\n"),
		input("stations", "{name: station}, {name: river}", "station,river\nS1,Alder\n"),
	}
	accounting, err := merge.Run(context.Background(), plan, inputs, 1, merge.Outputs{Table: os.Stdout})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(accounting.Balance())
	// Output:
	// station,value,river
	// S1,1,Alder
	// S2,2,
	// <nil>
}

package audit_test

import (
	"context"
	"fmt"
	"io"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
)

// A table is audited by a rulebook; what is found are sentences, with the rows behind them.
func ExampleRun() {
	book, err := rulebook.Parse([]byte(`dataset: visits
columns:
  - {name: visit, required: true}
  - {name: flow, type: decimal, from: 0}
keys:
  - {id: one_visit, columns: [visit]}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	text := "visit,flow\nV1,1.5\nV1,-2\nV2,much\n"
	file, err := intake.Open(context.Background(), func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(text[offset:])), nil
	}, book.Reading)
	if err != nil {
		fmt.Println(err)
		return
	}
	r, err := audit.Run(context.Background(), file, book, 2)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, f := range r.Findings {
		fmt.Println(f.Found, f.RowSet.ToArray())
	}
	fmt.Printf("score %.2f, passed %v\n", r.Score, r.HasPassed())
	// Output:
	// 1 of 3 rows has something in flow that is no decimal. [3]
	// 1 of 3 rows has a value out of range in flow. [2]
	// 1 of 3 rows is surplus: 1 value of visit occurs more than once. [2]
	// score 33.33, passed false
}

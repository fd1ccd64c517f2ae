package rulebook_test

import (
	"fmt"

	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
)

// A rulebook is parsed with all its mistakes at once, each with its place.
func ExampleParse() {
	_, err := rulebook.Parse([]byte(`dataset: results
columns:
  - {name: value, type: decimel}
rules:
  - {id: positive, condition: vale > 0}
`))
	fmt.Println(err)
	// Output:
	// line 3, column 25: "decimel" is not a type; did you mean "decimal"?
	// line 5, column 31: in the condition: there is no column "vale"; did you mean "value"?
}

// Two versions are compared in words.
func ExampleCompare() {
	before, _ := rulebook.Parse([]byte("dataset: results\ncolumns:\n  - {name: flow, type: decimal, to: 60}\n"))
	after, _ := rulebook.Parse([]byte(
		"dataset: results\ncolumns:\n  - {name: flow, type: decimal, to: 80, required: true}\n"))
	for _, d := range rulebook.Compare(before, after) {
		fmt.Println(d.Says)
	}
	// Output:
	// The column flow now has required yes.
	// The highest value of the column flow was 60 and is 80.
}

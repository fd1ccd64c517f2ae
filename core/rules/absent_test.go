package rules_test

import "testing"

func TestAbsent(t *testing.T) {
	try(t,
		trial{"a lost column", "columns:\n  - {name: a}\n  - {name: gone, required: true}\n", "a\nx\ny\n",
			"gone.column: 1 2: The table has no column gone."},
	)
	unjudged(t,
		bookOf(t,
			"columns:\n  - {name: a}\n  - {name: gone, required: true}\nrules:\n  - {id: r, condition: gone = a}\n"),
		"a\nx\n", "r", `the table has no column "gone"`, false)
	says(t, "columns:\n  - {name: a}\n  - {name: gone, required: true}\n", "gone.column",
		"The table has a column \"gone\". (major, gone)")
}

package rules_test

import "testing"

func TestEqualRows(t *testing.T) {
	try(t,
		trial{"equal to the letter", "columns:\n  - {name: a}\n  - {name: b}\nequal_rows: {severity: note}\n",
			"a,b\nx,1\nx,1.0\nx,1\nx,1\n", "equal_rows: 3 4: 2 of 4 rows repeat an earlier row in every cell."},
	)
	says(t, "columns:\n  - {name: a}\n  - {name: b}\nequal_rows: {severity: note}\n", "equal_rows",
		"No two rows are equal in every cell. (note, )")
}

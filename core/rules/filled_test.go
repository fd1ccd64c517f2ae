package rules_test

import "testing"

func init() {
	declares("filled", "columns", "name: c", "filled=50|60")
}

func TestFilled(t *testing.T) {
	try(t,
		trial{"too few", "columns:\n  - {name: a, filled: 60}\n", "a,b\nx,1\n,2\n,3\n",
			"a.filled: 2 3: 2 of 3 rows have nothing in a; at least 60 % must have a value."},
		trial{"enough", "columns:\n  - {name: a, filled: 60}\n", "a,b\nx,1\nx,2\n,3\n", ""},
	)
	says(t, "columns:\n  - {name: a, filled: 60}\n", "a.filled", "At least 60 % of the rows have a a. (minor, a)")
	refused(t, map[string]string{
		"columns:\n  - {name: a, filled: 101}\n": `filled is a percentage from 0 to 100, not "101"`,
	})
}

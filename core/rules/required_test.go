package rules_test

import "testing"

func init() {
	declares("required", "columns", "name: c", "required=true|false")
}

func TestRequired(t *testing.T) {
	try(t,
		trial{"blank and marked cells lack",
			"reading: {missing: [n/a]}\ncolumns:\n  - {name: a, required: true}\n  - {name: b}\n",
			"a,b\nx,1\n,2\n n/a ,3\n", "a.required: 2 3: 2 of 3 rows have nothing in a."},
		trial{"nothing lacks", "columns:\n  - {name: a, required: true}\n  - {name: b}\n", "a,b\nx,\n", ""},
		trial{"a key requires its columns",
			"columns:\n  - {name: a}\n  - {name: b}\nkeys:\n  - {id: k, columns: [a]}\n", "a,b\n,1\n",
			"a.required: 1: 1 of 1 row has nothing in a."},
	)
	says(t, "columns:\n  - {name: a, required: true}\n  - {name: b}\n", "a.required", "Every row has a a. (minor, a)")
	refused(t, map[string]string{
		"columns:\n  - {name: a, required: perhaps}\n": `line 3, column 25: required is true or false, not "perhaps"`,
	})
}

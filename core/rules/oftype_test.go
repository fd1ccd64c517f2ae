package rules_test

import "testing"

func TestOfType(t *testing.T) {
	try(t,
		trial{"texts that are no values", "columns:\n  - {name: n, type: integer}\n  - {name: day, type: date}\n",
			"n,day\n1,2024-02-29\n1.5,2023-02-29\nx,\n",
			"n.type: 2 3: 2 of 3 rows have something in n that is no integer.|day.type: 2: 1 of 3 rows has something in day that is no date."},
		trial{"missing is of every type", "columns:\n  - {name: n, type: integer}\n  - {name: day, type: date}\n",
			"n,day\n,\n2,\n", ""},
	)
	says(t, "columns:\n  - {name: n, type: integer}\n  - {name: day, type: date}\n", "n.type",
		"Every n is an integer. (minor, n)")
	refused(t, map[string]string{
		"columns:\n  - {name: n, type: whole}\n": `"whole" is not a type; known are`,
	})
}

package rules_test

import "testing"

func init() {
	declares("range", "columns", "name: c, type: integer", "from=1|2", "to=5|6")
}

func TestBetween(t *testing.T) {
	try(t,
		trial{"values beyond either end", "columns:\n  - {name: n, type: decimal, from: -1, to: 2.5}\n",
			"n\n-1\n-1.01\n2.50\n2.501\nx\n",
			"n.type: 5: 1 of 5 rows has something in n that is no decimal.|n.range: 2 4: 2 of 5 rows have a value out of range in n."},
		trial{"dates", "columns:\n  - {name: d, type: date, from: 2024-02-29}\n", "d\n2024-02-28\n2024-02-29\n",
			"d.range: 1: 1 of 2 rows has a value out of range in d."},
		trial{"texts by their order", "columns:\n  - {name: s, to: m}\n", "s\na\nm\nn\n",
			"s.range: 3: 1 of 3 rows has a value out of range in s."},
	)
	says(t, "columns:\n  - {name: n, type: decimal, from: -1, to: 2.5}\n", "n.range",
		"Every n is from -1 to 2.5. (minor, n)")
	says(t, "columns:\n  - {name: n, type: integer, from: 3, severity: major}\n", "n.range",
		"Every n is at least 3. (major, n)")
	says(t, "columns:\n  - {name: n, type: integer, to: 3}\n", "n.range", "Every n is at most 3. (minor, n)")
	refused(t, map[string]string{
		"columns:\n  - {name: n, type: integer, from: 5, to: 1}\n": `the range of "n" ends before it starts`,
		"columns:\n  - {name: n, type: boolean, to: true}\n":       `a column of type boolean has no range`,
		"columns:\n  - {name: n, type: integer, from: 1.5}\n":      `"1.5" is no integer; bounds are written with a point`,
	})
}

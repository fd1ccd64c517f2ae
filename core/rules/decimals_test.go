package rules_test

import "testing"

func init() {
	declares("decimals", "columns", "name: c, type: decimal", "decimals=1|2")
}

func TestDecimals(t *testing.T) {
	try(t,
		trial{"as they are written", "columns:\n  - {name: n, type: decimal, decimals: 2}\n",
			"n\n1.25\n1.250\n3\n0.001\n", "n.decimals: 2 4: 2 of 4 rows have too many digits after the point in n."},
		trial{"none at all", "columns:\n  - {name: n, type: decimal, decimals: 0}\n", "n\n1\n1.0\n",
			"n.decimals: 2: 1 of 2 rows has too many digits after the point in n."},
	)
	says(t, "columns:\n  - {name: n, type: decimal, decimals: 2}\n", "n.decimals",
		"Every n has at most 2 digits after the point. (minor, n)")
	refused(t, map[string]string{
		"columns:\n  - {name: n, decimals: 2}\n": `decimals is for columns of type decimal, and "n" is of type text`,
	})
}

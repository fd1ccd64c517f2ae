package rules_test

import "testing"

func init() {
	declares("row_count", "table_rules", "id: r, check: row_count", "from=1|2", "to=5|6")
}

func TestRowCount(t *testing.T) {
	try(t,
		trial{"too few", "columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 2, to: 3}\n",
			"a\nx\n", "r:: The table has 1 row; at least 2 must be there."},
		trial{"too many", "columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 2, to: 3}\n",
			"a\nx\nx\nx\nx\n", "r:: The table has 4 rows; at most 3 may be there."},
		trial{"enough", "columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 2, to: 3}\n",
			"a\nx\nx\n", ""},
	)
	says(t, "columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 2, to: 3}\n", "r",
		"There are 2 to 3 rows. (minor, )")
	refused(t, map[string]string{
		"columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count}\n":                 `row_count needs "from" or "to"`,
		"columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 3, to: 2}\n": `the number of rows would end before it starts`,
		"columns:\n  - {name: a}\ntable_rules:\n  - {id: r, check: row_count, from: 3, in: a}\n": `row_count has no "in"; it takes from and to`,
	})
}

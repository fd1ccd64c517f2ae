package rules_test

import "testing"

func init() {
	declares("in_order", "table_rules", "id: r, check: in_order", "in=d|n", "per=[t]|[n]")
}

func TestInOrder(t *testing.T) {
	try(t,
		trial{"below the one before, in its group",
			"columns:\n  - {name: s}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: in_order, in: n, per: [s]}\n", "s,n\na,1\nb,9\na,2\nb,8\na,\na,1.5\n", "r: 4 6: 2 of 6 rows have a n below the one before."},
		trial{"equal is in order",
			"columns:\n  - {name: s}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: in_order, in: n, per: [s]}\n", "s,n\na,1\na,1.0\n", ""},
	)
	says(t,
		"columns:\n  - {name: s}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: in_order, in: n, per: [s]}\n", "r", "For each s, the rows are in the order of n. (minor, s n)")
}

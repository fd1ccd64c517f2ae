package rules_test

import "testing"

func init() {
	declares("parts_sum", "table_rules", "id: r, check: parts_sum", "of=n|m", "total=t = 'x'|t = 'y'", "per=[t]|[d]",
		"tolerance=1|2")
}

func TestPartsSum(t *testing.T) {
	try(t,
		trial{"parts that are not the total",
			"columns:\n  - {name: g}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: parts_sum, of: n, total: g = 'ALL'}\n", "g,n\na,0.1\nb,0.2\nALL,0.4\n", "r: 1 2 3: 1 of 1 sum of n does not agree; the parts sum to 0.3 and the total is 0.4."},
		trial{"exact",
			"columns:\n  - {name: g}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: parts_sum, of: n, total: g = 'ALL'}\n", "g,n\na,0.1\nb,0.2\nALL,0.3\n", ""},
		trial{"without a total",
			"columns:\n  - {name: g}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: parts_sum, of: n, total: g = 'ALL'}\n", "g,n\na,1\n", ""},
	)
	says(t,
		"columns:\n  - {name: g}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: r, check: parts_sum, of: n, total: g = 'ALL'}\n", "r", "The parts of n sum to the total, the rows where g = 'ALL'. (minor, n g)")
	refused(t, map[string]string{
		"columns:\n  - {name: g}\ntable_rules:\n  - {id: r, check: parts_sum, of: g, total: g = 'x'}\n": `"g" is of type text; only numbers are summed`,
		"columns:\n  - {name: g}\ntable_rules:\n  - {id: r, check: parts_sum, of: g}\n":                 `parts_sum needs "total"`,
	})
}

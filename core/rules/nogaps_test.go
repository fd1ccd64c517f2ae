package rules_test

import "testing"

func init() {
	declares("no_gaps", "table_rules", "id: r, check: no_gaps", "in=d|e", "step=day|week", "per=[t]|[n]")
}

func TestNoGaps(t *testing.T) {
	try(t,
		trial{"days left out, in any order",
			"columns:\n  - {name: s}\n  - {name: day, type: date}\ntable_rules:\n  - {id: r, check: no_gaps, in: day, step: day, per: [s]}\n", "s,day\na,2024-03-01\na,2024-02-27\na,2024-02-28\nb,2024-01-01\n", "r: 1: There is 1 gap in the series of day, with 1 day left out; the first one is a: after 2024-02-28."},
		trial{"months",
			"columns:\n  - {name: day, type: date}\ntable_rules:\n  - {id: r, check: no_gaps, in: day, step: month}\n",
			"day\n2024-01-31\n2024-02-01\n2024-04-01\n",
			"r: 3: There is 1 gap in the series of day, with 1 month left out; the first one is after 2024-02."},
		trial{"numbers",
			"columns:\n  - {name: n, type: integer}\ntable_rules:\n  - {id: r, check: no_gaps, in: n, step: 5}\n",
			"n\n0\n5\n20\n",
			"r: 3: There is 1 gap in the series of n, with 2 numbers left out; the first one is after 5."},
	)
	says(t,
		"columns:\n  - {name: s}\n  - {name: day, type: date}\ntable_rules:\n  - {id: r, check: no_gaps, in: day, step: day, per: [s]}\n", "r", "For each s, no day is left out between the first and the last day. (minor, s day)")
	refused(t, map[string]string{
		"columns:\n  - {name: n, type: integer}\ntable_rules:\n  - {id: r, check: no_gaps, in: n, step: day}\n": `its step is a whole number`,
		"columns:\n  - {name: d, type: date}\ntable_rules:\n  - {id: r, check: no_gaps, in: d, step: 5}\n":      `its step is day, week, month, quarter or year`,
		"columns:\n  - {name: s}\ntable_rules:\n  - {id: r, check: no_gaps, in: s, step: day}\n":                `a series is of dates or whole numbers`,
		"columns:\n  - {name: n, type: integer}\ntable_rules:\n  - {id: r, check: no_gaps, in: n, step: 0}\n":   `a step is 1 or more`,
	})
}

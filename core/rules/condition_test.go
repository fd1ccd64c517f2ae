package rules_test

import "testing"

func init() {
	declares("condition", "rules", "id: r", "condition=n = 1|n = 2", "when=n > 1|n > 2", "tolerance=1|2", "may_break=1|2")
}

func TestCondition(t *testing.T) {
	try(t,
		trial{"false where it applies, give or take",
			"columns:\n  - {name: a, type: decimal}\n  - {name: b, type: decimal}\nrules:\n  - {id: r, when: a > 0, condition: a = b, tolerance: 0.1}\n", "a,b\n1,1.1\n1,1.11\n-1,5\n1,\n", "r: 2: 1 of 4 rows breaks the rule a = b."},
		trial{"some may",
			"columns:\n  - {name: a, type: decimal}\nrules:\n  - {id: r, condition: a < 3, may_break: 50}\n",
			"a\n1\n5\n", ""},
		trial{"but not so many",
			"columns:\n  - {name: a, type: decimal}\nrules:\n  - {id: r, condition: a < 3, may_break: 50}\n",
			"a\n1\n5\n6\n", "r: 2 3: 2 of 3 rows break the rule a < 3."},
	)
	says(t,
		"columns:\n  - {name: a, type: decimal}\n  - {name: b, type: decimal}\nrules:\n  - {id: r, when: a > 0, condition: a = b, tolerance: 0.1}\n", "r", "For every row where a > 0: a = b, give or take 0.1. (minor, a b)")
	refused(t, map[string]string{
		"columns:\n  - {name: a}\nrules:\n  - {id: r, condition: b = 1 AND c >}\n":                       `in the condition: a column, a value`,
		"columns:\n  - {name: a, type: decimal}\nrules:\n  - {id: r, condition: a <> 1, tolerance: 1}\n": `a tolerance goes with a single comparison`,
	})
}

package rules_test

import "testing"

func init() {
	declares("key", "keys", "id: r", "columns=[t]|[n]", "may_lack_parts=true|false")
}

func TestKey(t *testing.T) {
	try(t,
		trial{"by value, all but the first",
			"columns:\n  - {name: a}\n  - {name: n, type: decimal}\nkeys:\n  - {id: k, columns: [a, n]}\n",
			"a,n\nx,1\nx,1.0\nX,1\ny,2\nx,01\n",
			"k: 2 5: 2 of 5 rows are surplus: 1 value of a and n occurs more than once."},
		trial{"a part may lack",
			"columns:\n  - {name: a}\n  - {name: n, type: decimal}\nkeys:\n  - {id: k, columns: [a, n], may_lack_parts: true}\n", "a,n\nx,\nx,\n", ""},
	)
	says(t, "columns:\n  - {name: a}\n  - {name: n, type: decimal}\nkeys:\n  - {id: k, columns: [a, n]}\n", "k",
		"No two rows have the same a and n. (major, a n)")
	refused(t, map[string]string{
		"columns:\n  - {name: a}\nkeys:\n  - {id: k, columns: []}\n":     `a key is of one column at least`,
		"columns:\n  - {name: a}\nkeys:\n  - {id: k, columns: [b]}\n":    `there is no column "b"`,
		"columns:\n  - {name: a}\nkeys:\n  - {id: k, columns: [a, a]}\n": `"a" stands twice`,
	})
}

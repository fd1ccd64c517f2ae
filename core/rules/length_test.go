package rules_test

import "testing"

func init() {
	declares("length", "columns", "name: c", "shortest=1|2", "longest=5|6")
}

func TestLength(t *testing.T) {
	try(t,
		trial{"characters, not bytes, and spaces around them left aside",
			"columns:\n  - {name: s, shortest: 2, longest: 3}\n", "s\nab\na\n éöü \nabcd\n\n",
			"s.length: 2 4: 2 of 4 rows have a text in s that is too short or too long."},
		trial{"many different texts are judged alike", "columns:\n  - {name: s, shortest: 2, longest: 3}\n",
			"s\nx1\nx22\nx333\n", "s.length: 3: 1 of 3 rows has a text in s that is too short or too long."},
	)
	says(t, "columns:\n  - {name: s, shortest: 2, longest: 3}\n", "s.length",
		"Every s has 2 to 3 characters. (minor, s)")
	says(t, "columns:\n  - {name: s, shortest: 2}\n", "s.length", "Every s has at least 2 characters. (minor, s)")
	says(t, "columns:\n  - {name: s, longest: 2}\n", "s.length", "Every s has at most 2 characters. (minor, s)")
	refused(t, map[string]string{
		"columns:\n  - {name: s, shortest: 3, longest: 2}\n": `the longest text of "s" would be shorter than its shortest`,
		"columns:\n  - {name: s, longest: -1}\n":             `longest is not below 0`,
	})
}

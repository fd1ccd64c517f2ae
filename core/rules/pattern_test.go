package rules_test

import "testing"

func init() {
	declares("pattern", "columns", "name: c", "pattern=a|b")
}

func TestPattern(t *testing.T) {
	try(t,
		trial{"the whole text", "columns:\n  - {name: s, pattern: \"HG-[0-9]+\"}\n", "s\nHG-1\nHG-\nxHG-1\nHG-1x\n\n",
			"s.pattern: 2 3 4: 3 of 4 rows have a text of another form in s."},
		trial{"other alphabets", "columns:\n  - {name: s, pattern: \"[äö]+\"}\n", "s\näö\na\n",
			"s.pattern: 2: 1 of 2 rows has a text of another form in s."},
	)
	says(t, "columns:\n  - {name: s, pattern: \"HG-[0-9]+\"}\n", "s.pattern",
		"Every s has the form HG-[0-9]+. (minor, s)")
	refused(t, map[string]string{
		"columns:\n  - {name: s, pattern: \"[a-\"}\n": `the pattern cannot be read: missing closing ]`,
	})
}

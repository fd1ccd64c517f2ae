package rules_test

import "testing"

func TestSpelling(t *testing.T) {
	try(t,
		trial{"case, spaces and declared spellings",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: PH, spellings: [acidity]}, NO3]\n", "c\nPH\nph\n  NO3\nAcidity\nXX\n", "c.codes: 5: 1 of 5 rows has something in c that is no code of its list.|c.spelling: 2 3 4: 3 of 5 rows have another spelling of a code in c."},
	)
	says(t,
		"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: PH, spellings: [acidity]}, NO3]\n",
		"c.spelling", "Every c is written as the code list l has it. (minor, c)")
}

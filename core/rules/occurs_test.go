package rules_test

import "testing"

func TestOccurs(t *testing.T) {
	try(t,
		trial{"all but those that ended",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: {all_occur: true, codes: [A, B, {code: C, ended: true}, D]}\n", "c\nA\nb\n", "c.spelling: 2: 1 of 2 rows has another spelling of a code in c.|c.occurs:: 1 of 3 codes that must occur in c does not: D."},
		trial{"single ones",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [A, {code: B, must_occur: true}]\n",
			"c\nA\n", "c.occurs:: 1 of 1 codes that must occur in c does not: B."},
		trial{"each is there",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: {all_occur: true, codes: [A, B, {code: C, ended: true}, D]}\n", "c\nD\nA\nB\n", ""},
	)
	says(t,
		"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: {all_occur: true, codes: [A, B, {code: C, ended: true}, D]}\n", "c.occurs", "Every code of l that must occur in c does. (minor, c)")
}

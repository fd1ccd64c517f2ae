package rules_test

import "testing"

func TestEnded(t *testing.T) {
	try(t,
		trial{"a code that stood for something once, however it is spelled",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [PH, {code: BOD, ended: true, spellings: [B.O.D.]}]\n", "c\nPH\nBOD\nB.O.D.\n", "c.spelling: 3: 1 of 3 rows has another spelling of a code in c.|c.ended: 2 3: 2 of 3 rows have a code in c that has ended."},
	)
	says(t,
		"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [PH, {code: BOD, ended: true, spellings: [B.O.D.]}]\n", "c.ended", "No c is a code that has ended. (minor, c)")
	refused(t, map[string]string{
		"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: A, ended: true, must_occur: true}]\n": `the code "A" has ended, so it cannot have to occur`,
	})
}

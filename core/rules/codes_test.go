package rules_test

import (
	"strings"
	"testing"
)

func init() {
	declares("codes", "columns", "name: c, type: code, codes: l", "new_codes=true|false")
}

func TestCodes(t *testing.T) {
	try(t,
		trial{"what is in no way in the list",
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: PH, spellings: [acidity]}, NO3]\n", "c\nPH\nXX\nYY\nXX\n", "c.codes: 2 3 4: 3 of 4 rows have something in c that is no code of its list."},
	)
	says(t,
		"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: PH, spellings: [acidity]}, NO3]\n",
		"c.codes", "Every c is in the code list l. (minor, c)")
	fresh := strings.Replace("columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: [{code: PH, spellings: [acidity]}, NO3]\n", "codes: l}", "codes: l, new_codes: true}", 1)
	book := bookOf(t, fresh)
	if got := found(t, book, "c\nPH\nXX\n"); got != "" {
		t.Errorf("a new code is found: %s", got)
	}
	told := false
	for _, lead := range audited(t, book, "c\nPH\nXX\n").Leads {
		told = told || lead.Kind == "new_codes" &&
			lead.Says == "1 cell of c holds a code that is not in its list yet: XX."
	}
	if !told {
		t.Error("a new code is told as no lead")
	}
	unjudged(t,
		bookOf(t,
			"columns:\n  - {name: c, type: code, codes: l}\ncode_lists:\n  l: {from: {dataset: o, columns: [code]}}\n"),
		"c\nPH\n", "c.codes", "the dataset o, whose codes these are, is not at hand", false)
	refused(t, map[string]string{
		"columns:\n  - {name: c, new_codes: true}\n":      `new_codes is for columns of type code, and "c" is of type text`,
		"columns:\n  - {name: c, type: code, codes: m}\n": `there is no code list "m"`,
	})
}

package rules_test

import "testing"

func init() {
	declares("covers", "table_rules", "id: r, check: covers", "in=t|d",
		"with={dataset: o, columns: [a]}|{dataset: p, columns: [a]}")
}

func TestCovers(t *testing.T) {
	const rules = "columns:\n  - {name: c}\ntable_rules:\n  - {id: r, check: covers, in: c, with: {dataset: o, columns: [code]}}\n"
	if got, want := found(t, with(t, rules, "code,n\nA,1\nB,1\n,1\nC,1\n"), "c\nB\nX\n"),
		"r:: 2 of 3 values of code of o do not occur in c: A and C."; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if got := found(t, with(t, rules, "code,n\nA,1\n"), "c\nA\n"); got != "" {
		t.Errorf("got %s", got)
	}
	unjudged(t, bookOf(t, rules), "c\nA\n", "r", "the dataset o is not at hand", false)
	says(t, rules, "r", "Every code of o occurs in c. (minor, c)")
	refused(t, map[string]string{
		"columns:\n  - {name: c}\ntable_rules:\n  - {id: r, check: covers, in: c, with: {dataset: o, columns: [a, b]}}\n": `covers looks for the values of one column: 1, not 2`,
	})
}

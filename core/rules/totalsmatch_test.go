package rules_test

import "testing"

func init() {
	declares("totals_match", "table_rules", "id: r, check: totals_match", "of=n|m",
		"with={dataset: o, columns: [b, a]}|{dataset: p, columns: [b, a]}", "per=[t]|[d]", "tolerance=1|2")
}

func TestTotalsMatch(t *testing.T) {
	const rules = "columns:\n  - {name: c}\n  - {name: v, type: decimal}\ntable_rules:\n  - {id: r, check: totals_match, of: v, per: [c], with: {dataset: o, columns: [code, n]}}\n"
	got := found(t, with(t, rules, "code,n\nA,0.3\nB,1\nC,7\n"), "c,v\nA,0.1\nA,0.2\nB,2\n")
	if want := "r: 3: 2 of 3 sums of v do not agree; B: the sum is 2 here and 1 there."; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if got := found(t, with(t, rules, "code,n\nA,0.3\n"), "c,v\nA,0.1\nA,0.2\n"); got != "" {
		t.Errorf("got %s", got)
	}
	says(t, rules, "r", "For each c, the sum of v is that of n in o. (minor, c v)")
	refused(t, map[string]string{
		"columns:\n  - {name: v, type: decimal}\ntable_rules:\n  - {id: r, check: totals_match, of: v, with: {dataset: o, columns: [code, n]}}\n": `and then the one that is summed: 1, not 2`,
	})
}

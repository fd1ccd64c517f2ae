package rules_test

import (
	"strings"
	"testing"
)

func init() {
	declares("totals_match", "table_rules", "id: r, check: totals_match", "of=n|m",
		"with={dataset: o, columns: [b, a]}|{dataset: p, columns: [b, a]}", "per=[t]|[d]", "tolerance=1|2", "factor=10|1000", "period=month|year")
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
	// A month's sum is dated with its last day there, in thousands.
	const monthly = "columns:\n  - {name: c}\n  - {name: d, type: date}\n  - {name: v, type: decimal}\ntable_rules:\n  - {id: r, check: totals_match, of: v, per: [c, d], period: month, factor: 1000, with: {dataset: o, columns: [code, month_end, n]}}\n"
	got = found(t, with(t, monthly, "code,month_end,n\nA,2024-01-31,0.7\nA,2024-02-29,0.002\n"), "c,d,v\nA,2024-01-01,300\nA,2024-01-09,400\nA,2024-02-01,3\n")
	if want := "r: 3: 1 of 2 sums of v does not agree; A, 2024-02-01: the sum is 3 here and 2 there."; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	says(t, monthly, "r", "For each c and d, the sum of v is 1000 times that of n in o, where dates stand for their month. (minor, c d v)")
	refused(t, map[string]string{
		strings.Replace(monthly, "factor: 1000", "factor: 0", 1):                                                                                  "a factor is more than 0",
		strings.Replace(monthly, "period: month", "period: fortnight", 1):                                                                         "is not a period",
		"columns:\n  - {name: v, type: decimal}\ntable_rules:\n  - {id: r, check: totals_match, of: v, with: {dataset: o, columns: [code, n]}}\n": `and then the one that is summed: 1, not 2`,
	})
}

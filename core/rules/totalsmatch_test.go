package rules_test

import (
	"strings"
	"testing"
)

func init() {
	declares("totals_match", "table_rules", "id: r, check: totals_match", "of=n|m",
		"with={dataset: o, columns: [b, a]}|{dataset: p, columns: [b, a]}", "per=[t]|[d]", "tolerance=1|2", "factor=10|1000", "period=month|year", "expression=n * 2|m + 1")
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
	worked := "columns:\n  - {name: c}\n  - {name: v, type: decimal}\n  - {name: times, type: integer}\ntable_rules:\n  - {id: r, check: totals_match, of: v, expression: v * times, per: [c], with: {dataset: o, columns: [code, n]}}\n"
	if got = found(t, with(t, worked, "code,n\nA,7\nB,1\n"), "c,v,times\nA,0.5,4\nA,5,1\nB,2,1\n"); got != "r: 3: 1 of 2 sums of v * times does not agree; B: the sum is 2 here and 1 there." {
		t.Error(got)
	}
	says(t, worked, "r", "For each c, the sum of v * times is that of n in o. (minor, c v times)")
	refused(t, map[string]string{
		strings.Replace(monthly, "factor: 1000", "factor: 0", 1):          "a factor is more than 0",
		strings.Replace(monthly, "period: month", "period: fortnight", 1): "is not a period",
		strings.Replace(worked, "v * times", "c", 1):                      "c is a text, and a number is wanted",
		strings.Replace(worked, "v * times", "v * tmies", 1):              "in the expression",
		"columns:\n  - {name: v, type: decimal}\ntable_rules:\n  - {id: r, check: totals_match, of: v, with: {dataset: o, columns: [code, n]}}\n": `and then the one that is summed: 1, not 2`,
	})
}

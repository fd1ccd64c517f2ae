package rules_test

import "testing"

func init() {
	declares("reference", "references", "id: r", "columns=[t]|[n]",
		"to={dataset: o, columns: [a]}|{dataset: p, columns: [a]}")
}

func TestReference(t *testing.T) {
	const rules = "columns:\n  - {name: c}\nreferences:\n  - {id: known, columns: [c], to: {dataset: o, columns: [code]}}\n"
	got := found(t, with(t, rules, "code,n\nA,1\n"), "c,x\nA,1\nB,1\n,1\nB,1\n")
	if want := "known: 2 4: 2 of 4 rows have a c that is no code of o."; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	unjudged(t, bookOf(t, rules), "c\nA\n", "known", "the dataset o is not at hand", false)
	says(t, rules, "known", "Every c is a code of o. (minor, c)")
	refused(t, map[string]string{
		"columns:\n  - {name: c}\nreferences:\n  - {id: r, columns: [c], to: {dataset: o, columns: [a, b]}}\n": `a reference pairs its columns with those of the other dataset: 1, not 2`,
	})
}

package rules_test

import "testing"

func init() {
	declares("missing_steady", "history", "id: r, check: missing_steady", "column=t|d", "within=5|6", "last=2|3")
}

func TestMissingSteady(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: missing_steady, column: v, within: 10}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v,w\n1,1\n2,1\n", "", []string{"v,w\n1,1\n"}},
		{"v,w\n1,1\n,1\n", "h:: 50.0 % of the rows have no v; before 0.0 % had none.", []string{"v,w\n1,1\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t,
		"columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: missing_steady, column: v, within: 10}\n",
		"h", "The share of rows without a v is within 10 points of that of the last delivery. (minor, v)")
}

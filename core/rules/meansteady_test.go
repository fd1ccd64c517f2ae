package rules_test

import "testing"

func init() {
	declares("mean_steady", "history", "id: r, check: mean_steady", "column=n|m", "within=5|6", "last=2|3")
}

func TestMeanSteady(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: mean_steady, column: v, within: 10}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\n10\n12\n", "", []string{"v\n10\n"}},
		{"v\n20\n", "h:: The mean of v is 20; before it was 10, which is a change of +100.0 %.", []string{"v\n10\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t,
		"columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: mean_steady, column: v, within: 10}\n",
		"h", "The mean of v is within 10 % of that of the last delivery. (minor, v)")
	refused(t, map[string]string{
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: mean_steady, column: v, within: 5}\n": `"v" is of type text; only numbers have a mean`,
	})
}

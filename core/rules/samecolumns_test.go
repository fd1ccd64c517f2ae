package rules_test

import "testing"

func TestSameColumns(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: same_columns}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\n1\n", "", []string{"v\n2\n"}},
		{"v\n1\n", "h:: The last delivery had w, and this one has not.", []string{"v,w\n2,3\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t, "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: same_columns}\n", "h",
		"Every column of the last delivery is there, and of the same type. (minor, )")
}

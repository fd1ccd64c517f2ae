package rules_test

import "testing"

func init() {
	declares("shape_steady", "history", "id: r, check: shape_steady", "column=t|d", "within=5|6")
}

func TestShapeSteady(t *testing.T) {
	const rules = "columns:\n  - {name: v}\nhistory:\n  - {id: h, check: shape_steady, column: v, within: 30}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\na\na\nb\n", "", []string{"v\na\na\nb\n"}},
		{"v\na\nb\n",
			"h:: The distribution of v is at a distance of 50.0 % from the last one; at most 30 % are allowed.",
			[]string{"v\na\na\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t, "columns:\n  - {name: v}\nhistory:\n  - {id: h, check: shape_steady, column: v, within: 30}\n", "h",
		"The distribution of v is at a distance of at most 30 % from that of the last delivery. (minor, v)")
}

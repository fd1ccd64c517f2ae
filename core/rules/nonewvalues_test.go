package rules_test

import "testing"

func init() {
	declares("no_new_values", "history", "id: r, check: no_new_values", "column=t|d", "last=2|3")
}

func TestNoNewValues(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: no_new_values, column: v, last: 2}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\n1\n2\n", "", []string{"v\n1\n", "v\n2\n"}},
		{"v\n1\n3\n3\n", "h:: 1 value of v was not there before: 3.", []string{"v\n1\n", "v\n2\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t, "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: no_new_values, column: v, last: 2}\n",
		"h", "v has no value that none of the last 2 deliveries had. (minor, v)")
	refused(t, map[string]string{
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: no_new_values}\n": `no_new_values needs "column"`,
	})
}

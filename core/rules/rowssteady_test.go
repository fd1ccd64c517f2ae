package rules_test

import "testing"

func init() {
	declares("rows_steady", "history", "id: r, check: rows_steady", "within=5|6", "last=2|3")
}

func TestRowsSteady(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: rows_steady, within: 50, last: 2}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\n1\n1\n1\n", "", []string{"v\n1\n1\n", "v\n1\n1\n"}},
		{"v\n1\n", "h:: The table has 1 row; before it had 3, which is a change of -66.7 %.",
			[]string{"v\n1\n1\n", "v\n1\n1\n1\n1\n"}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	unjudged(t, bookOf(t, rules), "v\n1\n", "h", "there is no earlier delivery to compare with", true)
	says(t, "columns:\n  - {name: v, type: decimal}\nhistory:\n  - {id: h, check: rows_steady, within: 50, last: 2}\n",
		"h", "The number of rows is within 50 % of that of the last 2 deliveries. (minor, )")
	refused(t, map[string]string{
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: rows_steady}\n":                     `rows_steady needs "within"`,
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: rows_steady, within: 5, last: 0}\n": `last is how many deliveries back, from 1 to 100`,
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: rows_stedy}\n":                      `did you mean "rows_steady"?`,
	})
}

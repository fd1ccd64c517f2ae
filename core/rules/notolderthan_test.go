package rules_test

import "testing"

func init() {
	declares("not_older_than", "history", "id: r, check: not_older_than", "column=d|e", "days=5|6")
}

func TestNotOlderThan(t *testing.T) {
	const rules = "columns:\n  - {name: v, type: date}\nhistory:\n  - {id: h, check: not_older_than, column: v, days: 30}\n"
	for _, c := range []struct {
		now, want string
		past      []string
	}{
		{"v\n2024-06-20\n2020-01-01\n", "", []string{}},
		{"v\n2024-05-01\n", "h:: The newest v is 2024-05-01, 56 days before the audit; at most 30 are allowed.",
			[]string{}},
		{"v\nx\n", "v.type: 1: 1 of 1 row has something in v that is no date.|h:: v has no date.", []string{}},
	} {
		if got := found(t, with(t, rules, "code,n\n", c.past...), c.now); got != c.want {
			t.Errorf("%q after %q: got %s, want %s", c.now, c.past, got, c.want)
		}
	}
	says(t, "columns:\n  - {name: v, type: date}\nhistory:\n  - {id: h, check: not_older_than, column: v, days: 30}\n",
		"h", "The newest v is at most 30 days old. (minor, v)")
	refused(t, map[string]string{
		"columns:\n  - {name: v}\nhistory:\n  - {id: h, check: not_older_than, column: v, days: 3}\n": `only dates grow old`,
	})
}

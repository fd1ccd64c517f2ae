package cli

import (
	"encoding/json"
	"strings"
	"testing"

	"proudsieve/core/tally"
)

// Rows by month and by crew, from a bare file: what stands in the demo's visits was counted by hand with other tools.
func TestTallyOfAFile(t *testing.T) {
	visits := demoFile(t, "data/visits.csv")
	code, out, stderr := run("tally", visits, "--by", "DATE_TRUNC('month', visited)", "--measure", "rows", "--measure", "mean flow", "--top", "100")
	if code != 0 || stderr != "" {
		t.Fatal(code, stderr)
	}
	for _, want := range []string{"13 groups", "2024-01-01                     119", "(missing)                        7", "all                           1500"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	code, out, _ = run("tally", visits, "--by", "crew", "--by", "water", "--share", "row", "--top", "3")
	if code != 0 || !strings.Contains(out, "rows, % of row in each") || !strings.Contains(out, "the other 8") {
		t.Errorf("%d %s", code, out)
	}
	code, out, _ = run("tally", visits, "--by", "crew", "--measure", "sum flow", "--order", "sum flow", "--falling", "--where", "flow > 1", "--json")
	var found tally.Tally
	if err := json.Unmarshal([]byte(out), &found); err != nil || code != 0 || len(found.Downs) != 11 || found.All.Rows != 1171 {
		t.Errorf("%d %v %s", code, err, out)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--by", "crwe"}, `did you mean "crew"?`},
		{[]string{"--measure", "sum crew"}, "sum is of numbers"},
		{[]string{"--where", "flow >"}, "the condition cannot be used"},
		{[]string{"--share", "half"}, `not of "half"`},
	} {
		code, _, stderr := run(append([]string{"tally", visits}, c.args...)...)
		if code != 2 || !strings.Contains(stderr, c.want) {
			t.Errorf("%v: %d %s", c.args, code, stderr)
		}
	}
}

package steps_test

import (
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/testkit"
)

func TestKeepOne(t *testing.T) {
	try(t,
		trial{"the earliest", `do: keep_one, columns: [sample], survivor: earliest_row`, "S1,PH,1\nS2,PH,5\nS1,PH,2\n",
			"S1,PH,1\nS2,PH,5\n", "0 1 -2"},
		trial{"the latest", `do: keep_one, columns: [sample], survivor: latest_row`, "S1,PH,1\nS1,PH,2\n", "S1,PH,2\n",
			"0 1 -1"},
		trial{"the fullest, of equals the earliest", `do: keep_one, columns: [sample], survivor: fullest_row`,
			"S1,n/a,1\nS1,PH,2\nS1,NO3,3\n", "S1,PH,2\n", "0 2 -4"},
		trial{"the largest", `do: keep_one, columns: [sample], survivor: largest_value, by: value`,
			"S1,PH,9\nS1,PH,10\nS1,PH,\n", "S1,PH,10\n", "0 2 -9"},
		trial{"the least, a missing one last", `do: keep_one, columns: [sample], survivor: least_value, by: value`,
			"S1,PH,\nS1,PH,9\nS1,PH,10\n", "S1,PH,9\n", "0 2 -10"},
		trial{"rows without a key are all kept", `do: keep_one, columns: [sample], survivor: earliest_row`,
			",PH,1\n,PH,2\n", ",PH,1\n,PH,2\n", "0 0 0: This step had nothing to do."},
	)
	refused(t, map[string]string{
		`do: keep_one, columns: [sample], survivor: largest_value`: `"by" names the column that decides`,
		`do: keep_one, columns: [sample], survivor: best`:          `"best" is not a way to choose a row`,
	})
}

// The words of earlier versions are read, and said to be old.
func TestOldWordsOfKeepOne(t *testing.T) {
	p, err := fix.Parse(
		[]byte("fix_plan: p\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], keep: largest, by: value, reason: r}\n"), testkit.Book(t, book))
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, one := range p.Old {
		told = append(told, one.String())
	}
	want := `line 4, column 39: "keep" is an old word for "survivor"; it is still understood|line 4, column 45: "largest" is an old word for "largest_value"; it is still understood`
	if got := strings.Join(told, "|"); got != want || p.Passes() != 1 {
		t.Errorf("got %s, want %s; %d readings", got, want, p.Passes())
	}
}

package steps_test

import "testing"

func TestRemoveEqualRows(t *testing.T) {
	try(t,
		trial{"equal to the letter", `do: remove_equal_rows`, "S1,PH,1\nS1,PH,1.0\nS1,PH,1\nS1,PH,1\n",
			"S1,PH,1\nS1,PH,1.0\n", "0 2 -2"},
		trial{"none", `do: remove_equal_rows`, "S1,PH,1\n", "S1,PH,1\n", "0 0 0: This step had nothing to do."},
	)
}

package steps_test

import "testing"

func TestTrim(t *testing.T) {
	try(t,
		trial{"ends and middle", `do: trim, columns: [sample]`, " S  1 ,PH,1\nS2,PH,2\n", "S 1,PH,1\nS2,PH,2\n",
			"1 0 0"},
		trial{"a text becomes a number", `do: trim, columns: [value]`, "S1,PH, 5 \n", "S1,PH,5\n", "1 0 5"},
		trial{"around alone", `do: trim, columns: [sample], spaces: around`, " S  1 ,PH,1\n", "S  1,PH,1\n", "1 0 0"},
		trial{"inside alone", `do: trim, columns: [sample], spaces: inside`, " S  1 ,PH,1\n", "\" S 1 \",PH,1\n", "1 0 0"},
		trial{"of some rows", `do: trim, columns: [sample], where: value = 1`, " S1,PH,1\n S2,PH,2\n", "S1,PH,1\n\" S2\",PH,2\n", "1 0 0"},
	)
	refused(t, map[string]string{
		`do: trim`:                           `a step "trim" needs "columns"`,
		`do: trim, columns: [x]`:             `there is no column "x"`,
		`do: trim, columns: [sample], to: x`: `a step "trim" has no "to"`,
	})
}

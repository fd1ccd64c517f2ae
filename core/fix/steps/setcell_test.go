package steps_test

import "testing"

func TestSetCell(t *testing.T) {
	try(t,
		trial{"one cell", `do: set_cell, key: {sample: S1}, column: value, to: "7.4"`, "S1,PH,74\nS2,PH,74\n",
			"S1,PH,7.4\nS2,PH,74\n", "1 0 -66.6"},
		trial{"no such row", `do: set_cell, key: {sample: S9}, column: value, to: "7.4"`, "S1,PH,74\n", "S1,PH,74\n",
			"0 0 0: No row has this key; nothing was changed."},
		trial{"several", `do: set_cell, key: {parameter: PH}, column: sample, to: x, rows: 2`, "S1,PH,1\nS2,PH,1\n",
			"x,PH,1\nx,PH,1\n", "2 0 0: 2 rows have this key; the cell is set in each."},
	)
	stopped(t, "S1,PH,1\nS2,PH,1\n", map[string]string{
		`do: set_cell, key: {parameter: PH}, column: sample, to: x`:                      `write rows: 2 if each of them is meant`,
		`do: set_cell, key: {sample: S1, parameter: PH}, column: sample, to: x, rows: 2`: `the step is for 2; write rows: 1`,
	})
	refused(t, map[string]string{
		`do: set_cell, key: S1, column: value, to: x`:      `"key" has names, each with what it stands for`,
		`do: set_cell, key: {x: S1}, column: value, to: x`: `there is no column "x"`,
	})
}

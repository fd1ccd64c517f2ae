package steps_test

import "testing"

func TestSetMissing(t *testing.T) {
	try(t,
		trial{"texts", `do: set_missing, columns: [value], values: [trace, 999]`,
			"S1,PH,999\nS2,PH, trace \nS3,PH,99\n", "S1,PH,\nS2,PH,\nS3,PH,99\n", "2 0 -999"},
		trial{"by a condition", `do: set_missing, columns: [value], where: value > 14`, "S1,PH,15\nS2,PH,\nS3,PH,14\n",
			"S1,PH,\nS2,PH,\nS3,PH,14\n", "1 0 -15"},
		trial{"texts of some rows", `do: set_missing, columns: [value], values: [15], where: parameter = 'PH'`, "S1,PH,15\nS2,NO3,15\nS3,PH,16\n",
			"S1,PH,\nS2,NO3,15\nS3,PH,16\n", "1 0 -15"},
	)
	refused(t, map[string]string{
		`do: set_missing, columns: [value]`:                              `has "values", "where" or both`,
		`do: set_missing, columns: [value], where: value > AND sample >`: `in the condition: a column`,
	})
}

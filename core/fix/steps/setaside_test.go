package steps_test

import "testing"

func TestSetAside(t *testing.T) {
	try(t,
		trial{"where it is true, not where it is unknown", `do: set_aside, where: value > 0`,
			"S1,PH,\nS2,PH,1\nS3,PH,0\n", "S1,PH,\nS3,PH,0\n", "0 1 -1"},
	)
	refused(t, map[string]string{
		`do: set_aside`:                  `a step "set_aside" needs "where"`,
		`do: set_aside, where: vale > 1`: `did you mean "value"?`,
	})
}

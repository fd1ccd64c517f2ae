package steps_test

import "testing"

func TestChangeCase(t *testing.T) {
	try(t,
		trial{"lower", `do: change_case, columns: [sample], to: lower`, "S1,PH,1\ns2,PH,1\n", "s1,PH,1\ns2,PH,1\n",
			"1 0 0"},
		trial{"upper", `do: change_case, columns: [sample], to: upper`, "öst,PH,1\n", "ÖST,PH,1\n", "1 0 0"},
		trial{"first", `do: change_case, columns: [sample], to: first`, "éCOLE,PH,1\n", "École,PH,1\n", "1 0 0"},
		trial{"nothing of nothing", `do: change_case, columns: [sample], to: first`, ",PH,1\n", ",PH,1\n",
			"0 0 0: This step had nothing to do."},
	)
	refused(t, map[string]string{
		`do: change_case, columns: [sample], to: title`: `"title" is not a case`,
	})
}

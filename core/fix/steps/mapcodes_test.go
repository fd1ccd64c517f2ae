package steps_test

import "testing"

func TestMapCodes(t *testing.T) {
	try(t,
		trial{"other spellings, and no others", `do: map_codes, columns: [parameter]`,
			"S1,acidity,1\nS2, no3 ,2\nS3,XX,3\n", "S1,PH,1\nS2,NO3,2\nS3,XX,3\n", "2 0 0: 1 text is no code, and nothing is suggested for it."},
	)
	refused(t, map[string]string{
		`do: map_codes, columns: [sample]`: `"sample" has no code list to map to`,
	})
}

func TestMapCodesThatAreNamedOrSuggested(t *testing.T) {
	try(t,
		trial{"named", `do: map_codes, columns: [parameter], codes: {Nitrat: NO3, '-': PH}`, "S1, nitrat,1\nS2,-,2\nS3,acidity,3\n", "S1,NO3,1\nS2,PH,2\nS3,PH,3\n", "3 0 0"},
		trial{"what waits is named", `do: map_codes, columns: [parameter]`, "S1,acidty,1\nS2,acidty,1\n", "S1,acidty,1\nS2,acidty,1\n",
			`0 0 0: 2 cells wait for acceptance: "acidty" for PH (2). Name them in codes, accept them in the code list, or take what is sure enough by sure.`},
		trial{"what is sure enough", `do: map_codes, columns: [parameter], sure: 0.6`, "S1,acidty,1\n", "S1,PH,1\n", "1 0 0"},
	)
	refused(t, map[string]string{
		`do: map_codes, columns: [parameter], codes: {x: XX}`:      `"XX" is no code of the list of "parameter"`,
		`do: map_codes, columns: [parameter], sure: 2`:             `from 0.5 to 1`,
		`do: map_codes, columns: [sample], sure: 0.9`:              `"sample" has no code list`,
		`do: map_codes, columns: [sample], from_dataset: stations`: `all three of them`,
	})
}

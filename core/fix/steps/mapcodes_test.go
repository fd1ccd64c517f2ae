package steps_test

import "testing"

func TestMapCodes(t *testing.T) {
	try(t,
		trial{"other spellings, and no others", `do: map_codes, columns: [parameter]`,
			"S1,acidity,1\nS2, no3 ,2\nS3,XX,3\n", "S1,PH,1\nS2,NO3,2\nS3,XX,3\n", "2 0 0"},
	)
	refused(t, map[string]string{
		`do: map_codes, columns: [sample]`: `"sample" has no code list to map to`,
	})
}

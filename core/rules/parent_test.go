package rules_test

import "testing"

func init() {
	declares("parent", "columns", "name: c, type: code, codes: l", "parent_in=t|n")
}

func TestParent(t *testing.T) {
	try(t,
		trial{"a code beside another parent",
			"columns:\n  - {name: c, type: code, codes: l, parent_in: region}\n  - {name: region}\ncode_lists:\n  l: [{code: S1, parent: Upper}, {code: S2, parent: Lower}, S3]\n", "c,region\nS1,Upper\nS2,Upper\nS3,Upper\nS1,\n", "c.parent: 2: 1 of 4 rows has a c beside another region than its own."},
	)
	says(t,
		"columns:\n  - {name: c, type: code, codes: l, parent_in: region}\n  - {name: region}\ncode_lists:\n  l: [{code: S1, parent: Upper}, {code: S2, parent: Lower}, S3]\n", "c.parent", "Every c stands beside the region that it is a part of. (minor, c region)")
	refused(t, map[string]string{
		"columns:\n  - {name: c, parent_in: c}\n":                                             `parent_in is for columns of type code`,
		"columns:\n  - {name: c, type: code, codes: l, parent_in: x}\ncode_lists: {l: [A]}\n": `there is no column "x"`,
	})
}

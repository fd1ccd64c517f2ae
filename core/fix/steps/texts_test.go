package steps_test

import "testing"

func TestChangeCaseOfEachWord(t *testing.T) {
	try(t,
		trial{"each word", `do: change_case, columns: [sample], to: each_word`, "upper o'BRIEN-weir 2nd,PH,1\n", "Upper O'brien-Weir 2nd,PH,1\n", "1 0 0"},
		trial{"a code leaves its list", `do: change_case, columns: [parameter], to: lower`, "S1,PH,1\nS2,XX,1\n", "S1,ph,1\nS2,xx,1\n",
			"2 0 0: 1 code is in the code list now, and would not be then; the list must change with this step."},
		trial{"a code that has no other spelling leaves its list", `do: replace, columns: [parameter], find: PH, with: acid, match: whole_cell`, "S1,PH,1\n", "S1,acid,1\n",
			"1 0 0: 1 code is in the code list now, and would not be then; the list must change with this step."},
	)
}

func TestReplace(t *testing.T) {
	try(t,
		trial{"a whole cell", `do: replace, columns: [sample], find: S1, with: T1, match: whole_cell`, "S1,PH,1\nS11,PH,2\n", "T1,PH,1\nS11,PH,2\n", "1 0 0"},
		trial{"an empty cell", `do: replace, columns: [sample], find: '', with: T1, match: whole_cell`, ",PH,1\n", "T1,PH,1\n", "1 0 0"},
		trial{"a part", `do: replace, columns: [sample], find: '-', with: '/', match: part`, "a-b-c,PH,1\n", "a/b/c,PH,1\n", "1 0 0"},
		trial{"a pattern with groups", `do: replace, columns: [sample], find: '(\d+)-(\d+)', with: '$2-$1', match: pattern`, "S 12-7,PH,1\n", "S 7-12,PH,1\n", "1 0 0"},
		trial{"a number becomes a text", `do: replace, columns: [value], find: '.', with: ' point ', match: part`, "S1,PH,1.5\n", "S1,PH,1 point 5\n",
			"1 0 -1.5: 1 cell has a text then that is no value of its column's type."},
	)
	refused(t, map[string]string{
		`do: replace, columns: [sample], find: '(', with: x, match: pattern`: `"(" is no pattern`,
		`do: replace, columns: [sample], find: '', with: x, match: part`:     `an empty text is a part of every cell`,
		`do: replace, columns: [sample], find: a, with: x, match: some`:      `"some" is not what find can be`,
		`do: replace, columns: [sample], find: a, match: part`:               `needs "with"`,
	})
}

func TestZeros(t *testing.T) {
	try(t,
		trial{"padded", `do: pad_zeros, columns: [sample], length: 5`, "712,PH,1\n00712,PH,2\n123456,PH,3\nS1,PH,4\n,PH,5\n", "00712,PH,1\n00712,PH,2\n123456,PH,3\nS1,PH,4\n,PH,5\n",
			"1 0 0: 1 text has other characters than digits and stays as it is."},
		trial{"stripped", `do: strip_zeros, columns: [sample]`, "00712,PH,1\n000,PH,2\n0S,PH,3\n", "712,PH,1\n0,PH,2\n0S,PH,3\n",
			"2 0 0: 1 text has other characters than digits and stays as it is."},
	)
	refused(t, map[string]string{`do: pad_zeros, columns: [sample], length: 0`: `length is a whole number from 1 to 100, not 0`})
}

func TestUnicodeForm(t *testing.T) {
	try(t,
		trial{"joined", `do: unicode_form, columns: [sample], form: NFC`, "e\u0301,PH,1\n\u00e9,PH,2\n", "\u00e9,PH,1\n\u00e9,PH,2\n", "1 0 0"},
		trial{"what looks alike", `do: unicode_form, columns: [sample], form: NFKC`, "m\u00b2 \ufb01n,PH,1\n", "m2 fin,PH,1\n", "1 0 0"},
	)
	refused(t, map[string]string{`do: unicode_form, columns: [sample], form: NFX`: `"NFX" is not a normal form`})
}

func TestSplitIntoColumns(t *testing.T) {
	const after = "sample,parameter,value,a,b\n"
	tryOn(t, book, "sample,parameter,value\n", after,
		trial{"at a text", `do: split_into_columns, column: sample, at: /, into: [a, b]`, "x / y,PH,1\nz,PH,2\n,PH,3\n", "x / y,PH,1,x,y\nz,PH,2,z,\n,PH,3,,\n",
			"3 0 0: 1 text has fewer parts than there are columns."},
		trial{"by a pattern", `do: split_into_columns, column: sample, pattern: '([A-Z]+)(\d+)', into: [a, b]`, "S12,PH,1\n12,PH,2\n", "S12,PH,1,S,12\n12,PH,2,,\n",
			"2 0 0: 1 text does not fit the pattern, and none of its parts is set."},
		trial{"surplus stays together", `do: split_into_columns, column: sample, at: /, into: [a, b], surplus: keep_in_last`, "x/y/z,PH,1\n", "x/y/z,PH,1,x,y/z\n", "2 0 0"},
	)
	stopped(t, "x/y/z,PH,1\n", map[string]string{
		`do: split_into_columns, column: sample, at: /, into: [a, b]`: `more parts than the 2 columns of "into"`})
	refused(t, map[string]string{
		`do: split_into_columns, column: sample, at: /, into: [a, value]`:      `there is a column "value" already`,
		`do: split_into_columns, column: sample, into: [a]`:                    `either "at" or "pattern"`,
		`do: split_into_columns, column: sample, pattern: '(.)', into: [a, b]`: `it has 1 group, and "into" names 2 columns`,
	})
}

func TestSplitIntoRows(t *testing.T) {
	try(t,
		trial{"a measure is kept once", `do: split_into_rows, column: parameter, at: +, measures: {value: kept_once}`, "S1,PH+NO3,5\nS2,PH,1\n",
			"S1,PH,5\nS1,NO3,\nS2,PH,1\n", "0 0 0: 1 row becomes several."},
		trial{"a measure is shared, to the last digit", `do: split_into_rows, column: sample, at: ' ', measures: {value: shared}`, "a b c,PH,10\n",
			"a,PH,3.333333\nb,PH,3.333333\nc,PH,3.333334\n", "0 0 0: 1 row becomes several."},
		trial{"a measure is left out", `do: split_into_rows, column: parameter, at: +, measures: {value: blank}`, "S1,PH+NO3,5\n", "S1,PH,\nS1,NO3,\n",
			"0 0 -5: 1 row becomes several."},
	)
	refused(t, map[string]string{
		`do: split_into_rows, column: parameter, at: +`:                                           `what becomes of the measure "value"`,
		`do: split_into_rows, column: parameter, at: +, measures: {value: twice}`:                 `"twice" is not what can become of a measure`,
		`do: split_into_rows, column: parameter, at: '', measures: {value: blank}`:                `is not an empty text`,
		`do: split_into_rows, column: parameter, at: +, measures: {sample: shared, value: blank}`: `no numbers`,
	})
}

func TestPutTogether(t *testing.T) {
	tryOn(t, book, "sample,parameter,value\n", "sample,parameter,value,both\n",
		trial{"", `do: put_together, columns: [sample, parameter], with: '-', into: both`, "S1,PH,1\n,PH,2\nS3,n/a,3\n", "S1,PH,1,S1-PH\n,PH,2,PH\nS3,n/a,3,S3\n", "3 0 0"})
	refused(t, map[string]string{`do: put_together, columns: [sample], with: '', into: ' x'`: `" x" is no name of a column`})
}

package steps_test

import "testing"

const readings = `dataset: samples
reading: {decimal_mark: ",", dates: dd/MM/yyyy, delimiter: ";"}
columns:
  - {name: site}
  - {name: day, type: date}
  - {name: value, type: decimal}
  - {name: other, type: decimal}
measures: [value]
pass_mark: 0
`

func TestFill(t *testing.T) {
	try(t,
		trial{"a text", `do: fill, columns: [parameter, value], with: '0'`, "S1,,\nS2,PH,n/a\nS3,PH,7\n", "S1,0,0\nS2,PH,0\nS3,PH,7\n", "3 0 0"},
		trial{"a text under a condition", `do: fill, columns: [value], with: '1', where: parameter = 'PH'`, "S1,PH,\nS2,NO3,\n", "S1,PH,1\nS2,NO3,\n", "1 0 1"},
		trial{"from a column", `do: fill, columns: [sample], from_column: parameter`, ",PH,1\n,,2\nS3,NO3,3\n", "PH,PH,1\n,,2\nS3,NO3,3\n",
			"1 0 0: 1 cell stays empty, since there is nothing to put in."},
		trial{"what is worked out", `do: fill, columns: [value], expression: LENGTH(sample) * 2`, "S12,PH,\nS1,PH,1\n", "S12,PH,6\nS1,PH,1\n", "1 0 6"},
	)
	const head = "site;day;value;other\n"
	tryOn(t, readings, head, "site,day,value,other\n",
		trial{"a number of another reading", `do: fill, columns: [value], expression: other / 4`, "a;;;5\n", "a,,\"1,25\",5\n", "1 0 1.25"},
		trial{"from the row before, in the order of dates", `do: fill, columns: [value], from: row_before, group: [site], order: [day]`,
			"a;03/01/2024;;\nb;02/01/2024;;\na;01/01/2024;1,5;\na;02/02/2023;;\na;02/01/2024;;\na;;;\n",
			"a,03/01/2024,\"1,5\",\nb,02/01/2024,,\na,01/01/2024,\"1,5\",\na,02/02/2023,,\na,02/01/2024,\"1,5\",\na,,,\n",
			"2 0 3: 2 cells stay empty, since there is nothing to put in. 1 row has no place in the order and was left aside."},
		trial{"one gap at the most", `do: fill, columns: [value], from: row_after, order: [day], limit: 1`, "a;01/01/2024;;\nb;02/01/2024;;\nc;03/01/2024;4;\n",
			"a,01/01/2024,,\nb,02/01/2024,4,\nc,03/01/2024,4,\n", "1 0 4: 1 cell stays empty, since there is nothing to put in."},
		trial{"rows that share their place", `do: fill, columns: [value], from: row_before, order: [day]`, "a;01/01/2024;1;\nb;01/01/2024;2;\nc;02/01/2024;;\n",
			"a,01/01/2024,1,\nb,01/01/2024,2,\nc,02/01/2024,2,\n",
			"1 0 2: 1 gap was filled from a row whose place in the order another row shares; of these the last in the file counts as nearest."},
	)
	refused(t, map[string]string{
		`do: fill, columns: [value]`:                               `has one of "with"`,
		`do: fill, columns: [value], with: x, from_column: sample`: `has one of "with"`,
		`do: fill, columns: [value], from_column: sample`:          `its values are of type text, and those of "value" of type decimal`,
		`do: fill, columns: [value], expression: UPPER(sample)`:    `it makes a text, and the values of "value" are of type decimal`,
		`do: fill, columns: [value], from: row_before`:             `is said by "order"`,
		`do: fill, columns: [value], with: x, limit: 2`:            `"limit" goes with from: row_before`,
	})
}

func TestConvert(t *testing.T) {
	try(t,
		trial{"every number by a factor", `do: convert, columns: [value], from: unit, times: 0.001`, "S1,PH,310\nS2,PH,\nS3,PH,few\n", "S1,PH,0.310\nS2,PH,\nS3,PH,few\n",
			"1 0 -309.69: 1 text is not written so and stays as it is."},
		trial{"those with a unit", `do: convert, columns: [value], from: unit, unit: ug/L, times: 0.001`, "S1,PH,310 ug/L\nS2,PH,0.5\n", "S1,PH,0.310\nS2,PH,0.5\n", "1 0 0.31"},
		trial{"degrees", `do: convert, columns: [value], from: unit, unit: F, times: 0.5, plus: -16`, "S1,PH,50F\n", "S1,PH,9.0\n", "1 0 9"},
		trial{"percent", `do: convert, columns: [value], from: percent`, "S1,PH,12.5 %\nS2,PH,3\n", "S1,PH,0.125\nS2,PH,3\n", "1 0 0.125"},
		trial{"a currency", `do: convert, columns: [value], from: currency, unit: kr`, "S1,PH,312.4 kr\nS2,PH,kr 5\n", "S1,PH,312.4\nS2,PH,5\n", "2 0 317.4"},
		trial{"brackets", `do: convert, columns: [value], from: brackets`, "S1,PH,(5.2)\nS2,PH,5.2\n", "S1,PH,-5.2\nS2,PH,5.2\n", "1 0 -5.2"},
	)
	tryOn(t, readings, "site;day;value;other\n", "site,day,value,other\n",
		trial{"day numbers", `do: convert, columns: [day], from: day_number`, "a;45443;;\nb;31/05/2024;;\n", "a,31/05/2024,,\nb,31/05/2024,,\n", "1 0 0"},
		trial{"a pattern", `do: convert, columns: [day], from: pattern, pattern: yyyyMMdd`, "a;20240531;;\nb;20241331;;\n", "a,31/05/2024,,\nb,20241331,,\n",
			"1 0 0: 1 text is not written so and stays as it is."},
		trial{"a factor with a comma", `do: convert, columns: [value], from: unit, times: 10`, "a;;1,55;\n", "a,,\"15,50\",\n", "1 0 13.95"},
	)
	refused(t, map[string]string{
		`do: convert, columns: [value], from: unit`:              `"times", "plus" or "unit"`,
		`do: convert, columns: [value], from: currency`:          `needs "unit"`,
		`do: convert, columns: [value], from: pattern`:           `needs "pattern"`,
		`do: convert, columns: [value], from: day_number`:        `its values are of type decimal`,
		`do: convert, columns: [value], from: unit, times: many`: `times is a number`,
		`do: convert, columns: [value], from: percent, times: 2`: `"times" goes with from: unit`,
	})
}

func TestRound(t *testing.T) {
	try(t,
		trial{"half away from zero", `do: round, columns: [value], decimals: 1`, "S1,PH,2.25\nS2,PH,-2.25\nS3,PH,7\nS4,PH,7.100\nS5,PH,x\n", "S1,PH,2.3\nS2,PH,-2.3\nS3,PH,7\nS4,PH,7.1\nS5,PH,x\n",
			"3 0 0: 2 numbers lose digits that were not zero."},
		trial{"to hundreds", `do: round, columns: [value], decimals: -2`, "S1,PH,1250\n", "S1,PH,1300\n", "1 0 50: 1 number loses digits that were not zero."},
	)
	refused(t, map[string]string{`do: round, columns: [sample], decimals: 1`: `the values of "sample" are of type text; this is for numbers`})
}

func TestSetValuesAndDerive(t *testing.T) {
	try(t,
		trial{"under a condition", `do: set_values, columns: [value], expression: value / 10, where: parameter = 'PH' AND value > 14`, "S1,PH,74\nS2,NO3,74\n",
			"S1,PH,7.4\nS2,NO3,74\n", "1 0 -66.6"},
		trial{"where nothing can be worked out", `do: set_values, columns: [value], expression: value + 1`, "S1,PH,1\nS2,PH,few\n", "S1,PH,2\nS2,PH,\n",
			"2 0 1: 1 row has nothing that it could be worked out of."},
	)
	tryOn(t, book, "sample,parameter,value\n", "sample,parameter,value,twice\n",
		trial{"a new column", `do: derive, into: twice, expression: value * 2`, "S1,PH,1.5\nS2,PH,\n", "S1,PH,1.5,3\nS2,PH,,\n",
			"1 0 0: 1 row has nothing that it could be worked out of."},
		trial{"of some rows", `do: derive, into: twice, expression: "value > 1", where: parameter = 'PH'`, "S1,PH,1.5\nS2,NO3,2\n", "S1,PH,1.5,true\nS2,NO3,2,\n", "1 0 0"},
	)
	refused(t, map[string]string{
		`do: set_values, columns: [value], expression: sample`: `it makes a text, and the values of "value" are of type decimal`,
		`do: derive, into: value, expression: value`:           `there is a column "value" already`,
		`do: derive, into: x, expression: vale * 2`:            `in the expression: there is no column "vale"`,
	})
}

func TestSetAsideTellsTextsThatAreNoValues(t *testing.T) {
	try(t,
		trial{"both are NULL", `do: set_aside, where: value IS NULL`, "S1,PH,\nS2,PH,312.4 kr\nS3,PH,3\n", "S3,PH,3\n",
			"0 2 0: In 1 row, value is a text that is no value of its type, and in 1 nothing is there."},
		trial{"nothing there", `do: set_aside, where: value IS MISSING`, "S1,PH,n/a\nS2,PH,312.4 kr\n", "S2,PH,312.4 kr\n", "0 1 0"},
		trial{"no value of its type", `do: set_aside, where: value IS MISTYPED`, "S1,PH,\nS2,PH,312.4 kr\n", "S1,PH,\n",
			"0 1 0: In 1 row, value is a text that is no value of its type, and in 0 nothing is there."},
	)
}

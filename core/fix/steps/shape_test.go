package steps_test

import (
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/testkit"
)

func TestColumnsGetOtherNamesAndPlaces(t *testing.T) {
	const head = "sample,parameter,value\n"
	tryOn(t, book, head, "name,parameter,value\n", trial{"renamed", `do: rename_columns, names: {sample: name}`, "S1,PH,1\n", "S1,PH,1\n", "0 0 0"})
	tryOn(t, book, head, "parameter,sample,value\n", trial{"two names change places", `do: rename_columns, names: {sample: parameter, parameter: sample}`, "S1,PH,1\n", "S1,PH,1\n", "0 0 0"})
	tryOn(t, book, head, "sample\n", trial{"left out, with what they summed up to", `do: drop_columns, columns: [value, parameter]`, "S1,PH,1.5\n", "S1\n", "0 0 -1.5"})
	tryOn(t, book, head, "parameter,value,sample\n", trial{"to the end", `do: move_columns, columns: [sample]`, "S1,PH,1\n", "PH,1,S1\n", "0 0 0"})
	tryOn(t, book, head, "value,sample,parameter\n", trial{"before another", `do: move_columns, columns: [value], before: sample`, "S1,PH,1\n", "1,S1,PH\n", "0 0 0"})
	tryOn(t, book, head, "sample,value,parameter\n", trial{"after another", `do: move_columns, columns: [value], after: sample`, "S1,PH,1\n", "S1,1,PH\n", "0 0 0"})
	refused(t, map[string]string{
		`do: rename_columns, names: {sample: value}`:                           `two columns would be called "value" then`,
		`do: rename_columns, names: {sampel: x}`:                               `there is no column "sampel"`,
		`do: drop_columns, columns: [sample, parameter, value]`:                `none would be left`,
		`do: move_columns, columns: [sample], before: sample`:                  `"sample" moves itself`,
		`do: move_columns, columns: [sample], before: value, after: parameter`: `not both`,
	})
}

// Steps find the columns that those before them left.
func TestStepsFindTheColumnsOfTheStepsBefore(t *testing.T) {
	got := played(t, book, "sample,parameter,value\nS1,PH,1\n",
		"do: rename_columns, names: {sample: name}, reason: r}\n  - {do: trim, columns: [name], reason: r}\n  - {do: derive, into: twice, expression: value * 2, reason: r}\n  - {do: round, columns: [twice], decimals: 0")
	if got.Table != "name,parameter,value,twice\nS1,PH,1,2\n" {
		t.Errorf("%q", got.Table)
	}
	refused(t, map[string]string{"do: rename_columns, names: {sample: name}, reason: r}\n  - {do: trim, columns: [sample]": `line 5, column 26: there is no column "sample"`})
}

func TestSortRows(t *testing.T) {
	try(t,
		trial{"numbers by value, what is no value last", `do: sort_rows, order: [value]`, "a,PH,10\nb,PH,\nc,PH,9.5\nd,PH,x\ne,NO3,10.0\n", "c,PH,9.5\na,PH,10\ne,NO3,10.0\nd,PH,x\nb,PH,\n", "0 0 0"},
		trial{"by two columns, one descending", `do: sort_rows, order: [parameter, value], descending: [value]`, "a,PH,1\nb,NO3,1\nc,PH,2\nd,PH,\n", "b,NO3,1\nc,PH,2\na,PH,1\nd,PH,\n", "0 0 0"},
	)
	refused(t, map[string]string{`do: sort_rows, order: [value], descending: [sample]`: `"sample" is not among the columns of "order"`})
}

const wide = `dataset: samples
columns:
  - {name: station}
  - {name: mon, type: decimal}
  - {name: tue, type: decimal}
pass_mark: 0
`

const long = `dataset: levels
columns:
  - {name: station}
  - {name: day, type: date}
  - {name: value, type: decimal}
measures: [value]
pass_mark: 0
`

func TestColumnsToRows(t *testing.T) {
	for _, c := range []struct{ content, step, want, note string }{
		{"station,mon,tue\nA,1,2\nB,,4\n", `columns: [mon, tue], names_to: day, values_to: value`, "A,mon,1\nA,tue,2\nB,mon,\nB,tue,4\n", ""},
		{"station,mon,tue\nA,1,2\nB,,4\n", `columns: [mon, tue], names_to: day, values_to: value, gaps: leave_out`, "A,mon,1\nA,tue,2\nB,tue,4\n", "1 empty cell was left out."},
		{"31/05/2024,station,01/06/2024\n3,A,4\n", `heading_dates: dd/MM/yyyy, names_to: day, values_to: value`, "A,2024-05-31,3\nA,2024-06-01,4\n", ""},
	} {
		b, result := testkit.Book(t, wide), testkit.Book(t, long)
		plan := fixtest.Plan(t, b, "  - {do: columns_to_rows, "+c.step+", reason: r}\n")
		got, err := fixtest.PlayInput(t, fix.Input{Source: testkit.File(t, c.content, b.Reading), Book: b, Result: result}, plan, 2)
		if err != nil {
			t.Fatal(err)
		}
		if s := got.Ledger.Steps[0]; got.Table != "station,day,value\n"+c.want || s.Sums["value"] != "7" || s.Note != c.note {
			t.Errorf("%q, %+v", got.Table, s)
		}
	}
	refused(t, map[string]string{
		`do: columns_to_rows, columns: [parameter, value], names_to: a, values_to: b`: `are read in different ways (code and decimal)`,
		`do: columns_to_rows, columns: [value], names_to: sample, values_to: b`:       `there is a column "sample" already`,
		`do: columns_to_rows, names_to: a, values_to: b`:                              `either "columns" or "heading_dates"`,
		`do: columns_to_rows, heading_dates: qq, names_to: a, values_to: b`:           `date pattern "qq"`,
	})
}

func TestRowsToColumns(t *testing.T) {
	tryOn(t, book, "sample,parameter,value\n", "sample,PH,NO3\n",
		trial{"by the code list, in the order of the file", `do: rows_to_columns, key: [sample], names_from: parameter, values_from: value`,
			"S2,PH,7\nS1,NO3,4\nS2,NO3,3\nS2,Acidity,7.0\n", "S2,7,3\nS1,,4\n", "0 0 -21"})
	stopped(t, "S1,PH,7\nS1,PH,8\nS2,XX,1\n", map[string]string{
		`do: rows_to_columns, key: [sample], names_from: parameter, values_from: value`: `with different values`,
	})
	stopped(t, "S2,XX,1\n", map[string]string{
		`do: rows_to_columns, key: [sample], names_from: parameter, values_from: value`: `these are not among the names that become columns`,
	})
	refused(t, map[string]string{
		`do: rows_to_columns, key: [parameter], names_from: sample, values_from: value`:                  `"sample" has no code list`,
		`do: rows_to_columns, key: [], names_from: parameter, values_from: value`:                        `the column "sample" is neither of the key nor turned`,
		`do: rows_to_columns, key: [sample], names_from: parameter, values_from: value, names: [sample]`: `there is a column "sample" already`,
	})
}

const hourly = `dataset: samples
columns:
  - {name: station}
  - {name: at, type: datetime}
  - {name: value, type: decimal}
  - {name: rain, type: boolean}
measures: [value]
pass_mark: 0
`

func TestChangeGrain(t *testing.T) {
	rows := "B,2024-05-31 10:00,1,true\nA,2024-05-31 11:00,2,true\nB,2024-05-31 23:59,2,false\nB,2024-06-01 00:00,4,\nA,2024-05-31 01:00,,false\nA,2024-05-31 05:00,few,true\n"
	tryOn(t, hourly, "station,at,value,rain\n", "station,at,value,n\n",
		trial{"a mean by day", `do: change_grain, group: [station], time: at, period: day, gather: {value: mean}, rows_into: n`, rows,
			"A,2024-05-31 00:00:00,2,3\nB,2024-05-31 00:00:00,1.5,2\nB,2024-06-01 00:00:00,4,1\n",
			"0 0 -1.5: Left out: rain. 1 text that is no value of its type was not gathered."})
	tryOn(t, hourly, "station,at,value,rain\n", "station,value,rain,n\n",
		trial{"sum and share", `do: change_grain, group: [station], gather: {value: sum, rain: share_true}, decimals: 2, rows_into: n`, rows,
			"A,2,0.67,3\nB,7,0.50,3\n", "0 0 0: Left out: at. 1 text that is no value of its type was not gathered."})
	for how, want := range map[string]string{"count": "A,1,3\nB,3,3\n", "first": "A,2,3\nB,1,3\n", "last": "A,2,3\nB,4,3\n", "least": "A,2,3\nB,1,3\n", "largest": "A,2,3\nB,4,3\n"} {
		got := played(t, hourly, "station,at,value,rain\n"+rows, `do: change_grain, group: [station], gather: {value: `+how+`}, rows_into: n`)
		if got.Table != "station,value,n\n"+want {
			t.Errorf("%s: %q", how, got.Table)
		}
	}
	refused(t, map[string]string{
		`do: change_grain, group: [parameter], gather: {value: median}, rows_into: n`:                         `"median" is not what can become of a column`,
		`do: change_grain, gather: {value: sum}, rows_into: n`:                                                `has "group", or "time" and "period"`,
		`do: change_grain, group: [parameter], time: sample, period: day, gather: {value: sum}, rows_into: n`: `periods are of dates and datetimes`,
		`do: change_grain, group: [parameter], gather: {sample: sum}, rows_into: n`:                           `this is for numbers`,
		`do: change_grain, group: [value], gather: {value: sum}, rows_into: n`:                                `there is a column "value" already`,
	})
}

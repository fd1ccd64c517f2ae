package audit_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// kindOfRule is a kind of rule with a table for which it holds, one that breaks it in the rows
// given, one with missing values, and a declaration that is refused.
type kindOfRule struct {
	name           string
	columns, rules string // of the rulebook
	rule           string // its id
	holds          string
	broken         string
	rows           []uint32
	says           string // among what was found
	missing        string
	missingRows    []uint32
	wrong          string // in place of columns and rules
	message        string
}

const parameters = "code_lists:\n  params: [PH, {code: NO3, spellings: [Nitrate]}, {code: OLD, ended: true}]\n"

var kindsOfRules = []kindOfRule{
	{"required", "  - {name: k, required: true}\n", "", "k.required", "k\na\nb\n", "k\na\n\"\"\n", []uint32{2},
		"1 of 2 rows has nothing in k", "k\na\n\" \"\n", []uint32{2},
		"  - {name: k, required: perhaps}\n", `required is true or false, not "perhaps"`},
	{"a share filled", "  - {name: k, filled: 75}\n  - {name: n}\n", "", "k.filled", "k,n\na,\nb,\nc,\n,\n",
		"k,n\na,\n,\nb,\n,\n", []uint32{2, 4}, "2 of 4 rows have nothing in k; at least 75 % must have a value",
		"k,n\n,\n,\n", []uint32{1, 2},
		"  - {name: k, filled: 101}\n", `filled is a percentage from 0 to 100, not "101"`},
	{"a type", "  - {name: n, type: decimal}\n", "", "n.type", "n\n1\n2.50\n", "n\n1\nx\n", []uint32{2},
		"something in n that is no decimal", "n\n1\n\"\"\n", nil,
		"  - {name: n, type: number}\n", `"number" is not a type`},
	{"a range", "  - {name: n, type: decimal, from: 0, to: 9}\n", "", "n.range", "n\n0\n9.0\n", "n\n-0.1\n9\n9.01\n",
		[]uint32{1, 3}, "a value out of range in n", "n\n1\n\"\"\n", nil,
		"  - {name: n, type: decimal, from: 9, to: 0}\n", "ends before it starts"},
	{"a length", "  - {name: k, shortest: 2, longest: 4}\n", "", "k.length", "k\nab\ngröß\n ab \n",
		"k\na\nabcde\nabc\n", []uint32{1, 2}, "a text in k that is too short or too long", "k\nab\n\"\"\n", nil,
		"  - {name: k, shortest: 5, longest: 4}\n", "would be shorter than its shortest"},
	{"a pattern", "  - {name: k, pattern: \"[A-Z]-[0-9]+\"}\n", "", "k.pattern", "k\nA-1\nB-22\n",
		"k\nA-1\nxA-1\nA-1x\n", []uint32{2, 3}, "a text of another form in k", "k\nA-1\n\"\"\n", nil,
		"  - {name: k, pattern: \"[A-\"}\n", "the pattern cannot be read"},
	{"decimals", "  - {name: n, type: decimal, decimals: 2}\n", "", "n.decimals", "n\n1\n1.5\n1.50\n",
		"n\n1.505\n1.50\n-0.001\n", []uint32{1, 3}, "too many digits after the point in n", "n\n1.5\n\"\"\n", nil,
		"  - {name: n, decimals: 2}\n", `decimals is for columns of type decimal, and "n" is of type text`},
	{"codes", "  - {name: k, type: code, codes: params}\n", parameters, "k.codes", "k\nPH\nNO3\n",
		"k\nPH\nXX\nnitrate\n", []uint32{2}, "something in k that is no code of its list", "k\nPH\n\"\"\n", nil,
		"  - {name: k, type: code, codes: parms}\n" + parameters,
		`there is no code list "parms"; did you mean "params"?`},
	{"spellings", "  - {name: k, type: code, codes: params}\n", parameters, "k.spelling", "k\nPH\nXX\n",
		"k\nph\nPH\n Nitrate\n", []uint32{1, 3}, "another spelling of a code in k", "k\nPH\n\"\"\n", nil,
		"  - {name: k, type: code, codes: params}\ncode_lists:\n  params: [PH, ph]\n",
		`"ph" already stands for the code "PH"`},
	{"codes that ended", "  - {name: k, type: code, codes: params}\n", parameters, "k.ended", "k\nPH\n",
		"k\nPH\nOLD\nold\n", []uint32{2, 3}, "a code in k that has ended", "k\nPH\n\"\"\n", nil,
		"  - {name: k, type: code, codes: params}\ncode_lists:\n  params: [{code: OLD, ended: true, must_occur: true}]\n", `the code "OLD" has ended, so it cannot have to occur`},
	{"codes that must occur", "  - {name: k, type: code, codes: params}\n",
		"code_lists:\n  params: {codes: [PH, NO3, {code: OLD, ended: true}], all_occur: true}\n", "k.occurs",
		"k\nPH\nno3\n", "k\nPH\nPH\n", nil, "1 of 2 codes that must occur in k does not: NO3", "k\nNO3\n\"\"\n", nil,
		"  - {name: k, type: code, codes: params}\ncode_lists:\n  params: {all_occur: true}\n",
		"has neither codes nor a dataset to take them from"},
	{"parents", "  - {name: k, type: code, codes: places, parent_in: r}\n  - {name: r}\n",
		"code_lists:\n  places: [{code: A, parent: north}, {code: B, parent: south}, C]\n", "k.parent",
		"k,r\nA,north\nC,west\n", "k,r\nA,south\nb,north\nB,south\n", []uint32{1, 2},
		"a k beside another r than its own", "k,r\nA,\n,north\n", nil,
		"  - {name: k, parent_in: r}\n  - {name: r}\n",
		`parent_in is for columns of type code, and "k" is of type text`},
	{"a key", "  - {name: k}\n  - {name: n}\n", "keys:\n  - {id: one, columns: [k, n]}\n", "one", "k,n\na,1\na,2\n",
		"k,n\na,1\nb,1\na,1\na,1\n", []uint32{3, 4},
		"2 of 4 rows are surplus: 1 value of k and n occurs more than once", "k,n\na,\na,\n", nil,
		"  - {name: k}\nkeys:\n  - {id: one, columns: []}\n", "a key is of one column at least"},
	{"a key with parts that may lack", "  - {name: k}\n", "keys:\n  - {id: one, columns: [k], may_lack_parts: true}\n",
		"one", "k\na\nb\n", "k\na\na\n", []uint32{2}, "1 of 2 rows is surplus", "k\na\n\"\"\n\"\"\n", nil,
		"  - {name: k}\nkeys:\n  - {id: one, columns: [k], may_lack_parts: 2}\n",
		`may_lack_parts is true or false, not "2"`},
	{"equal rows", "  - {name: k}\n", "equal_rows: {}\n", "equal_rows", "k,n\na,1\na,2\n", "k,n\na,1\na,1\n",
		[]uint32{2}, "1 of 2 rows repeats an earlier row in every cell", "k,n\na,\na,\n", []uint32{2},
		"  - {name: k}\nequal_rows: {columns: [k]}\n", `equal_rows has no "columns"`},
	{"a condition", "  - {name: n, type: decimal}\n  - {name: m, type: decimal}\n",
		"rules:\n  - {id: less, condition: n <= m}\n", "less", "n,m\n1,1\n1,2\n", "n,m\n2,1\n1,1\n3,1\n",
		[]uint32{1, 3}, "2 of 3 rows break the rule n <= m", "n,m\n1,\n,1\n2,1\n", []uint32{3},
		"  - {name: n, type: decimal}\nrules:\n  - {id: less, condition: n <= mm}\n", `there is no column "mm"`},
	{"a condition that applies at times", "  - {name: k}\n  - {name: n, type: decimal}\n",
		"rules:\n  - {id: less, when: k = 'a', condition: n < 5}\n", "less", "k,n\na,4\nb,9\n", "k,n\na,9\nb,9\na,5\n",
		[]uint32{1, 3}, "2 of 3 rows break the rule n < 5", "k,n\n,9\na,\na,9\n", []uint32{3},
		"  - {name: k}\n  - {name: n, type: decimal}\nrules:\n  - {id: less, when: k, condition: n < 5}\n",
		"the condition is a text, not true or false"},
	{"a tolerance", "  - {name: n, type: decimal}\n  - {name: m, type: decimal}\n",
		"rules:\n  - {id: same, condition: n = m, tolerance: 0.05}\n", "same", "n,m\n1,1.05\n1,0.95\n",
		"n,m\n1,1.051\n1,1\n1,0.9\n", []uint32{1, 3}, "break the rule n = m", "n,m\n,1\n1,2\n", []uint32{2},
		"  - {name: n, type: decimal}\nrules:\n  - {id: same, condition: n > 1 AND n < 2, tolerance: 1}\n",
		"a tolerance goes with a single comparison"},
	{"a share that may break a condition", "  - {name: n, type: decimal}\n",
		"rules:\n  - {id: less, condition: n < 5, may_break: 50}\n", "less", "n\n4\n9\n", "n\n9\n9\n4\n",
		[]uint32{1, 2}, "2 of 3 rows break", "n\n\"\"\n\"\"\n9\n", nil,
		"  - {name: n, type: decimal}\nrules:\n  - {id: less, condition: n < 5, may_break: half}\n",
		`may_break is a percentage from 0 to 100, not "half"`},
	{"the number of rows", "  - {name: k}\n", "table_rules:\n  - {id: enough, check: row_count, from: 2, to: 3}\n",
		"enough", "k\na\nb\n", "k\na\n", nil, "The table has 1 row; at least 2 must be there.", "k\n\"\"\n\"\"\n", nil,
		"  - {name: k}\ntable_rules:\n  - {id: enough, check: row_count}\n", `row_count needs "from" or "to"`},
	{"parts that sum to a total", "  - {name: k}\n  - {name: n, type: decimal}\n  - {name: y}\n",
		"table_rules:\n  - {id: whole, check: parts_sum, of: n, total: k = 'all', per: [y], tolerance: 0.1}\n", "whole",
		"k,n,y\na,1,2023\nb,2.1,2023\nall,3,2023\na,7,2024\n", "k,n,y\na,1,2023\nall,3,2023\na,1,2024\nall,1,2024\n",
		[]uint32{1, 2}, "1 of 2 sums of n does not agree; 2023: the parts sum to 1 and the total is 3",
		"k,n,y\na,,2023\nall,,2023\n,5,2023\n", nil,
		"  - {name: k}\ntable_rules:\n  - {id: whole, check: parts_sum, of: k, total: k = 'all'}\n",
		`"k" is of type text; only numbers are summed`},
	{"a series of dates", "  - {name: k}\n  - {name: d, type: date}\n",
		"table_rules:\n  - {id: daily, check: no_gaps, in: d, step: day, per: [k]}\n", "daily",
		"k,d\na,2024-02-28\na,2024-02-29\na,2024-03-01\nb,2024-05-01\n",
		"k,d\na,2024-02-28\na,2024-03-01\nb,2024-01-01\na,2024-03-01\nb,2024-01-04\n", []uint32{2, 5},
		"There are 2 gaps in the series of d, with 3 days left out; the first one is a: after 2024-02-28",
		"k,d\na,\na,2024-01-01\n", nil,
		"  - {name: k}\n  - {name: d, type: date}\ntable_rules:\n  - {id: daily, check: no_gaps, in: d, step: 2}\n",
		`"d" is of type date, so that its step is day, week, month, quarter or year`},
	{"a series of months", "  - {name: d, type: date}\n",
		"table_rules:\n  - {id: monthly, check: no_gaps, in: d, step: month}\n", "monthly",
		"d\n2023-12-31\n2024-01-01\n2024-02-15\n", "d\n2023-11-30\n2024-01-01\n", []uint32{2},
		"1 month left out; the first one is after 2023-11", "d\n\"\"\n", nil,
		"  - {name: d}\ntable_rules:\n  - {id: monthly, check: no_gaps, in: d, step: month}\n",
		`"d" is of type text; a series is of dates or whole numbers`},
	{"a series of numbers", "  - {name: n, type: integer}\n",
		"table_rules:\n  - {id: counted, check: no_gaps, in: n, step: 5}\n", "counted", "n\n10\n0\n5\n",
		"n\n0\n20\n5\n", []uint32{2}, "2 numbers left out; the first one is after 5", "n\n\"\"\n", nil,
		"  - {name: n, type: integer}\ntable_rules:\n  - {id: counted, check: no_gaps, in: n, step: 0}\n",
		"a step is 1 or more"},
	{"order", "  - {name: k}\n  - {name: n, type: decimal}\n",
		"table_rules:\n  - {id: sorted, check: in_order, in: n, per: [k]}\n", "sorted", "k,n\na,1\nb,0\na,1.0\na,2\n",
		"k,n\na,2\nb,9\na,1\nb,10\n", []uint32{3}, "1 of 4 rows has a n below the one before", "k,n\na,2\na,\na,1\n",
		[]uint32{3},
		"  - {name: k}\ntable_rules:\n  - {id: sorted, check: in_order, of: k, in: k}\n",
		`in_order has no "of"; it takes in and per`},
	{"coverage", "  - {name: k}\n",
		"table_rules:\n  - {id: all_there, check: covers, in: k, with: {dataset: stations, columns: [id]}}\n",
		"all_there", "k\nS1\nS2\nS9\n", "k\nS2\n", nil, "1 of 2 values of id of stations does not occur in k: S1",
		"k\nS1\n\"\"\nS2\n", nil,
		"  - {name: k}\ntable_rules:\n  - {id: all_there, check: covers, in: k, with: {dataset: stations, columns: [id, name]}}\n", "covers looks for the values of one column"},
	{"totals that match", "  - {name: k}\n  - {name: n, type: decimal}\n",
		"table_rules:\n  - {id: as_there, check: totals_match, of: n, per: [k], with: {dataset: stations, columns: [id, visits]}}\n", "as_there", "k,n\nS1,1\nS1,2\nS2,4\n", "k,n\nS1,3\nS2,5\nS3,1\n", []uint32{2, 3}, "2 of 3 sums of n do not agree; S2: the sum is 5 here and 4 there", "k,n\nS1,\nS1,3\nS2,4\n", nil,
		"  - {name: k}\n  - {name: n, type: decimal}\ntable_rules:\n  - {id: as_there, check: totals_match, of: n, per: [k], with: {dataset: stations, columns: [visits]}}\n", `totals_match wants the other dataset's columns for each of "per"`},
	{"a reference", "  - {name: k}\n",
		"references:\n  - {id: known, columns: [k], to: {dataset: stations, columns: [id]}}\n", "known",
		"k\nS1\nS2\nS1\n", "k\nS1\nS3\ns1\n", []uint32{2, 3}, "2 of 3 rows have a k that is no id of stations",
		"k\n\"\"\nS9\n", []uint32{2},
		"  - {name: k}\nreferences:\n  - {id: known, columns: [k], to: {dataset: stations, columns: [id, name]}}\n",
		"a reference pairs its columns with those of the other dataset"},
	{"codes of another dataset", "  - {name: k, type: code, codes: ids}\n",
		"code_lists:\n  ids: {from: {dataset: stations, columns: [id]}}\n", "k.codes", "k\nS1\ns2\n", "k\nS1\nS3\n",
		[]uint32{2}, "no code of its list", "k\n\"\"\nS1\n", nil,
		"  - {name: k, type: code, codes: ids}\ncode_lists:\n  ids: {from: {columns: [id]}}\n",
		`the columns of another dataset needs "dataset"`},
	{"rows as before", "  - {name: k}\n", "history:\n  - {id: steady, check: rows_steady, within: 50, last: 2}\n",
		"steady", "k\na\nb\nc\n", "k\na\n", nil, "The table has 1 row", "k\n\"\"\n\"\"\n\"\"\n", nil,
		"  - {name: k}\nhistory:\n  - {id: steady, check: rows_steady}\n", `rows_steady needs "within"`},
	{"columns as before", "  - {name: k}\n  - {name: n, type: decimal}\n",
		"history:\n  - {id: same, check: same_columns}\n", "same", "k,n,d\na,1,2024-01-01\n", "k,n\na,1\n", nil,
		"The last delivery had d, and this one has not.", "", nil,
		"  - {name: k}\nhistory:\n  - {id: same, check: same_columns, column: k}\n", `same_columns has no "column"`},
	{"no new values", "  - {name: k}\n", "history:\n  - {id: known, check: no_new_values, column: k, last: 2}\n",
		"known", "k\na\nb\n", "k\na\nz\n", nil, "1 value of k was not there before: z", "k\n\"\"\na\n", nil,
		"  - {name: k}\nhistory:\n  - {id: known, check: no_new_values}\n", `no_new_values needs "column"`},
	{"gaps as before", "  - {name: k}\n", "history:\n  - {id: gaps, check: missing_steady, column: k, within: 10}\n",
		"gaps", "k\na\nb\n", "k\na\n\"\"\n", nil, "50.0 % of the rows have no k; before 0.0 % had none", "k\n\"\"\n",
		nil,
		"  - {name: k}\nhistory:\n  - {id: gaps, check: missing_steady, column: k, within: -1}\n",
		`within is a number from 0 to 1000, not "-1"`},
	{"a mean as before", "  - {name: n, type: decimal}\n",
		"history:\n  - {id: mean, check: mean_steady, column: n, within: 10}\n", "mean", "n\n2\n2.1\n", "n\n4\n", nil,
		"The mean of n is 4; before it was 2, which is a change of +100.0 %", "n\n\"\"\n2\n", nil,
		"  - {name: n}\nhistory:\n  - {id: mean, check: mean_steady, column: n, within: 10}\n",
		`"n" is of type text; only numbers have a mean`},
	{"a distribution as before", "  - {name: k}\n",
		"history:\n  - {id: shape, check: shape_steady, column: k, within: 20}\n", "shape", "k\na\nb\nc\n",
		"k\na\na\na\n", nil, "The distribution of k is at a distance of 66.7 % from the last one", "k\na\nb\nc\n\"\"\n",
		nil,
		"  - {name: k}\nhistory:\n  - {id: shape, check: shape_steady, column: k, within: 20, last: 2}\n",
		`shape_steady has no "last"`},
	{"fresh enough", "  - {name: d, type: date}\n",
		"history:\n  - {id: fresh, check: not_older_than, column: d, days: 31}\n", "fresh",
		"d\n2020-01-01\n2024-09-20\n", "d\n2024-09-02\n", nil,
		"The newest d is 2024-09-02, 32 days before the audit; at most 31 are allowed", "d\n\"\"\n2024-10-01\n", nil,
		"  - {name: d}\nhistory:\n  - {id: fresh, check: not_older_than, column: d, days: 31}\n",
		`"d" is of type text; only dates grow old`},
}

const stations = "id,name,visits\nS1,Ford,3\nS2,Weir,4\n"

const stationsBook = "dataset: stations\ncolumns:\n  - {name: id}\n  - {name: name}\n  - {name: visits, type: decimal}\n"

func TestEveryKindOfRule(t *testing.T) {
	for _, k := range kindsOfRules {
		t.Run(k.name, func(t *testing.T) {
			book := testkit.Book(t, "dataset: d\ncolumns:\n"+k.columns+k.rules)
			book.Beside = audittest.Beside(t, map[string]string{"stations": stations},
				map[string]string{"stations": stationsBook}, "k,n,d\na,1,2024-01-01\nb,2,2024-01-02\nc,3,2024-01-03\n",
				"k,n,d\na,1,2024-01-01\nb,2,2024-01-02\nc,3,2024-01-03\n")
			judge := func(content string) *audit.Finding {
				t.Helper()
				r, err := audit.Run(context.Background(), testkit.File(t, content, book.Reading), book, 2)
				if err != nil {
					t.Fatal(err)
				}
				for _, j := range r.Rules {
					if j.Rule == k.rule && j.Unjudged != "" {
						t.Errorf("it was not judged: %s", j.Unjudged)
					}
				}
				for i := range r.Findings {
					if r.Findings[i].Rule == k.rule {
						return &r.Findings[i]
					}
				}
				return nil
			}
			if f := judge(k.holds); f != nil {
				t.Errorf("where it holds: %s", f.Found)
			}
			switch f := judge(k.broken); {
			case f == nil:
				t.Error("where it is broken, nothing is found")
			case !slices.Equal(f.RowSet.ToArray(), k.rows) && len(f.RowSet.ToArray())+len(k.rows) > 0:
				t.Errorf("rows %v break it, want %v", f.RowSet.ToArray(), k.rows)
			case !strings.Contains(f.Found, k.says):
				t.Errorf("it says %q, want %q", f.Found, k.says)
			}
			if k.missing != "" {
				var rows []uint32
				f := judge(k.missing)
				if f != nil {
					rows = f.RowSet.ToArray()
				}
				if !slices.Equal(rows, k.missingRows) && len(rows)+len(k.missingRows) > 0 {
					t.Errorf("with missing values rows %v break it, want %v", rows, k.missingRows)
				}
			}
			_, err := rulebook.Parse([]byte("dataset: d\ncolumns:\n" + k.wrong))
			var problems document.Problems
			if !errors.As(err, &problems) || !strings.Contains(err.Error(), k.message) {
				t.Errorf("declared wrongly: %v, want %q", err, k.message)
			}
		})
	}
}

func TestWhatIsNotAtHandIsNotJudged(t *testing.T) {
	book := "dataset: d\ncolumns:\n  - {name: k, type: code, codes: ids}\n  - {name: n, type: decimal}\ncode_lists:\n  ids: {from: {dataset: stations, columns: [id]}}\n" +
		"references:\n  - {id: known, columns: [k], to: {dataset: stations, columns: [id]}}\nhistory:\n  - {id: steady, check: rows_steady, within: 5}\n"
	r := audittest.Run(t, "k,n\nS9,1\n", book)
	if len(r.Findings) != 0 || r.HasPassed() {
		t.Errorf("passed %t, found %+v", r.HasPassed(), r.Findings)
	}
	why := map[string]string{}
	for _, j := range r.Rules {
		why[j.Rule] = j.Unjudged
	}
	for rule, want := range map[string]string{"k.codes": "the dataset stations, whose codes these are, is not at hand",
		"known": "the dataset stations is not at hand", "steady": "there is no earlier delivery to compare with"} {
		if why[rule] != want {
			t.Errorf("%s is not judged since %q, want %q", rule, why[rule], want)
		}
	}
	if r := audittest.Run(t, "k\na\n",
		"dataset: d\ncolumns: [{name: k}]\nhistory:\n  - {id: steady, check: rows_steady, within: 5}\n"); !r.HasPassed() {
		t.Error("a first delivery does not pass for want of an earlier one")
	}
}

func TestNewCodesAreALeadWhereTheyAreAllowed(t *testing.T) {
	r := audittest.Run(t, "k\nPH\nXX\nXX\nph\n",
		"dataset: d\ncolumns:\n  - {name: k, type: code, codes: params, new_codes: true}\n"+parameters)
	if len(r.Findings) != 1 || r.Findings[0].Rule != "k.spelling" {
		t.Errorf("%+v", r.Findings)
	}
	for _, l := range r.Leads {
		if l.Kind == "new_codes" && l.Rows == 2 &&
			l.Says == "2 cells of k hold a code that is not in its list yet: XX." {
			return
		}
	}
	t.Errorf("no lead: %+v", r.Leads)
}

func TestWeightsAndUndecidedRows(t *testing.T) {
	r := audittest.Run(t, "k,n\n,1\na,\n",
		"dataset: d\ncolumns:\n  - {name: k, required: true, weight: 3}\n  - {name: n, type: decimal, role: dimension}\nrules:\n  - {id: small, condition: n < 5}\n")
	if r.ColumnScore != (3*50.0+100)/4 {
		t.Errorf("the columns score %v", r.ColumnScore)
	}
	for _, j := range r.Rules {
		if j.Rule == "small" && j.Undecided != 1 {
			t.Errorf("%d rows are undecided", j.Undecided)
		}
	}
	if c := audittest.Column(t, r, "n"); c.Role != audit.RoleCategory {
		t.Errorf("n is a %s", c.Role)
	}
}

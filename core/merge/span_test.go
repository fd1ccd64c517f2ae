package merge_test

import (
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

// ranged are samples, and what held for their stations when.
func ranged(t *testing.T, samples, held string) merge.Inputs {
	return merge.Inputs{
		{Dataset: "samples", Source: testkit.File(t, "id,station,taken\n"+samples, intake.Standard()), Book: testkit.Book(t, "dataset: samples\ncolumns: [{name: id}, {name: station}, {name: taken, type: datetime}]\n")},
		{Dataset: "held", Source: testkit.File(t, "station,since,until,level\n"+held, intake.Standard()),
			Book: testkit.Book(t, "dataset: held\ncolumns: [{name: station}, {name: since, type: date}, {name: until, type: date}, {name: level, type: decimal}]\n")}}
}

const betweenJoin = "merge: m\nstack: [samples]\njoin:\n  - {with: held, match: [station], between: {taken: since to until}, take: [level], unmatched: keep, met_at_least: 0}\n"

func TestRowsMeetTheRangeThatTheyLieIn(t *testing.T) {
	const held = "A,2024-01-01,2024-01-31,1\nA,2024-02-01,,2\nB,,2024-01-05,3\nA,x,2024-01-02,9\n"
	text, a, err := stack(t, betweenJoin, ranged(t, "1,A,2024-01-31 23:59\n2,A,2024-02-01 00:00\n3,A,2029-01-01 00:00\n4,A,2023-12-31 23:59\n5,B,1999-01-01 00:00\n6,B,2024-01-06 00:00\n7,C,2024-01-06 00:00\n8,A,\n", held), 2)
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, line := range strings.Split(strings.TrimSpace(text), "\n")[1:] {
		got += line[strings.LastIndex(line, ",")+1:] + ";"
	}
	j := a.Joins[0]
	if got != "1;2;2;;3;;;;" || j.Matched != 4 || j.Outside != 2 || j.Blank != 1 || j.Unplaced != 1 || j.JoinedUnused != 1 || j.Beside != "taken between since to until" {
		t.Errorf("%s, %+v", got, j)
	}
	if j.Misses[0].Key != "A / 2023-12-31 23:59" {
		t.Errorf("%+v", j.Misses)
	}
}

func TestRangesThatOverlapMultiplyOnlyWhereThatIsDeclared(t *testing.T) {
	const held = "A,2024-01-01,2024-01-31,1\nB,2024-01-01,,5\nA,2024-01-31,2024-02-29,2\n"
	in := ranged(t, "1,A,2024-01-31 05:00\n2,A,2024-02-02 00:00\n", held)
	for says, want := range map[string]string{
		"":                                   "rows 1 and 3 of held could both be met (taken between since to until), so rows would be multiplied",
		", repeated: multiply":               "1,A,2024-01-31 05:00,1\n1,A,2024-01-31 05:00,2\n2,A,2024-02-02 00:00,2\n",
		", repeated: latest_row":             "1,A,2024-01-31 05:00,2\n2,A,2024-02-02 00:00,2\n",
		", repeated: least_value, by: level": "1,A,2024-01-31 05:00,1\n2,A,2024-02-02 00:00,2\n",
	} {
		text, a, err := stack(t, strings.Replace(betweenJoin, ", unmatched", says+", unmatched", 1), in, 1)
		switch {
		case says == "" && (err == nil || !strings.Contains(err.Error(), want)):
			t.Errorf("%v, want %s", err, want)
		case says != "" && (err != nil || text != "id,station,taken,level\n"+want):
			t.Errorf("%s: %q, %v", says, text, err)
		case strings.Contains(says, "row,") && a.Joins[0].Chosen != 1:
			t.Errorf("%s: %+v", says, a.Joins[0])
		}
	}
	// The end of the one is the beginning of the other, and is not in the one.
	if _, _, err := stack(t, strings.Replace(betweenJoin, "to until", "to before until", 1), in, 1); err != nil {
		t.Errorf("ranges that do not overlap: %v", err)
	}
}

func TestRowsMeetTheNearestEarlierTime(t *testing.T) {
	const plan = "merge: m\nstack: [samples]\njoin:\n  - {with: held, match: [station], nearest: {taken: since}, within: 2 days, take: [level], unmatched: keep, met_at_least: 0}\n"
	const held = "A,2024-01-05,,5\nA,2024-01-01,,1\nA,2024-01-03,,3\nB,2024-01-01,,9\nA,,,7\n"
	text, a, err := stack(t, plan, ranged(t, "1,A,2024-01-01 00:00\n2,A,2024-01-02 23:59\n3,A,2024-01-07 00:00\n4,A,2024-01-07 00:01\n5,A,2023-12-31 00:00\n6,B,2024-01-02 00:00\n", held), 2)
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, line := range strings.Split(strings.TrimSpace(text), "\n")[1:] {
		got += line[strings.LastIndex(line, ",")+1:] + ";"
	}
	if j := a.Joins[0]; got != "1;1;5;;;9;" || j.Outside != 2 || j.Unplaced != 1 || j.Beside != "taken at or after since, within 2 days" {
		t.Errorf("%s, %+v", got, j)
	}
	_, _, err = stack(t, plan, ranged(t, "1,A,2024-01-01 00:00\n", held+"A,2024-01-03,,4\n"), 1)
	if err == nil || !strings.Contains(err.Error(), "rows 3 and 6 of held could both be met") {
		t.Error(err)
	}
}

func TestMistakesInRanges(t *testing.T) {
	for says, want := range map[string]string{
		"":                                `a join needs "match", "between" or "nearest"`,
		"nearest: {a: b}":                 `needs "within"`,
		"match: [a], within: 2 hours":     `"within" goes with "nearest"`,
		"between: {a: b}":                 "a range is written as valid_from to valid_to",
		"between: {a: b to c, d: e to f}": "names one column of the rows so far",
		"nearest: {a: b}, within: soon":   "within is the longest time between two rows, as 2 hours, not",
		"nearest: {a: b}, within: 1 day, between: {a: b to c}": `"between" or "nearest", not both`,
	} {
		_, err := merge.Parse([]byte("merge: m\nstack: [s]\njoin:\n  - {with: t, take: [x], " + says + "}\n"))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", says, err, want)
		}
	}
	in := ranged(t, "1,A,2024-01-31 05:00\n", "A,2024-01-01,,1\n")
	for says, want := range map[string]string{
		"between: {station: since to until}":       "station of the table so far is a text, and since of held is a date",
		"nearest: {station: since}, within: 1 day": "the nearest is looked for among dates and datetimes",
		"between: {taken: sinc to until}":          `held has no column "sinc"; did you mean "since"?`,
	} {
		_, _, err := stack(t, "merge: m\nstack: [samples]\njoin:\n  - {with: held, take: [level], "+says+"}\n", in, 1)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", says, err, want)
		}
	}
}

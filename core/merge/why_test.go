package merge_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
)

// joinOf is one of rows with a key k, and of a table with a key c, by books that say of what type the keys are.
func joinOf(t *testing.T, leftType, rightType, left, right string) map[string]merge.Input {
	t.Helper()
	in := func(dataset, column, content, lists string) merge.Input {
		return merge.Input{Dataset: dataset, Source: testkit.File(t, content, intake.Standard()),
			Book: testkit.Book(t, "dataset: "+dataset+"\ncolumns:\n  - {name: "+column+"}\n  - {name: v}\n"+lists)}
	}
	const lists = "code_lists:\n  sites: [{code: UV, label: Upper vale, spellings: [upvale]}, LV]\npass_mark: 0\n"
	return map[string]merge.Input{"rows": in("rows", "k"+leftType, "k,v\n"+left, lists), "other": in("other", "c"+rightType, "c,v\n"+right, lists)}
}

const whyPlan = "merge: m\nstack: [rows]\njoin:\n  - {with: other, match: {k: c}, take: [v], unmatched: keep, met_at_least: 0, repeated: multiply}\n"

// Each reason for which keys do not meet is told, with how many rows it keeps apart; a key counts for the mildest.
func TestWhyKeysDoNotMeet(t *testing.T) {
	for _, c := range []struct {
		name, left, right string // types
		rows, other       string
		want              string // levelling keys/rows/asked/several: first example
	}{
		{"spaces", "", "", "AV 1,1\n AV 1,2\nAV  1,3\nAV 2 ,4\n", "AV 1,x\nAV 2,y\n", "spaces 3/3/3/0:  AV 1 is AV 1"},
		{"case", "", "", "av1,1\nAv1,2\nav1,3\nAV2,4\n", "AV1,x\nAV2,y\n", "case 2/3/2/0: av1 is AV1"},
		{"zeros before numbers", "", "", "AV-1,1\nAV-2,2\nAV-10,3\n", "AV-001,x\nAV-002,y\nAV-010,z\n", "zeros 3/3/3/0: AV-1 is AV-001"},
		{"the form of numbers", "", "", "\"1,5\",1\n2.50,2\n3,3\n", "1.5,x\n2.5,y\n3,z\n", "number_form 2/2/2/0: 1,5 is 1.5"},
		{"accents", "", "", "Höhe,1\nO'Brien,2\n", "Hohe,x\nOBrien,y\n", "accents 2/2/2/0: Höhe is Hohe"},
		{"a label beside its code", "", ", type: code, codes: sites", "Upper vale,1\nUPPER VALE,2\nLV,3\n", "UV,x\nLV,y\n", "code 2/2/2/0: UPPER VALE is UV"},
		{"the time of day", "", "", "2024-05-01 10:30,1\n2024-05-02,2\n", "2024-05-01,x\n2024-05-02,y\n", "day 1/1/1/0: 2024-05-01 10:30 is 2024-05-01"},
		{"the end and the beginning of a month", ", type: date", ", type: date", "2024-05-31,1\n2024-06-30,2\n", "2024-05-01,x\n2024-06-01,y\n", "month 2/2/2/0: 2024-05-31 is 2024-05-01"},
		{"months that are shifted", ", type: date", ", type: date", "2024-01-01,1\n2024-02-01,2\n2024-03-01,3\n", "2024-04-01,w\n", "month_later 1/1/1/0: 2024-03-01 is 2024-04-01"},
		{"a letter", "", "", "Milrace,1\nHighgrath,2\nAlder Brodge,3\nFenno,4\n", "Millrace,x\nHighgarth,y\nAlder Bridge,z\nFenna7,q\n", "slip 3/3/3/0: Alder Brodge is Alder Bridge"},
		{"no other number", "", "", "AV-001,1\nAV-002,2\n", "AV-003,x\nAV-011,y\n", ""},
		{"several things that are one once they are levelled", "", "", "av1,1\n", "AV1,x\nAv1,y\n", "case 1/1/2/1: av1 is AV1"},
		{"nothing", "", "", "x,1\n", "y,1\n", ""},
	} {
		_, a, err := run(t, whyPlan, joinOf(t, c.left, c.right, c.rows, c.other), 2)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var told []string
		for _, w := range a.Joins[0].Why {
			told = append(told, fmt.Sprintf("%s %d/%d/%d/%d: %s is %s", w.Levelling, w.Keys, w.Rows, w.Asked, w.Several, w.Examples[0].Key, w.Examples[0].Meets))
		}
		if got := strings.Join(told, "; "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// What is proposed is taken as it stands: the keys meet then, as many as were told.
func TestWhatIsToldOfKeysComesTrue(t *testing.T) {
	in := joinOf(t, "", "", "av1 ,1\nAv1,2\nAV2,3\nzz,4\n", "AV1,x\nAV2,y\n")
	_, a, err := run(t, whyPlan, in, 2)
	if err != nil {
		t.Fatal(err)
	}
	j := a.Joins[0]
	w := j.Why[0]
	again := strings.Replace(whyPlan, "{k: c}", fmt.Sprintf("{%q: %q}", w.Left[0], w.Right[0]), 1)
	_, b, err := run(t, again, in, 2)
	if err != nil {
		t.Fatal(err)
	}
	if got := b.Joins[0].Matched; w.Levelling != "case" || got != j.Matched+w.Rows {
		t.Errorf("%s, %d rows met and %d more were told; %d meet then", w.Levelling, j.Matched, w.Rows, got)
	}
	if len(b.Joins[0].Why) != 0 || b.Joins[0].Misses[0].Key != "zz" {
		t.Errorf("%+v", b.Joins[0])
	}
}

func TestKeysOfTwoTypesAreRefused(t *testing.T) {
	for _, c := range []struct{ left, right, want string }{
		{", type: decimal", ", type: date", "k of the table so far is a number, and c of other is a date, so that no row would meet"},
		{", type: datetime", ", type: date", "match CAST(k AS DATE) instead, or declare both alike"},
		{", type: date", ", type: datetime", "match CAST(c AS DATE) instead, or declare both alike"},
	} {
		_, _, err := run(t, whyPlan, joinOf(t, c.left, c.right, "2024-01-01,1\n", "2024-01-01,2\n"), 1)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s and %s: %v", c.left, c.right, err)
		}
	}
	in := joinOf(t, ", type: datetime", ", type: date", "2024-01-01 10:00,1\n", "2024-01-01,2\n")
	if _, a, err := run(t, strings.Replace(whyPlan, "{k: c}", "{CAST(k AS DATE): c}", 1), in, 1); err != nil || a.Joins[0].Matched != 1 {
		t.Errorf("as it was told: %v", err)
	}
}

func TestBlankKeysAreTold(t *testing.T) {
	in := joinOf(t, "", "", ",1\nA,2\n", ",x\nA,y\n")
	_, a, err := run(t, whyPlan, in, 1)
	if err != nil || a.Joins[0].Blank != 1 || a.Joins[0].Matched != 1 || len(a.Joins[0].Misses) != 0 {
		t.Errorf("%+v %v", a, err)
	}
	_, _, err = run(t, strings.Replace(whyPlan, "unmatched: keep", "unmatched: refuse", 1), in, 1)
	if err == nil || !strings.Contains(err.Error(), "row 1 has nothing in a part of its key (k), and so meets no row of other") {
		t.Errorf("%v", err)
	}
}

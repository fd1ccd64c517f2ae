package relation_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/testkit"
)

// Ten of fifty old meters lack a reading, and none of fifty new ones: chi-squared is 100 (10·50 - 0·40)² / (50·50·10·90),
// which is 11.11 with one degree of freedom. A column that names the rows tells nothing of their gaps.
func TestHowProbableUnevenGapsAre(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,meter,n\n")
	for i := range 100 {
		meter, n := []string{"old", "new"}[i%2], fmt.Sprint(i)
		if i%2 == 0 && i < 20 {
			n = ""
		}
		fmt.Fprintf(&b, "r%d,%s,%s\n", i, meter, n)
	}
	s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}),
		Book: testkit.Book(t, "dataset: d\ncolumns: [{name: id}, {name: meter}, {name: n, type: integer}]\n"), Workers: 2}
	gaps, err := relation.Gaps(context.Background(), s, "n")
	must(t, err)
	chi := 100 * 500.0 * 500 / (50 * 50 * 10 * 90)
	if len(gaps) != 1 || gaps[0].Column != "meter" || math.Abs(gaps[0].Chance-math.Erfc(math.Sqrt(chi/2))) > 1e-9 ||
		math.Abs(gaps[0].Strength-math.Sqrt(chi/100)) > 1e-9 {
		t.Errorf("%+v", gaps)
	}
}

// The hundred highest of 400 levels lack n in every second row, no others do: half of that quarter against a share of one
// in eight. The rows' own numbers name them, so they are left out.
func TestGapsAreComparedByQuartersOfAMeasure(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,level,n\n")
	for i := range 400 {
		n := fmt.Sprint(i % 7)
		if level := i * 7919 % 400; level >= 300 && level%2 == 0 {
			n = ""
		}
		fmt.Fprintf(&b, "%d,%d.5,%s\n", i, i*7919%400, n)
	}
	s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}), Workers: 2, Book: testkit.Book(t,
		"dataset: d\ncolumns: [{name: id, type: integer}, {name: level, type: decimal}, {name: n, type: integer}]\n")}
	gaps, err := relation.Gaps(context.Background(), s, "n")
	must(t, err)
	if len(gaps) != 1 || gaps[0].Column != "level" || gaps[0].Values[0] != (relation.GapValue{Value: "from 300.5 on", Rows: 100, Missing: 50}) {
		t.Fatalf("%+v", gaps)
	}
	share := 50.0 / 400
	v := math.Sqrt((100*(0.5-share)*(0.5-share) + 300*share*share) / 400 / (share * (1 - share)))
	if math.Abs(gaps[0].Strength-v) > 1e-9 || gaps[0].Chance > 1e-30 {
		t.Errorf("strength %v, want %v; chance %v", gaps[0].Strength, v, gaps[0].Chance)
	}
}

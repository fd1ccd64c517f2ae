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

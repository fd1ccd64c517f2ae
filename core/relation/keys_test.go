package relation_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/relation/relationtest"
	"proudsieve/core/testkit"
)

func TestKeysAreFoundAndTested(t *testing.T) {
	var b strings.Builder
	b.WriteString("region,site,name,n\n")
	for i := range 400 {
		fmt.Fprintf(&b, "%d,%d,name %d,%d\n", i/20, i%20, min(i, 397), i%7)
	}
	s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}),
		Book: testkit.Book(t,
			"dataset: d\ncolumns: [{name: region, type: integer}, {name: site, type: integer}, {name: name}, {name: n, type: integer}]\n"), Workers: 2}
	result, err := audit.Run(context.Background(), s.Source, s.Book, 2)
	must(t, err)
	keys, err := relation.Keys(context.Background(), s, result.Rows, result.KeyCandidates())
	must(t, err)
	if got, want := fmt.Sprint(keys), "[{[region site] 0 0 []} {[name] 2 0 [399 400]}"; !strings.HasPrefix(got, want) {
		t.Errorf("keys %s, want %s first", got, want)
	}
	for _, k := range keys {
		if len(k.Columns) > 2 && slices.Contains(k.Columns, "region") && slices.Contains(k.Columns, "site") {
			t.Errorf("%v holds a smaller key", k.Columns)
		}
	}
}
func TestOneWorkerAndEightSeeTheSame(t *testing.T) {
	content := relationtest.Generated(60_000, true, 3)
	answers := map[string]bool{}
	for _, workers := range []int{1, 8} {
		s := &relation.Table{Source: testkit.File(t, content, intake.Reading{}),
			Book: testkit.Book(t, relationtest.Book), Workers: workers}
		correlations, err := relation.Correlate(context.Background(), s, s.NumberColumns())
		must(t, err)
		gaps, err := relation.Gaps(context.Background(), s, "b")
		must(t, err)
		text := ""
		for i := range correlations.Columns {
			text += fmt.Sprint(correlations.Pairs[i], *correlations.Pearson[i][0], *correlations.Spearman[i][0])
		}
		answers[text+fmt.Sprint(gaps)] = true
	}
	if len(answers) != 1 {
		t.Error("the number of workers can be seen in the answers")
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

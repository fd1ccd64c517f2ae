package audit_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// numbers is a column of whole numbers from one to another.
func numbers(from, to int) string {
	var b strings.Builder
	b.WriteString("n\n")
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, "%d\n", i)
	}
	return b.String()
}

// against judges a table by one history rule, after earlier ones, the last one first.
func against(t *testing.T, rule, now string, past ...string) *audit.Result {
	t.Helper()
	source := "dataset: d\ncolumns:\n  - {name: n, type: decimal}\n"
	book := testkit.Book(t, source+"history:\n  - "+rule+"\n")
	book.Beside = &rulebook.Beside{Today: 20_000}
	for _, content := range past {
		book.Beside.Past = append(book.Beside.Past, audittest.Run(t, content, source).Past())
	}
	r, err := audit.Run(context.Background(), testkit.File(t, now, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestBandsAroundEarlierDeliveries(t *testing.T) {
	for _, c := range []struct {
		name, rule, now string
		past            []string
		found           bool
	}{
		// 1,000 numbers moved by half their range: the shares below any number differ by half at most.
		{"a distribution moved by half", "{id: r, check: shape_steady, column: n, within: 49}", numbers(500, 1500),
			[]string{numbers(0, 1000)}, true},
		{"a distribution moved by half, allowed", "{id: r, check: shape_steady, column: n, within: 51}",
			numbers(500, 1500), []string{numbers(0, 1000)}, false},
		{"the same distribution, of fewer", "{id: r, check: shape_steady, column: n, within: 1}", numbers(0, 1000),
			[]string{strings.Replace(numbers(0, 1000), "\n500\n", "\n", 1)}, false},
		{"apart altogether", "{id: r, check: shape_steady, column: n, within: 99}", numbers(0, 100),
			[]string{numbers(200, 300)}, true},
		// The mean of 10, 20 and 60 rows is 30.
		{"rows of the last three", "{id: r, check: rows_steady, within: 10, last: 3}", numbers(0, 33),
			[]string{numbers(0, 10), numbers(0, 20), numbers(0, 60), numbers(0, 9000)}, false},
		{"rows of the last two", "{id: r, check: rows_steady, within: 10, last: 2}", numbers(0, 33),
			[]string{numbers(0, 10), numbers(0, 20), numbers(0, 60)}, true},
		{"as many rows as there are deliveries", "{id: r, check: rows_steady, within: 10, last: 50}", numbers(0, 11),
			[]string{numbers(0, 10)}, false},
		// Means of 4.5 and 14.5 before: 9.5 on the whole.
		{"the mean of two means", "{id: r, check: mean_steady, column: n, within: 1, last: 2}", numbers(5, 15),
			[]string{numbers(0, 10), numbers(10, 20)}, false},
		{"a mean that jumped", "{id: r, check: mean_steady, column: n, within: 50, last: 2}", numbers(90, 100),
			[]string{numbers(0, 10), numbers(10, 20)}, true},
		{"new values in a long list", "{id: r, check: no_new_values, column: n}", numbers(0, 300),
			[]string{numbers(0, 299)}, true},
		{"no new values in a long list", "{id: r, check: no_new_values, column: n}", numbers(5, 300),
			[]string{numbers(0, 300)}, false},
	} {
		r := against(t, c.rule, c.now, c.past...)
		if found := len(r.Findings) == 1; found != c.found || r.Rules[len(r.Rules)-1].Unjudged != "" {
			t.Errorf("%s: %+v, %s", c.name, r.Findings, r.Rules[len(r.Rules)-1].Unjudged)
		}
	}
}

func TestWhatHistoryCannotSay(t *testing.T) {
	for _, c := range []struct {
		name, rule, now, why string
		past                 []string
		passes               bool
	}{
		{"no earlier delivery", "{id: r, check: mean_steady, column: n, within: 1}", numbers(0, 5),
			"there is no earlier delivery to compare with", nil, true},
		{"the column is new", "{id: r, check: mean_steady, column: n, within: 1}", numbers(0, 5),
			"no earlier delivery has a column n", []string{"m\n1\n"}, true},
		{"too many values", "{id: r, check: no_new_values, column: n}", numbers(0, 600),
			"n has too many values to compare", []string{numbers(0, 5)}, false},
		{"too many values before", "{id: r, check: no_new_values, column: n}", numbers(0, 5),
			"the profiles of earlier deliveries do not list all values of n", []string{numbers(0, 600)}, false},
		{"nothing to take a mean of", "{id: r, check: mean_steady, column: n, within: 1}", "n\nx\n",
			"n has no mean, now or before", []string{numbers(0, 5)}, false},
	} {
		source := "dataset: d\ncolumns:\n  - {name: n, type: decimal, severity: note}\npass_mark: 0\n"
		book := testkit.Book(t, source+"history:\n  - "+c.rule+"\n")
		book.Beside = &rulebook.Beside{Today: 20_000}
		for _, content := range c.past {
			b := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: "+content[:1]+", type: decimal}\n")
			r, err := audit.Run(context.Background(), testkit.File(t, content, b.Reading), b, 1)
			if err != nil {
				t.Fatal(err)
			}
			book.Beside.Past = append(book.Beside.Past, r.Past())
		}
		r, err := audit.Run(context.Background(), testkit.File(t, c.now, book.Reading), book, 2)
		if err != nil {
			t.Fatal(err)
		}
		for _, j := range r.Rules {
			if j.Rule == "r" && j.Unjudged != c.why {
				t.Errorf("%s: %q, want %q", c.name, j.Unjudged, c.why)
			}
		}
		if r.HasPassed() != c.passes {
			t.Errorf("%s: passed %t", c.name, r.HasPassed())
		}
	}
}

package propose_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
)

// A column that has another name since is one column: its values are alike, and it stands in the same place or has a name
// like it. What only stands there in its place is none.
func TestColumnsThatWereRenamed(t *testing.T) {
	table := func(header string, from int, last func(i int) string) string {
		var b strings.Builder
		b.WriteString(header + "\n")
		for i := from; i < from+200; i++ {
			fmt.Fprintf(&b, "S-%04d,%s,%d.5,%s\n", i, []string{"weir", "ford", "mill"}[i%3], i*7919%90, last(i))
		}
		return b.String()
	}
	depth := func(i int) string { return fmt.Sprint(i % 7) }
	for _, c := range []struct {
		name, now, before string
		was               []string
	}{
		{"one", table("sample,site,value,depth", 200, depth), table("sample,site,conc,depth", 0, depth), []string{"value", "conc"}},
		{"one by its name", table("sample,site,value,depth_m", 200, depth), table("sample,site,value,depth", 0, depth),
			[]string{"depth_m", "depth"}},
		{"codes", table("sample,place,value,depth", 200, depth), table("sample,site,value,depth", 0, depth), []string{"place", "site"}},
		{"another in its place", table("sample,site,value,depth", 200, depth), table("sample,site,value,height", 0, func(i int) string {
			return fmt.Sprint(900 + i%300)
		}), nil},
		{"of another type", table("sample,site,value,depth", 200, depth), table("sample,site,value,day", 0, func(i int) string {
			return fmt.Sprintf("2024-03-%02d", 1+i%28)
		}), nil},
		{"nothing", table("sample,site,value,depth", 200, depth), table("sample,site,value,depth", 0, depth), nil},
	} {
		source := proposed(t, c.now, c.before)
		book := testkit.Book(t, source)
		if len(c.was) == 0 {
			if strings.Contains(source, "was:") {
				t.Errorf("%s: a column is told to be renamed:\n%s", c.name, source)
			}
			continue
		}
		if !strings.Contains(source, fmt.Sprintf("{name: %s, was: [%s]", c.was[0], c.was[1])) {
			t.Errorf("%s: it is not told that %s was %s:\n%s", c.name, c.was[0], c.was[1], source)
		}
		// By the proposal the earlier delivery is read and judged by the names of now.
		r, err := audit.Run(t.Context(), testkit.File(t, c.before, book.Reading), book, 2)
		if err != nil {
			t.Fatal(err)
		}
		if r.Renamed[c.was[0]] != c.was[1] || !r.HasPassed() || len(r.Findings) > 0 {
			t.Errorf("%s: %v, %+v", c.name, r.Renamed, r.Findings)
		}
	}
}

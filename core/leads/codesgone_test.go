package leads_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// audited audits a text that nobody declared anything about, after earlier deliveries.
func audited(t *testing.T, content string, past ...rulebook.Past) *audit.Result {
	t.Helper()
	d, err := detect.Detect(t.Context(), testkit.Opener([]byte(content)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	book := rulebook.Draft("d", d, d.File.Columns())
	book.Beside = &rulebook.Beside{Past: past}
	r, err := audit.Run(t.Context(), d.File, book, 2)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestCodesThatNoLongerOccur(t *testing.T) {
	// Twelve codes, 50 rows of each; of a thirteenth, 3 rows.
	visits := func(code func(i int) string) string {
		return lines("code,n", 600, func(i int) string { return fmt.Sprintf("%s,%d", code(i%12), i*7919%600) }) + "rare,1\nrare,2\nrare,3\n"
	}
	all := func(i int) string { return fmt.Sprintf("C-%02d", i) }
	before := audited(t, visits(all)).Past()
	for _, c := range []struct{ name, now, says string }{
		{"two are gone", visits(func(i int) string { return all(i % 10) }),
			`2 codes of code that stood in 100 rows of the last delivery no longer occur: "C-10" (50) and "C-11" (50).`},
		{"nothing is", visits(all), ""},
		{"one is spelled otherwise", visits(func(i int) string { return strings.Replace(all(i), "C-03", "c 03", 1) }), ""},
		{"half of them are, as in a column that goes with the period", visits(func(i int) string { return all(i % 6) }), ""},
		{"a rare one is", strings.ReplaceAll(visits(all), "rare", "C-01"), ""},
		{"there are too few rows to tell", lines("code,n", 100, func(i int) string { return fmt.Sprintf("%s,%d", all(i%10), i*7919%100) }), ""},
	} {
		got := ""
		for _, l := range audited(t, c.now, before).Leads {
			if l.Kind == "codes_gone" {
				got += l.Says
			}
		}
		if got != c.says {
			t.Errorf("%s: %q is told, want %q", c.name, got, c.says)
		}
	}
}

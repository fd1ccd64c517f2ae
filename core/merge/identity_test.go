package merge_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/merge"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// identityBook declares a column k of some type, and a v that numbers the rows.
func identityBook(name, column string) string {
	return "dataset: " + name + "\nreading: {decimal_mark: \",\", grouping_mark: \".\", delimiter: \";\", dates: [dd/MM/yyyy, yyyy-MM-dd]}\n" +
		"columns:\n  - {name: k, " + column + "}\n  - {name: v}\nkeys:\n  - {id: one, columns: [k]}\n" +
		"code_lists:\n  l: [{code: A, spellings: [one]}, B]\npass_mark: 0\n"
}

// Whether two cells are one thing is answered alike wherever rows are brought together: by keys, groups, references,
// steps and joins.
func TestOneThingIsOneThingEverywhere(t *testing.T) {
	for _, c := range []struct {
		column, one, other string
		same               bool
	}{
		{"type: decimal", "1", "1,0", true}, {"type: decimal", "1000", "1.000,00", true},
		{"type: decimal", "0", "-0", true}, {"type: decimal", "1", "1,01", false},
		{"type: integer", "7", "007", true}, {"type: integer", "7", "8", false},
		{"type: date", "01/05/2024", "2024-05-01", true}, {"type: date", "01/05/2024", "05/01/2024", false},
		{"type: boolean", "yes", "true", true}, {"type: boolean", "yes", "no", false},
		{"type: code, codes: l", "A", "one", true}, {"type: code, codes: l", "a", "A ", true},
		{"type: code, codes: l", "A", "B", false},
		{"type: text", "1", "1,0", false}, {"type: text", "a", "A", false}, {"type: text", "x", "x", true},
		{"type: decimal", "much", "much", true}, {"type: decimal", "much", "Much", false},
	} {
		name := fmt.Sprintf("%s: %q and %q", c.column, c.one, c.other)
		ctx := context.Background()
		book := testkit.Book(t, identityBook("d", c.column))
		text := "k;v\n" + c.one + ";1\n" + c.other + ";2\n"
		file := func(text string) table.Source { return testkit.File(t, text, book.Reading) }
		said := func(room string, same bool) {
			t.Helper()
			if same != c.same {
				t.Errorf("%s: by %s they are one thing: %v, want %v", name, room, same, c.same)
			}
		}

		result, err := audit.Run(ctx, file(text), book, 1)
		if err != nil {
			t.Fatal(err)
		}
		surplus := false
		for _, f := range result.Findings {
			surplus = surplus || f.Rule == "one"
		}
		said("a key", surplus)

		groups, err := relation.FindGroups(ctx, &relation.Table{Source: file(text), Book: book, Workers: 1}, []string{"k"})
		if err != nil {
			t.Fatal(err)
		}
		said("groups", groups.Of[relation.Conflicting].Groups == 1)

		referring := testkit.Book(t, strings.Replace(identityBook("d", c.column), "code_lists:",
			"references:\n  - {id: known, columns: [k], to: {dataset: o, columns: [k]}}\ncode_lists:", 1))
		referring.Beside = &rulebook.Beside{Open: func(context.Context, string) (table.Source, *rulebook.Rulebook, error) {
			return file("k;v\n" + c.other + ";2\n"), book, nil
		}}
		result, err = audit.Run(ctx, file("k;v\n"+c.one+";1\n"), referring, 1)
		if err != nil {
			t.Fatal(err)
		}
		unknown := false
		for _, f := range result.Findings {
			unknown = unknown || f.Rule == "known"
		}
		said("a reference", !unknown)

		fixed := func(step string) (string, int64) {
			plan, err := fix.Parse([]byte("fix_plan: p\ndataset: d\nsteps:\n  - {"+step+", reason: r}\n"), book)
			if err != nil {
				t.Fatal(err)
			}
			got, err := fixtest.PlayInput(t, fix.Input{Source: file(text), Book: book}, plan, 1)
			if err != nil {
				t.Fatal(err)
			}
			return got.Table, got.Ledger.RowsOut
		}
		if !strings.Contains(c.one+c.other, "uch") { // what is no number is not written into a table of numbers
			_, rows := fixed("do: keep_one, columns: [k], survivor: earliest_row")
			said("keep_one", rows == 1)
			out, _ := fixed("do: set_cell, key: {k: \"" + c.one + "\"}, column: v, to: set, rows: 2")
			said("set_cell", strings.Count(out, "set") == 2)

			standard := func(text string) string { // a cleaned table
				plan, _ := fix.Parse([]byte("fix_plan: p\ndataset: d\nsteps: [{do: standard_form, reason: r}]\n"), book)
				got, err := fixtest.PlayInput(t, fix.Input{Source: file(text), Book: book}, plan, 1)
				if err != nil {
					t.Fatal(err)
				}
				return got.Table
			}
			in := func(dataset, text string) merge.Input {
				b := testkit.Book(t, identityBook(dataset, c.column)).ForTable(rulebook.TableReading{})
				return merge.Input{Dataset: dataset, Source: testkit.File(t, standard(text), b.Reading), Book: b}
			}
			_, a, err := run(t, "merge: m\nstack: [d]\njoin:\n  - {with: o, match: [k], take: [v], unmatched: keep, met_at_least: 0}\n",
				map[string]merge.Input{"d": in("d", "k;v\n"+c.one+";1\n"), "o": in("o", "k;v\n"+c.other+";2\n")}, 1)
			if err != nil {
				t.Fatal(err)
			}
			said("a join", a.Joins[0].Matched == 1)
		}
	}
}

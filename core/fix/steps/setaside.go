package steps

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/fix"
)

func init() {
	where := whereField
	where.Required, where.Says = true, "The rows, by a condition"
	fix.Register(fix.Kind{
		Example:    fix.Example{Rows: "TOTAL;;;14,2;\nS1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: set_aside, where: sample = 'TOTAL'}"},
		KeepsMarks: true,
		Name:       "set_aside", Says: "takes the rows where a condition holds out of the table",
		Fields:  []fix.Field{where},
		Declare: func(i *fix.Item) fix.Action { return setAside{i.TextOf("where")} },
	})
}

type setAside struct{ where string }

// Bind implements fix.Action.
func (s setAside) Bind(b *fix.Binder) *fix.Work {
	var asked []int
	if where := b.Condition("where", s.where); where != nil {
		for _, name := range where.Names() {
			asked = append(asked, b.At(name))
		}
	}
	names := b.Names
	return &fix.Work{
		Note: func(counts map[string]int64) string { return withoutValues(names, counts) },
		Drop: func(rows *fix.Rows) (func(int) fix.Leaves, error) {
			for _, c := range asked {
				for code, n := range rows.Counts(c) {
					if n == 0 {
						continue
					}
					switch cell := rows.Cells[c].Read(rows.Columns[c].Texts[code]); {
					case cell.Missing:
						rows.Count("missing "+names[c], n)
					case cell.Mistyped:
						rows.Count("mistyped "+names[c], n)
					}
				}
			}
			return func(int) fix.Leaves { return fix.Leaves{Table: true} }, nil
		}}
}

// withoutValues tells of rows that have no value in a column though a text is there: a condition takes both for NULL.
func withoutValues(names []string, counts map[string]int64) string {
	var notes []string
	for _, what := range slices.Sorted(maps.Keys(counts)) {
		name, ok := strings.CutPrefix(what, "mistyped ")
		if !ok || !slices.Contains(names, name) {
			continue
		}
		notes = append(notes, fmt.Sprintf("In %s, %s is a text that is no value of its type, and in %d nothing is there.",
			document.Counted(counts[what], "row", "rows"), name, counts["missing "+name]))
	}
	return strings.Join(notes, " ")
}

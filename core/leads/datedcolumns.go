package leads

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// datedLeast is how many columns are named by dates at the least.
const datedLeast = 3

// HeadingPatterns are the date patterns that headings are read by, the one that is tried first being first.
var HeadingPatterns = []string{"yyyy-MM-dd", "dd/MM/yyyy", "dd.MM.yyyy", "yyyyMMdd", "yyyy/MM/dd", "MM/dd/yyyy", "dd-MM-yyyy"}

func init() {
	Register(Kind{
		Name: "dated_columns", Like: "%d sets of columns are named by dates: %s.",
		Finds:     "a table with a column for every day: a value that stands in the headings",
		Threshold: "3 columns and more whose names are dates by one pattern, all different",
		OfTable: func(t *Table) []Lead {
			names := make([]string, len(t.Columns))
			for i := range t.Columns {
				names[i] = t.Columns[i].Name
			}
			pattern, dated := DatedBy(names)
			if pattern == "" {
				return nil
			}
			return []Lead{{Column: dated[0], Columns: dated, Rows: t.Rows, Sure: 0.5, FirstRows: []uint32{},
				Says: fmt.Sprintf("%s named by dates, %s to %s: each row holds as many values as there are days, and no rule can speak of the day.",
					document.Counted(int64(len(dated)), "column is", "columns are"), dated[0], dated[len(dated)-1])}}
		},
	})
}

// DatedBy returns the pattern by which most names are dates, with these names; an empty pattern where too few are.
func DatedBy(names []string) (pattern string, dated []string) {
	for _, one := range HeadingPatterns {
		p := table.MustDatePatterns(one)[0]
		var fit []string
		days := map[int64]bool{}
		for _, name := range names {
			if micros, ok := p.Parse(name); ok && !days[micros] {
				days[micros] = true
				fit = append(fit, name)
			}
		}
		if len(fit) >= datedLeast && len(fit) > len(dated) {
			pattern, dated = one, fit
		}
	}
	return pattern, dated
}

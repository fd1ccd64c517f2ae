package rules

import (
	"context"
	"fmt"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What rules on the table as a whole share.

// The fields of several kinds of rules on the table.
var (
	perField = rulebook.FieldForm{Name: "per", Kind: "columns", Says: "For each value of these columns",
		Aspect: "groups", Eases: rulebook.EasesAny}
	inField = rulebook.FieldForm{Name: "in", Kind: "column", Required: true, Says: "The column that is looked at",
		Aspect: "column", Eases: rulebook.EasesAny}
	ofField = rulebook.FieldForm{Name: "of", Kind: "column", Required: true, Says: "The column that is summed",
		Aspect: "summed column", Eases: rulebook.EasesAny}
	withField = rulebook.FieldForm{Name: "with", Kind: "elsewhere", Required: true,
		Says: "The dataset it is compared with, and its columns", Aspect: "other dataset", Eases: rulebook.EasesAny}
	sumsField = rulebook.FieldForm{Name: "tolerance", Kind: "number", Says: "By how much sums may differ",
		Aspect: "tolerance", Eases: rulebook.EasesMore}
)

// groupLimit bounds the groups that are held in memory.
const groupLimit = 1 << 20

// onTable is for rules whose outcome says what was found.
type onTable struct{}

func (onTable) Found(*rulebook.Broken) string { return "" }

// forEach begins a sentence about groups.
func forEach(per []string) string {
	if len(per) == 0 {
		return ""
	}
	return "for each " + document.Join(per) + ", "
}

// sentence begins with a capital and ends with a full stop.
func sentence(says string) string { return strings.ToUpper(says[:1]) + says[1:] + "." }

func giveOrTake(by table.Decimal) string {
	if by.Sign() <= 0 {
		return ""
	}
	return ", give or take " + by.Shortest()
}

// groupOf returns the group of a row, which fresh makes from its label where it is met first.
func groupOf[G any](groups map[table.Hash]*G, row *rulebook.TableRow, per []string, fresh func(label string) *G) (*G,
	error) {
	if g := groups[row.Group]; g != nil {
		return g, nil
	}
	if len(groups) == groupLimit {
		return nil, tooManyGroups(per)
	}
	g := fresh(strings.Clone(row.Label))
	groups[row.Group] = g
	return g, nil
}

func tooManyGroups(per []string) error {
	return fmt.Errorf("there are more than %s groups of %s", document.Grouped(groupLimit), document.Join(per))
}

// known returns the keys of another dataset with their labels.
func known(ctx context.Context, a *rulebook.Around, e rulebook.Elsewhere) (map[table.Hash]string, error) {
	known := map[table.Hash]string{}
	err := a.Elsewhere(ctx, e.Dataset, rulebook.Needs{Rows: true, Group: e.Columns, Whole: true},
		func(rows []rulebook.TableRow) error {
			for i := range rows {
				if rows[i].Value.Kind == table.Missing {
					continue
				}
				if _, met := known[rows[i].Group]; met {
					continue
				}
				if len(known) == rulebook.ElsewhereLimit {
					return rulebook.ErrTooMany
				}
				known[rows[i].Group] = strings.Clone(rows[i].Label)
			}
			return nil
		})
	return known, err
}

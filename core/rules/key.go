package rules

import (
	"fmt"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "key", Section: "keys", Dimension: rulebook.Uniqueness,
		Fields: []rulebook.FieldForm{
			{Name: "columns", Kind: "columns", Required: true, Says: "The columns that together name one row",
				Aspect: "columns", Eases: rulebook.EasesLonger},
			{Name: "may_lack_parts", Kind: "truth", Says: "Rows that lack a part are no fault",
				Aspect: "parts that may lack", Eases: rulebook.EasesOn},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			k := key{columns: i.ColumnsOf("columns", "the columns of a key", rulebook.AnyColumn),
				mayLackParts: i.TruthOf("may_lack_parts")}
			if i.Gives("columns") && len(k.columns) == 0 {
				i.Wrong("columns", "a key is of one column at least")
			}
			if !k.mayLackParts {
				i.Require(k.columns)
			}
			return k
		},
	})
}

// key is broken by rows that name a thing which an earlier row names. A row with a missing
// part of it is compared with none.
type key struct {
	columns      []string
	mayLackParts bool
}

func (r key) Columns() []string            { return r.columns }
func (r key) GroupBy() ([]string, bool)    { return r.columns, false }
func (r key) PrimaryKey() ([]string, bool) { return r.columns, !r.mayLackParts }

func (r key) Says() string {
	return fmt.Sprintf("No two rows have the same %s.", strings.Join(r.columns, " and "))
}

func (r key) Found(b *rulebook.Broken) string {
	columns := strings.Join(r.columns, " and ")
	return fmt.Sprintf("%s %s surplus: %s %s more than once.", b.OfRows(), document.Plural(b.Rows, "is", "are"),
		document.Grouped(b.Groups),
		document.Plural(b.Groups, "value of "+columns+" occurs", "values of "+columns+" occur"))
}

package rules

import (
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "parent", Section: "columns", Place: 140, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{
			{Name: "parent_in", Kind: "column", Says: "The column that holds what its code is a part of",
				Aspect: "column of its parent", Eases: rulebook.EasesAny},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			in := i.ColumnOf("parent_in", rulebook.AnyColumn)
			i.OnlyFor("parent_in", i.Column.Type == table.TypeCode, table.TypeCode)
			list := i.CodesOf()
			if in == "" || list == nil || !slices.ContainsFunc(list.Codes,
				func(c rulebook.Code) bool { return c.Parent != "" }) {
				return nil
			}
			return parent{ofColumn{i.Column}, in, list}
		},
	})
}

// parent is broken by a code beside another parent than its own.
type parent struct {
	ofColumn
	in    string
	codes *rulebook.CodeList
}

func (r parent) Columns() []string             { return []string{r.name(), r.in} }
func (parent) Tolerates(broken, of int64) bool { return false }

// Judge implements rulebook.RowRule.
func (r parent) Judge(*condition.Memory) rulebook.RowJudge {
	return func(rows rulebook.Rows, broken func(i int)) int64 {
		values, codes := rows.Values(r.name())
		wanted := make([]string, len(values)) // the parent of each text that has one
		for i := range wanted {
			if c := r.codes.Find(values[i].Text); c != nil {
				wanted[i] = c.Parent
			}
		}
		parents, beside := rows.Values(r.in)
		for i, code := range codes {
			if wanted[code] == "" {
				continue
			}
			if v := parents[beside[i]]; v.Kind != table.Missing && v.Standard() != wanted[code] {
				broken(i)
			}
		}
		return 0
	}
}

func (r parent) Says() string {
	return fmt.Sprintf("Every %s stands beside the %s that it is a part of.", r.name(), r.in)
}

func (r parent) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s a %s beside another %s than its own.", b.Have(), r.name(), r.in)
}

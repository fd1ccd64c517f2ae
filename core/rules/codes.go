package rules

import (
	"fmt"
	"maps"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "codes", Section: "columns", Place: 30, Dimension: rulebook.Validity,
		Fields: []rulebook.FieldForm{
			{Name: "new_codes", Kind: "truth", Says: "A code that is not in the list yet is no fault",
				Aspect: "new codes", Eases: rulebook.EasesOn},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			fresh := i.TruthOf("new_codes")
			i.OnlyFor("new_codes", i.Column.Type == table.TypeCode || !fresh, table.TypeCode)
			if i.CodesOf() == nil {
				return nil
			}
			return codes{valued{ofColumn{i.Column}}, fresh}
		},
	})
}

// codes is broken by texts that are in no way in the column's code list.
type codes struct {
	valued
	fresh bool // new codes are told as a lead, and cost nothing
}

func (codes) Breaks(c rulebook.Cell, _ string) bool { return c.Unknown }

func (r codes) Says() string {
	return fmt.Sprintf("Every %s is in the code list %s.", r.name(), r.column.CodeList)
}

func (r codes) Found(b *rulebook.Broken) string {
	return fmt.Sprintf("%s something in %s that is no code of its list.", b.Have(), r.name())
}

func (r codes) Unjudged(b *rulebook.Rulebook) (why string, excused bool) {
	return b.CodeLists[r.column.CodeList].Lacking, false
}

func (r codes) IsTold() bool { return r.fresh }

func (r codes) Told(b *rulebook.Broken) (kind, says string) {
	return "new_codes", fmt.Sprintf("%s of %s %s a code that is not in its list yet: %s.",
		document.Plural(b.Rows, "1 cell", document.Grouped(b.Rows)+" cells"),
		r.name(), document.Plural(b.Rows, "holds", "hold"), document.First(slices.Sorted(maps.Keys(b.Texts))))
}

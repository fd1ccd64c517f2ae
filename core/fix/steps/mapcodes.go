package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
)

func init() {
	fix.Register(fix.Kind{
		Name: "map_codes", Says: "writes other spellings of a code as the code list has it",
		Fields: []fix.Field{columnsField},
		Declare: func(i *fix.Item) fix.Action {
			names := i.ColumnsOf("columns")
			for _, name := range names {
				if c := i.Declared(name); c != nil && c.CodeList == "" {
					i.Wrong("columns", "%q has no code list to map to", name)
				}
			}
			return mapCodes{names}
		},
	})
}

type mapCodes struct{ columns }

func (mapCodes) Rewrite(c *rulebook.Cells, text string) string {
	if cell := c.Read(text); cell.Spelling {
		return cell.Value.Text
	}
	return text
}

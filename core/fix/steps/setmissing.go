package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;<0,05;31/05/2024\nS2;AV-001;PH;7;31/05/2024\n", Step: "{do: set_missing, columns: [value], values: [\"<0,05\", trace]}"},
		Name:    "set_missing", Says: "leaves nothing of some texts, or in the cells of some rows",
		Fields: []fix.Field{columnsField,
			{Name: "values", Kind: "texts", Says: "The texts that stand for nothing, spaces around them left aside"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			if !i.Gives("values") && !i.Gives("where") {
				i.Wrong("", "a step \"set_missing\" has \"values\", \"where\" or both")
			}
			gone := map[string]bool{}
			for _, v := range i.TextsOf("values") {
				gone[table.Trim(v)] = true
			}
			return rewriter{columns: i.TextsOf("columns"), rewrite: func(_ *bound, text string) (string, string) {
				if len(gone) == 0 || gone[table.Trim(text)] {
					return "", ""
				}
				return text, ""
			}}
		},
	})
}

package steps

import (
	"strings"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

// Where trim takes spaces away.
const (
	spacesAll    = "all"
	spacesAround = "around" // at both ends
	spacesInside = "inside" // runs of them between words
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: " S1 ;AV-001;PH;7,1;31/05/2024\n", Step: "{do: trim, columns: [sample]}"},
		Name:    "trim", Says: "takes stray spaces off both ends of the texts and out of their middle",
		Fields: []fix.Field{columnsField,
			{Name: "spaces", Kind: "choice", Choices: []string{spacesAll, spacesAround, spacesInside},
				Says: "Which spaces go: all that are stray, those around the texts, or those too many inside them"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			spaces := i.ChoiceOf("spaces", "where spaces are", nil, spacesAll, spacesAround, spacesInside)
			return rewriter{columns: i.TextsOf("columns"), rewrite: func(_ *bound, text string) (string, string) {
				switch spaces {
				case spacesAround:
					return strings.TrimFunc(text, table.IsSpace), ""
				case spacesInside:
					return collapsed(text), ""
				}
				return table.Trim(text), ""
			}}
		},
	})
}

// collapsed makes every run of spaces inside a text one plain space.
func collapsed(text string) string {
	bare := strings.TrimFunc(text, table.IsSpace)
	at := strings.Index(text, bare)
	return text[:at] + table.Trim(bare) + text[at+len(bare):]
}

package steps

import (
	"regexp"
	"strings"

	"proudsieve/core/fix"
)

// What replace looks for.
const (
	wholeCell = "whole_cell"
	part      = "part"
	pattern   = "pattern"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV 001;PH;7,1;31/05/2024\nS2;AV-002;PH;7,2;31/05/2024\n", Step: "{do: replace, columns: [station], find: 'AV (\\d+)', with: 'AV-$1', match: pattern}"},
		Name:    "replace", Says: "writes one text for another: for a whole cell, a part of it, or what a pattern fits",
		Fields: []fix.Field{columnsField,
			{Name: "find", Says: "The text or pattern that is looked for", Required: true},
			{Name: "with", Says: "What stands in its place; after a pattern $1 is what its first group fits", Required: true},
			{Name: "match", Kind: "choice", Choices: []string{wholeCell, part, pattern},
				Says: "Whether find is a whole_cell, a part of one, or a pattern (RE2), of which every occurrence is replaced", Required: true},
			whereField},
		Declare: func(i *fix.Item) fix.Action {
			find, with := i.TextOf("find"), i.TextOf("with")
			var replace func(text string) string
			switch i.ChoiceOf("match", "what find can be", nil, wholeCell, part, pattern) {
			case wholeCell:
				replace = func(text string) string {
					if text == find {
						return with
					}
					return text
				}
			case part:
				if find == "" {
					i.Wrong("find", "an empty text is a part of every cell; write match: whole_cell to replace empty cells")
				}
				replace = func(text string) string { return strings.ReplaceAll(text, find, with) }
			case pattern:
				expression, err := regexp.Compile(find)
				if err != nil {
					i.Wrong("find", "%q is no pattern: %v", find, err)
					return nil
				}
				replace = func(text string) string { return expression.ReplaceAllString(text, with) }
			}
			return rewriter{columns: i.TextsOf("columns"), rewrite: func(_ *bound, text string) (string, string) {
				return replace(text), ""
			}}
		},
	})
}

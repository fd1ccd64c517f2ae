package steps

import (
	"golang.org/x/text/unicode/norm"

	"proudsieve/core/fix"
)

func init() {
	forms := map[string]norm.Form{"NFC": norm.NFC, "NFD": norm.NFD, "NFKC": norm.NFKC, "NFKD": norm.NFKD}
	choices := []string{"NFC", "NFD", "NFKC", "NFKD"}
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;ＡＶ-001;PH;7,1;31/05/2024\n", Step: "{do: unicode_form, columns: [station], form: NFKC}"},
		Name:    "unicode_form", Says: "writes letters with accents, and characters that look alike, in one way (Unicode normal form, UAX 15)",
		Fields: []fix.Field{columnsField,
			{Name: "form", Kind: "choice", Choices: choices, Says: "NFC joins letters and accents, NFD takes them apart; NFKC and NFKD also write ² as 2 and ﬁ as fi",
				Required: true}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			form := forms[i.ChoiceOf("form", "a normal form", nil, choices...)]
			return rewriter{columns: i.TextsOf("columns"), rewrite: func(_ *bound, text string) (string, string) {
				return form.String(text), ""
			}}
		},
	})
}

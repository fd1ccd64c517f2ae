package steps

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/fix"
)

func init() {
	cases := map[string]func(string) string{"upper": strings.ToUpper, "lower": strings.ToLower, "first": firstUpper, "each_word": eachWordUpper}
	choices := []string{"upper", "lower", "first", "each_word"}
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "s1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: change_case, columns: [sample], to: upper}"},
		Name:    "change_case",
		Says:    "writes texts in upper or lower case, or the first letter of the text or of each word in upper and the others in lower case",
		Fields: []fix.Field{columnsField, {Name: "to", Kind: "choice", Choices: choices, Says: "upper, lower, first or each_word",
			Required: true}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			change := cases[i.ChoiceOf("to", "a case", nil, choices...)]
			return rewriter{columns: i.TextsOf("columns"), rewrite: func(_ *bound, text string) (string, string) {
				return change(text), ""
			}}
		},
	})
}

func firstUpper(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + strings.ToLower(text[size:])
}

// eachWordUpper takes for a word what stands between characters that are neither letters nor digits; an apostrophe is inside
// one.
func eachWordUpper(text string) string {
	inside := false
	return strings.Map(func(r rune) rune {
		was := inside
		inside = unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) || inside && (r == '\'' || r == '’')
		if was {
			return unicode.ToLower(r)
		}
		return unicode.ToTitle(r)
	}, text)
}

package steps

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
)

func init() {
	fix.Register(fix.Kind{
		Name:   "change_case",
		Says:   "writes texts in upper or lower case, or their first letter in upper and the others in lower case",
		Fields: []fix.Field{columnsField, {Name: "to", Says: "upper, lower or first", Required: true}},
		Declare: func(i *fix.Item) fix.Action {
			return changeCase{i.ColumnsOf("columns"), i.ChoiceOf("to", "a case", nil, "upper", "lower", "first")}
		},
	})
}

type changeCase struct {
	columns
	to string
}

func (c changeCase) Rewrite(_ *rulebook.Cells, text string) string {
	switch c.to {
	case "upper":
		return strings.ToUpper(text)
	case "lower":
		return strings.ToLower(text)
	}
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + strings.ToLower(text[size:])
}

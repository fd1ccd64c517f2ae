package steps

import (
	"strings"

	"proudsieve/core/fix"
)

// longestPadded is how many digits a text can be given.
const longestPadded = 100

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "7;AV-001;PH;7,1;31/05/2024\n", Step: "{do: pad_zeros, columns: [sample], length: 5}"},
		Name:    "pad_zeros", Says: "writes zeros before texts of digits alone until they are as long as they should be",
		Fields: []fix.Field{columnsField,
			{Name: "length", Kind: "number", Says: "How many digits there are then", Required: true}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			length := i.WholeOf("length", 1, longestPadded)
			return rewriter{columns: i.TextsOf("columns"), note: otherThanDigits, rewrite: func(_ *bound, text string) (string, string) {
				switch {
				case !digitsAlone(text):
					return text, others(text)
				case len(text) < length:
					return strings.Repeat("0", length-len(text)) + text, ""
				}
				return text, ""
			}}
		},
	})
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "00712;AV-001;PH;7,1;31/05/2024\n", Step: "{do: strip_zeros, columns: [sample]}"},
		Name:    "strip_zeros", Says: "takes the zeros off that stand before texts of digits alone; 000 becomes 0",
		Fields: []fix.Field{columnsField, whereField},
		Declare: func(i *fix.Item) fix.Action {
			return rewriter{columns: i.TextsOf("columns"), note: otherThanDigits, rewrite: func(_ *bound, text string) (string, string) {
				if !digitsAlone(text) {
					return text, others(text)
				}
				if bare := strings.TrimLeft(text, "0"); bare != "" {
					return bare, ""
				}
				return "0", ""
			}}
		},
	})
}

func digitsAlone(text string) bool {
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return false
		}
	}
	return text != ""
}

func others(text string) string {
	if text == "" {
		return ""
	}
	return "others"
}

func otherThanDigits(counts map[string]int64) string {
	return counting(counts["others"], "text has other characters than digits and stays as it is", "texts have other characters than digits and stay as they are")
}

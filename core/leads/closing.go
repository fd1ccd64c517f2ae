package leads

import (
	"fmt"

	"proudsieve/core/document"
)

func init() {
	Register(Kind{
		Name: "closing_lines", Finds: "records at the end that were set aside as totals or notes",
		Threshold: "one",
		OfTable: func(t *Table) []Lead {
			n := int64(len(t.Closing))
			if n == 0 {
				return nil
			}
			return []Lead{{Rows: 0, Sure: 0.9, Says: fmt.Sprintf("%s at the end %s set aside, as totals or notes: %s.",
				document.Counted(n, "record", "records"), document.Plural(n, "is", "are"), document.First(quotedTexts(t.Closing)))}}
		},
	})
}

func quotedTexts(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = fmt.Sprintf("%q", t)
	}
	return out
}

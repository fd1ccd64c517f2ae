package intake

import (
	"proudsieve/core/intake/content"
	// The formats other than delimited text register themselves.
	_ "proudsieve/core/intake/json"
	_ "proudsieve/core/intake/parquet"
	_ "proudsieve/core/intake/workbook"
)

// Delimited is the format of delimited text, which every text is that is of no other.
const Delimited = "delimited"

func init() {
	content.Register(content.Format{Name: Delimited, Title: "delimited text",
		Because: "it starts as none of the other formats does", Place: 1000,
		Recognises: func([]byte) bool { return true }})
}

// Formats lists the formats that can be declared.
func Formats() []string { return content.Formats() }

// Guide lists every format with what it is known by, as a table in Markdown.
func Guide() string { return content.Guide() }

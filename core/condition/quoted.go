package condition

import (
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/table"
)

// plainName is a name that needs no quotes, unless it is one of the words of the language.
var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

var ownWords = []string{"DATE", "TIMESTAMP", "INTERVAL", "TRUE", "FALSE", "NULL", "WHEN", "THEN", "ELSE", "END", "ESCAPE",
	"UNKNOWN", "DISTINCT", "FROM", "FOR", "CAST", "EXTRACT", "TRIM", "SUBSTRING", "POSITION"}

// Column writes the name of a column as a condition has it.
func Column(name string) string {
	if upper := strings.ToUpper(name); plainName.MatchString(name) && !slices.Contains(reserved, upper) &&
		!slices.Contains(ownWords, upper) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// Text writes a text as a condition has it.
func Text(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// Literal writes a value as a condition has it.
func Literal(v table.Value) string {
	switch v.Kind {
	case table.Text:
		return Text(v.Text)
	case table.Date:
		return "DATE '" + v.Standard() + "'"
	case table.Instant:
		return "TIMESTAMP '" + v.Standard() + "'"
	case table.Missing:
		return "NULL"
	}
	return v.Standard()
}

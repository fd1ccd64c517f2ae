package rulebook

import (
	"fmt"
	"strings"
)

// Guide lists every kind of rule with the fields that it takes, as a table in Markdown: what the
// kinds say of themselves.
func Guide() string {
	var b strings.Builder
	b.WriteString("| where | kind | field | what it declares |\n|---|---|---|---|\n")
	for i := range sections {
		s := &sections[i]
		for _, k := range KindsOf(s.Name) {
			name := k.Name
			if s.Checked {
				name = "check: " + name
			}
			for at, f := range k.Fields {
				where, kind := "", ""
				if at == 0 {
					where, kind = "`"+s.Name+"`", "`"+name+"`"
				}
				needed := ""
				if f.Required {
					needed = " (needed)"
				}
				fmt.Fprintf(&b, "| %s | %s | `%s` | %s%s |\n", where, kind, f.Name, lowered(f.Says), needed)
			}
			if len(k.Fields) == 0 {
				fmt.Fprintf(&b, "| `%s` | `%s` | | %s |\n", s.Name, name, k.Says)
			}
		}
	}
	return b.String()
}

// lowered begins what a form says as the middle of a sentence.
func lowered(says string) string { return strings.ToLower(says[:1]) + says[1:] }

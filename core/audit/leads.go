package audit

import (
	"fmt"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Role is what a column probably is.
type Role string

// The roles.
const (
	RoleIdentifier Role = "identifier" // names the row
	RoleCategory   Role = "category"   // groups rows
	RoleMeasure    Role = "measure"    // is summed or averaged
	RoleDate       Role = "date"
	RoleText       Role = "free text"
	RoleEmpty      Role = "empty"
)

// UnmarshalText reads a role; the word of earlier versions for a category is understood.
func (r *Role) UnmarshalText(text []byte) error {
	if *r = Role(text); *r == "dimension" {
		*r = RoleCategory
	}
	return nil
}

// roleOf proposes a role by how many different values there are, and of which kind.
func roleOf(c *Column, rows int64) Role {
	filled, distinct := float64(c.Filled), float64(c.Distinct)*(1+3*c.DistinctError)
	switch {
	case c.Filled == 0:
		return RoleEmpty
	case c.Type == table.TypeDate || c.Type == table.TypeDateTime:
		return RoleDate
	case c.Type == table.TypeDecimal:
		return RoleMeasure
	case c.Filled*10 >= rows*9 && distinct >= 0.98*filled && filled > 2 && c.Longest <= 64:
		return RoleIdentifier
	case c.Type == table.TypeInteger && c.Distinct > 50:
		return RoleMeasure
	case c.Type == table.TypeBoolean || c.Type == table.TypeCode || c.Distinct <= 50 || distinct <= 0.05*filled:
		return RoleCategory
	case c.Type == table.TypeInteger:
		return RoleMeasure
	}
	return RoleText
}

// Lead is something suspicious that no rule asked about.
type Lead struct {
	Column string `json:"column"`
	Kind   string `json:"kind"`
	Says   string `json:"says"`
	Rows   int64  `json:"rows"`
}

// nearlyConstant is the share of its filled cells, in thousandths, that one value of a nearly constant column has.
const nearlyConstant = 995

// leads says what looks odd in the columns.
func leads(r *Result) []Lead {
	out := []Lead{}
	for i := range r.Columns {
		c := &r.Columns[i]
		add := func(kind string, rows int64, says string, args ...any) {
			out = append(out, Lead{c.Name, kind, fmt.Sprintf(says, args...), rows})
		}
		if c.Filled == 0 {
			if r.Rows > 0 {
				add("empty", r.Rows, "%s is empty.", c.Name)
			}
			continue
		}
		if c.Distinct == 1 && r.Rows > 1 {
			add("constant", c.Filled, "Every filled cell of %s is %q.", c.Name, c.Frequent[0].Text)
		} else if len(c.Frequent) > 0 && c.Filled > 100 && c.Frequent[0].Rows*1000 >= c.Filled*nearlyConstant {
			add("nearly_constant", c.Filled-c.Frequent[0].Rows, "%s is %q in all but %s of its filled cells.", c.Name,
				c.Frequent[0].Text, document.Grouped(c.Filled-c.Frequent[0].Rows))
		}
		if s := c.Spaces; s.Any > 0 {
			var kinds []string
			for _, k := range []struct {
				n    int64
				says string
			}{{s.Leading, "before"}, {s.Trailing, "after"}, {s.Doubled, "doubled inside"}, {s.Invisible,
				"invisible or unusual"}} {
				if k.n > 0 {
					kinds = append(kinds, fmt.Sprintf("%s %s", document.Grouped(k.n), k.says))
				}
			}
			add("spaces", s.Any, "%s of %s %s stray spaces: %s.",
				document.Plural(s.Any, "1 cell", document.Grouped(s.Any)+" cells"), c.Name,
				document.Plural(s.Any, "has", "have"), strings.Join(kinds, ", "))
		}
		if c.Mistyped > 0 && !c.Declared {
			add("type", c.Mistyped, "%s %s in %s %s no %s.", document.Grouped(c.Mistyped), document.Plural(c.Mistyped,
				"value", "values"), c.Name, document.Plural(c.Mistyped, "is", "are"), c.Type)
		}
		if n := c.Numbers; n != nil {
			if beyond := n.Outliers.Below + n.Outliers.Above; beyond > 0 && c.Role == RoleMeasure &&
				beyond*20 <= n.Count {
				add("outliers", beyond, "%s %s of %s %s beyond the fences at %s and %s.", document.Grouped(beyond),
					document.Plural(beyond, "number", "numbers"), c.Name, document.Plural(beyond, "lies", "lie"),
					document.Figure(n.Outliers.LowFence), document.Figure(n.Outliers.HighFence))
			}
		}
		if d := c.Dates; d != nil && d.LastPartial {
			last := d.Periods[len(d.Periods)-1]
			add("last_period", last.Rows, "The last %s of %s, %s, is only partly there: %s rows, up to %s.", d.Unit,
				c.Name, last.Start, document.Grouped(last.Rows), c.Highest)
		}
	}
	return out
}

package audit

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
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
	case c.Type == table.TypeInteger && c.Distinct > 50 && !oneAfterAnother(c):
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

// oneAfterAnother reports whether whole numbers lie as those do that were given one after another: half of those between
// the 5th and the 95th of a hundred are there.
func oneAfterAnother(c *Column) bool {
	if c.Numbers == nil { // none of its texts is a number
		return false
	}
	low, high := 0.0, 0.0
	for _, q := range c.Numbers.Quantiles {
		switch q.Share {
		case 0.05:
			low = q.Number
		case 0.95:
			high = q.Number
		}
	}
	return high-low <= 2*0.9*float64(c.Filled)
}

// Lead is something suspicious that no rule asked about.
type Lead = leads.Lead

// known lays out what the leads are found by.
func (r *run) known(out *Result) *leads.Table {
	t := out.known()
	t.Closing = out.Closing
	if b := r.plan.book.Beside; b != nil {
		t.Past = b.Past
	}
	out.looks = make([]leads.Looks, len(t.Columns))
	for c := range t.Columns {
		j := r.plan.judges[c]
		if t.Columns[c].Cells = j.cells; j.cells.Open {
			t.Columns[c].Looks = r.census[c].looks(j.cells)
			out.looks[c] = t.Columns[c].Looks
		}
	}
	for _, check := range r.plan.checks {
		asked(t, check.Declared)
	}
	return t
}

// known lays out what a result alone tells.
func (r *Result) known() *leads.Table {
	t := &leads.Table{Rows: r.Rows, Columns: make([]leads.Column, len(r.Columns))}
	for c := range r.Columns {
		from := &r.Columns[c]
		t.Columns[c] = leads.Column{Name: from.Name, Type: from.Type, Declared: from.Declared, Column: &from.Column,
			Estimated: from.Estimated > 0, Gaps: from.Gaps}
	}
	return t
}

// asked notes what a rule asks already.
func asked(t *leads.Table, d *rulebook.Declared) {
	if d.Kind.FindingKind() == rulebook.EqualRowsID {
		t.AsksEqualRows = true
	}
	for c := range t.Columns {
		of := &t.Columns[c].Asked
		switch {
		case !slices.Contains(d.Rule.Columns(), t.Columns[c].Name):
		case d.Kind.Section == "keys":
			of.Key = true
		case d.Kind.Name == "required":
			of.Filled = true
		case d.Kind.Name == "codes" || d.Kind.Name == "spelling":
			of.Codes = true
		case d.Kind.Name == "range":
			of.Range = true
		}
	}
}

// looks lays out what the texts of an open column look like.
func (c census) looks(cells *rulebook.Cells) leads.Looks {
	out := leads.Looks{Padded: c.of(rulebook.LooksPadded)}
	patterns, _ := cells.Patterns()
	var all rulebook.Looks
	for i := range patterns {
		all |= rulebook.LooksPattern << i
	}
	for _, one := range c {
		if fit := one.looks & all; fit&(fit-1) != 0 {
			out.Either += one.rows
		}
	}
	for i, p := range patterns {
		bit := rulebook.LooksPattern << i
		alone := int64(0)
		for _, one := range c {
			if one.looks&all == bit {
				alone += one.rows
			}
		}
		if alone > 0 {
			out.Orders = append(out.Orders, profile.Frequency{Text: p.String(), Rows: alone})
		}
	}
	slices.SortStableFunc(out.Orders, func(a, b profile.Frequency) int { return cmp.Compare(b.Rows, a.Rows) })
	if len(out.Orders) == 0 && out.Either > 0 {
		out.Undecided = true
		for _, p := range patterns {
			out.Orders = append(out.Orders, profile.Frequency{Text: p.String(), Rows: out.Either})
		}
	}
	return out
}

// LookAgain looks for leads that take another reading of a table that was audited just now, and adds them to its result.
func (r *Result) LookAgain(ctx context.Context, source table.Source, workers int) error {
	t := r.known()
	for _, d := range r.book.Rules {
		asked(t, d)
	}
	for c := range t.Columns {
		t.Columns[c].Cells = r.book.Cells(t.Columns[c].Name)
		if r.looks != nil {
			t.Columns[c].Looks = r.looks[c]
		}
	}
	r.Leads, r.MeantSo = append(r.Leads, r.MeantSo...), nil
	found, err := leads.FindAgain(ctx, t, &relation.Table{Source: source, Book: r.book, Workers: workers}, r.Leads)
	if err != nil {
		return err
	}
	r.Leads = slices.DeleteFunc(leads.Settled(append(r.Leads, found...)), r.tells)
	leads.Order(r.Leads)
	r.meant(r.book)
	return nil
}

// KeyCandidates lists the columns that may be parts of a key, for relation.Keys.
func (r *Result) KeyCandidates() []relation.Candidate {
	out := make([]relation.Candidate, len(r.Columns))
	for i := range r.Columns {
		c := &r.Columns[i]
		out[i] = relation.Candidate{Name: c.Name, Distinct: c.Distinct, DistinctError: c.DistinctError, Missing: c.Missing,
			Fractional: c.Numbers != nil && c.Type == table.TypeDecimal, Date: c.Dates != nil}
	}
	return out
}

// tells reports whether a finding tells what a lead does, so that it need not be told again.
func (r *Result) tells(l Lead) bool {
	return slices.ContainsFunc(r.Findings, func(f Finding) bool {
		if l.Column == "" || !slices.Contains(f.Columns, l.Column) || f.Rows < l.Rows {
			return false
		}
		if len(l.FirstRows) > 0 {
			return !slices.ContainsFunc(l.FirstRows, func(row uint32) bool { return !f.RowSet.Contains(row) })
		}
		return len(l.Texts) > 0 && !slices.ContainsFunc(l.Texts, func(t profile.Frequency) bool {
			return !slices.ContainsFunc(f.Texts, func(o profile.Frequency) bool { return o.Text == t.Text })
		})
	})
}

// meant takes out of the leads what the rulebook says is meant so, and says of the others by how much they have grown.
func (r *Result) meant(book *rulebook.Rulebook) {
	kept := r.Leads[:0]
	for _, l := range r.Leads {
		texts := make([]string, len(l.Texts))
		for i, t := range l.Texts {
			texts[i] = t.Text
		}
		covered := false
		for i := range book.MeantSo {
			m := &book.MeantSo[i]
			covers, grown := m.Covers(l.Kind, l.Columns, texts, l.Rows)
			covered = covered || covers
			grown = grown && !strings.Contains(l.Says, "meant so.")
			if grown && m.AtMost > 0 && l.Rows > int64(m.AtMost) {
				l.Says += fmt.Sprintf(" That is %s more than was meant so.", document.Grouped(l.Rows-int64(m.AtMost)))
			} else if grown {
				l.Says += " Not all of these texts were meant so."
			}
		}
		if covered {
			r.MeantSo = append(r.MeantSo, l)
		} else {
			kept = append(kept, l)
		}
	}
	r.Leads = kept
}

// MeantSoIn writes into the text of a rulebook that a lead, by its kind and column, is meant so: of its texts, and of as
// many rows as it speaks of. Comments and order stay. What was written of it before is replaced.
func (r *Result) MeantSoIn(source, kind, column, reason string) (string, error) {
	at := slices.IndexFunc(r.Leads, func(l Lead) bool { return l.Kind == kind && l.Column == column })
	if at < 0 {
		return "", fmt.Errorf("there is no lead %q of %q to be meant so", kind, column)
	}
	l := r.Leads[at]
	id := rulebook.IDOf(kind + "_" + column)
	var changes []edit.Change
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		return "", err
	}
	for _, m := range book.MeantSo {
		if m.ID == id {
			changes = append(changes, edit.Change{Section: rulebook.MeantSoSection, Item: id, Remove: true})
		}
	}
	fields := []edit.Field{{Name: "id", Value: id}, {Name: "lead", Value: kind}}
	if len(l.Columns) > 0 {
		fields = append(fields, edit.Field{Name: "columns", Values: l.Columns})
	}
	if len(l.Texts) > 0 {
		texts := make([]string, len(l.Texts))
		for i, t := range l.Texts {
			texts[i] = t.Text
		}
		fields = append(fields, edit.Field{Name: "texts", Values: texts})
	}
	if l.Rows > 0 {
		fields = append(fields, edit.Field{Name: "at_most", Value: strconv.FormatInt(l.Rows, 10)})
	}
	fields = append(fields, edit.Field{Name: "reason", Value: reason})
	return edit.Apply(source, append(changes, edit.Change{Section: rulebook.MeantSoSection, Add: true, Fields: fields}))
}

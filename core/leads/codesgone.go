package leads

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

const (
	// goneExpected is how many rows of a code would be there now, were they as frequent as before; that there is none
	// then has a chance of e to the minus 10.
	goneExpected = 10
	// goneOthers is how many codes are still there for one that is gone: where more change, the column goes with the period.
	goneOthers = 2
)

func init() {
	Register(Kind{
		Name: "codes_gone", Like: "Codes of %d columns that the last delivery had no longer occur: %s.",
		Finds:     "codes of the delivery before that no longer occur",
		Threshold: "a column of texts all of whose values are listed; ten rows now, were the code as frequent as before; one gone for two that are there, however they are spelled",
		OfColumn:  codesGone,
	})
}

func codesGone(t *Table, c *Column) []Lead {
	if len(t.Past) == 0 || c.Numbers != nil || c.Dates != nil {
		return nil
	}
	before := &t.Past[0]
	then := before.Column(c.Name)
	if then == nil || then.Numbers != nil || then.Dates != nil || before.Rows == 0 {
		return nil
	}
	old, known := then.All()
	now, also := c.All()
	if !known || !also {
		return nil
	}
	here := map[string]bool{}
	for _, v := range now {
		here[table.Fold(v.Text)] = true
	}
	var gone []profile.Frequency
	rows, still := int64(0), 0
	for _, v := range old {
		switch {
		case here[table.Fold(v.Text)]:
			still++
		case v.Rows*t.Rows >= goneExpected*before.Rows:
			gone = append(gone, v)
			rows += v.Rows
		}
	}
	if len(gone) == 0 || len(gone)*goneOthers > still {
		return nil
	}
	return []Lead{{Texts: gone, Share: float64(rows) / float64(before.Rows), Sure: 0.6, Says: fmt.Sprintf(
		"%s of %s that stood in %s of the last delivery no longer %s: %s.", document.Counted(int64(len(gone)), "code", "codes"),
		c.Name, document.Counted(rows, "row", "rows"), document.Plural(int64(len(gone)), "occurs", "occur"), quoted(byRows(gone)))}}
}

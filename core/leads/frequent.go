package leads

import (
	"fmt"
	"math"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

const (
	// oftenTimes is how many times as often as the second a number or date far too frequent stands there.
	oftenTimes = 8
	// oftenAtLeast is in how many rows it stands at least.
	oftenAtLeast = 10
	// zerosAtHome is the part, one in so many, of a column from which on zeros are how its numbers lie.
	zerosAtHome = 5
)

func init() {
	Register(Kind{
		Name: "frequent_value", Like: "%d columns hold one value far too often: %s.",
		Finds:     "one number, date or time far too frequent for its column",
		Threshold: "50 different values or more; in ten rows or more, in 1 % of the filled cells, and 8 times as often as the second",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Numbers == nil && c.Dates == nil || c.Distinct < 50 || len(c.Frequent) < 2 || c.AtLeast {
				return nil
			}
			first, second := c.Frequent[0], c.Frequent[1]
			if first.Rows < oftenAtLeast || first.Rows*100 < c.Filled || first.Rows < oftenTimes*second.Rows {
				return nil
			}
			sure := 0.8
			if x, ok := table.ParseDecimal(first.Text); ok && x.Sign() == 0 {
				if first.Rows*zerosAtHome > c.Filled {
					return nil
				}
				sure = 0.4 // nothing was there: rain, a dry river
			}
			written := first.Text
			if v, ok := c.Cells.Read(first.Text), c.Dates != nil; ok {
				written = map[table.Kind]string{table.Date: "DATE ", table.Instant: "TIMESTAMP "}[v.Value.Kind] +
					condition.Text(v.Value.Standard())
			}
			return []Lead{{Rows: first.Rows, Texts: []profile.Frequency{first}, Sure: sure,
				Condition: condition.Column(c.Name) + " <> " + written, Says: fmt.Sprintf(
					"%s of %s %s %q; the next most frequent value stands in %s.", document.Counted(first.Rows, "cell", "cells"), c.Name,
					document.Plural(first.Rows, "is", "are"), first.Text, document.Counted(second.Rows, "cell", "cells"))}}
		},
	})
	Register(Kind{
		Name: "zero", Finds: "a zero where numbers are never near it",
		Threshold: "zeros in at most a tenth of the numbers; all others beyond half of their first quartile",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Numbers == nil || c.Lowest == "" {
				return nil
			}
			lowest, ok := table.ParseDecimal(c.Lowest)
			if !ok || lowest.Sign() != 0 {
				return nil
			}
			zeros := profile.Frequency{}
			next := math.Inf(1)
			for _, one := range c.seen() {
				if x, ok := table.ParseDecimal(one.Text); ok {
					if x.Sign() == 0 {
						zeros.Text, zeros.Rows = one.Text, zeros.Rows+one.Rows
					} else {
						next = min(next, x.Float())
					}
				}
			}
			first := quartile(c, 0.25)
			if _, all := c.All(); !all && len(c.Numbers.Histogram.Rows) > 1 { // the others are known by their bins
				h := c.Numbers.Histogram
				for i := 1; i < len(h.Rows) && h.From <= 0 && h.From+h.Width > 0; i++ {
					if h.Rows[i] > 0 {
						next = h.From + float64(i)*h.Width
						break
					}
				}
				if h.From > 0 && h.Below == zeros.Rows {
					next = h.From
				}
			}
			if zeros.Rows == 0 || zeros.Rows*10 > c.Numbers.Count || c.Numbers.Count < 20 || !(next >= first/2) || first <= 0 {
				return nil
			}
			return []Lead{{Rows: zeros.Rows, Texts: []profile.Frequency{zeros}, Sure: 0.8,
				Condition: condition.Column(c.Name) + " <> 0", Says: fmt.Sprintf(
					"%s of %s %s 0, and no other is below %s.", document.Counted(zeros.Rows, "number", "numbers"), c.Name,
					document.Plural(zeros.Rows, "is", "are"), document.Figure(next))}}
		},
	})
}

// quartile returns a quantile of a column's numbers.
func quartile(c *Column, share float64) float64 {
	for _, q := range c.Numbers.Quantiles {
		if q.Share == share {
			return q.Number
		}
	}
	return math.NaN()
}

package cli

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/relation"
)

const barWidth = 40

// oneColumn shows everything about a column.
func (o *output) oneColumn(s *sifted, name string) error {
	at := slices.IndexFunc(s.Columns, func(c audit.Column) bool { return c.Name == name })
	if at < 0 {
		names := make([]string, len(s.Columns))
		for i, c := range s.Columns {
			names[i] = c.Name
		}
		return fmt.Errorf("%s has no column %q%s", s.File.Name, name, document.Nearest(name, names))
	}
	c := &s.Columns[at]
	o.line("%s  %s, %s, in %s", o.styled("1", safe(c.Name)), c.Role, c.Type, safe(s.File.Name))
	o.line("%s of %s cells are filled, with %s different values.", count(c.Filled), count(s.Rows), distinct(c))
	for _, l := range s.Leads {
		if l.Column == name {
			o.line("%s", safe(l.Says))
		}
	}
	if n := c.Numbers; n != nil {
		o.numbers(c, n)
	}
	if c.Dates != nil {
		o.line("")
		o.line("%s to %s, by %s; %d of them without any", c.Lowest, c.Highest, c.Dates.Unit, c.Dates.Empty)
		bars := make([]profile.Frequency, len(c.Dates.Periods))
		for i, p := range c.Dates.Periods {
			bars[i] = profile.Frequency{Text: p.Start, Rows: p.Rows}
		}
		o.bars(bars, 60)
	}
	title := "Most frequent"
	if c.AtLeast {
		title += " (at least so often, since not all values are counted)"
	}
	o.frequencies(title, c.Frequent)
	o.frequencies("Least frequent", c.Rare)
	o.frequencies("Exceptions to the type", c.Exceptions)
	shapes := "Shapes"
	if c.MoreShapes {
		shapes += " (there are more)"
	}
	o.frequencies(shapes, c.Shapes)
	o.line("")
	o.line("Lengths from %d to %d characters.", c.Shortest, c.Longest)
	return nil
}

func (o *output) numbers(c *audit.Column, n *profile.Spread) {
	o.line("")
	g := newGrid("", ">", "", ">")
	text := func(x *float64) string {
		if x == nil {
			return ""
		}
		return document.Figure(*x)
	}
	named := map[float64]string{0: "lowest", 0.25: "first quartile", 0.5: "median", 0.75: "third quartile",
		1: "highest"}
	var quantiles [][2]string
	for _, q := range n.Quantiles {
		name := named[q.Share]
		if name == "" {
			name = fmt.Sprintf("%g%% lie below", 100*q.Share)
		}
		quantiles = append(quantiles, [2]string{name, document.Figure(q.Number)})
	}
	moments := [][2]string{{"numbers", count(n.Count)}, {"sum", c.Sum}, {"mean", shortNumber(c.Mean)},
		{"deviation", text(n.Deviation)}, {"skewness", text(n.Skewness)},
		{"beyond the low fence", count(n.Outliers.Below)}, {"beyond the high fence", count(n.Outliers.Above)},
		{"fences at", document.Figure(n.Outliers.LowFence) + " and " + document.Figure(n.Outliers.HighFence)}, {"", ""}}
	for i := range quantiles {
		g.add(quantiles[i][0], quantiles[i][1], moments[i][0], moments[i][1])
	}
	o.grid(g, "")
	if n.QuantileError > 0 {
		o.line("Since there are too many different numbers, quantiles are estimates, off by %.2g%% of themselves at most;",
			100*n.QuantileError)
		o.line("%s numbers may belong to the bar beside theirs, and %s to the other side of a fence.",
			count(n.Histogram.Unsure), count(n.Outliers.Unsure))
	}
	o.line("")
	h := n.Histogram
	bars := make([]profile.Frequency, 0, len(h.Rows)+2)
	if h.Below > 0 {
		bars = append(bars, profile.Frequency{Text: "below", Rows: h.Below})
	}
	for i, rows := range h.Rows {
		bars = append(bars, profile.Frequency{Text: "from " + document.Figure(rounded(h.From+float64(i)*h.Width, h.Width)), Rows: rows})
	}
	if h.Above > 0 {
		bars = append(bars, profile.Frequency{Text: "above", Rows: h.Above})
	}
	o.bars(bars, len(bars))
}

// rounded takes off what binary numbers add to an edge of bins of some width.
func rounded(edge, width float64) float64 {
	unit := math.Pow10(3 - int(math.Floor(math.Log10(width))))
	if math.IsInf(unit, 0) || unit == 0 {
		return edge
	}
	return math.Round(edge*unit) / unit
}

func (o *output) frequencies(title string, of []profile.Frequency) {
	if len(of) == 0 {
		return
	}
	o.line("")
	o.line("%s", o.styled("1", title))
	o.bars(of, len(of))
}

// bars draws a bar for each count; the longest is full.
func (o *output) bars(of []profile.Frequency, shown int) {
	most := int64(1)
	for _, f := range of {
		most = max(most, f.Rows)
	}
	g := newGrid("", ">", "*")
	for _, f := range of[:min(len(of), shown)] {
		length := int(math.Ceil(float64(f.Rows) / float64(most) * barWidth))
		g.add(visible(shorten(f.Text, 40)), count(f.Rows), strings.Repeat("█", length))
	}
	o.grid(g, "")
	if n := len(of) - shown; n > 0 {
		o.line("and %d more", n)
	}
}

type correlated struct {
	first, second     string
	pearson, spearman *float64
	pairs             int64
	trending          bool
	apart             *float64
}

// alongOf names what the rows of a table run along.
func alongOf(c *relation.Correlations) string {
	if c.Along == "" {
		return "the order of the rows"
	}
	return c.Along
}

// strongest lists the pairs of columns with the strongest correlation.
func strongest(c *relation.Correlations, most int) []correlated {
	var out []correlated
	for i := range c.Columns {
		for j := range i {
			if c.Pearson[i][j] != nil {
				out = append(out, correlated{c.Columns[j], c.Columns[i], c.Pearson[i][j], c.Spearman[i][j],
					c.Pairs[i][j], c.Trending[i][j], c.Apart[i][j]})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b correlated) int {
		return cmp.Compare(math.Abs(*b.pearson), math.Abs(*a.pearson))
	})
	return out[:min(len(out), most)]
}

func signed(x *float64) string {
	if x == nil {
		return ""
	}
	return fmt.Sprintf("%+.3f", *x)
}

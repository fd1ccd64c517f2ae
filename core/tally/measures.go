package tally

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// Measure is what is told of the rows of a group.
type Measure struct {
	Kind string `json:"kind" doc:"rows, filled, distinct, sum, mean, median, first_quartile, third_quartile, lowest or highest"`
	Of   string `json:"of,omitempty" doc:"An expression: a column, or what is made of several; not of rows"`
	// Share tells it as a share in percent, of rows, filled and sum alone.
	Share string `json:"share,omitempty" enum:",all,row,column,before" doc:"Of what it is told as a share, in percent, or before for its change against the period before; of itself where this is left out"`
}

// The wholes of which a measure is told as a share: all rows, or those of the same group of the first expression (a row of
// the table) or of the second (a column).
const (
	ShareOfAll    = "all"
	ShareOfRow    = "row"
	ShareOfColumn = "column"
	// ShareOfBefore tells a measure as its change in percent against the period before.
	ShareOfBefore = "before"
)

// Name is what the measure is called by: its kind, and of what.
func (m Measure) Name() string {
	name := m.Kind
	if m.Of != "" {
		name += " " + m.Of
	}
	switch m.Share {
	case "":
	case ShareOfBefore:
		name += ", % more than before"
	default:
		name += ", % of " + m.Share
	}
	return name
}

// MeasureOf reads a measure as people write it: its kind, and of what, as "sum flow * depth".
func MeasureOf(text string) Measure {
	kind, of, _ := strings.Cut(strings.TrimSpace(text), " ")
	return Measure{Kind: kind, Of: strings.TrimSpace(of)}
}

// MeasureRows counts rows.
const MeasureRows = "rows"

// measureKind is a kind of measure.
type measureKind struct {
	place   int
	rows    bool // it is of rows, and of no expression
	number  bool // it is of numbers alone
	counted bool // it needs the values to be held
	adds    bool // that of a whole is the sum of those of its parts
	tell    func(rows int64, of *gatheredOf) (text string, exact bool)
	one     func(of *gatheredOf) *table.Value // it is one of the values; nil where it is a number that is made of them
}

// valueOf is a kind that tells of one of the values.
func valueOf(place int, one func(of *gatheredOf) *table.Value) *measureKind {
	return &measureKind{place: place, one: one, tell: func(_ int64, of *gatheredOf) (string, bool) { return one(of).Identity(), true }}
}

func wholeNumber(n int64) string { return table.DecimalOf(n, 0).Shortest() }

func quantileOf(share table.Decimal) func(int64, *gatheredOf) (string, bool) {
	return func(_ int64, of *gatheredOf) (string, bool) {
		d, exact, ok := of.counted.Quantile(share)
		if !ok {
			return "", true
		}
		return d.Shortest(), exact
	}
}

var measureKinds = map[string]*measureKind{
	MeasureRows: {place: 0, rows: true, adds: true, tell: func(rows int64, _ *gatheredOf) (string, bool) { return wholeNumber(rows), true }},
	"filled":    {place: 1, adds: true, tell: func(_ int64, of *gatheredOf) (string, bool) { return wholeNumber(of.filled), true }},
	"distinct": {place: 2, counted: true, tell: func(_ int64, of *gatheredOf) (string, bool) {
		n, exact := of.counted.Distinct()
		return wholeNumber(n), exact
	}},
	"sum": {place: 3, number: true, adds: true, tell: func(_ int64, of *gatheredOf) (string, bool) {
		if of.filled == 0 {
			return "", true
		}
		return of.sum.Shortest(), true
	}},
	"mean": {place: 4, number: true, tell: func(_ int64, of *gatheredOf) (string, bool) {
		if of.filled == 0 {
			return "", true
		}
		mean, _ := of.sum.Div(table.DecimalOf(of.filled, 0))
		return mean.Shortest(), true
	}},
	"median":         {place: 5, number: true, counted: true, tell: quantileOf(table.DecimalOf(50, 2))},
	"first_quartile": {place: 6, number: true, counted: true, tell: quantileOf(table.DecimalOf(25, 2))},
	"third_quartile": {place: 7, number: true, counted: true, tell: quantileOf(table.DecimalOf(75, 2))},
	"lowest":         valueOf(8, func(of *gatheredOf) *table.Value { return &of.lowest }),
	"highest":        valueOf(9, func(of *gatheredOf) *table.Value { return &of.highest }),
}

// MeasureKinds lists the kinds of measures.
func MeasureKinds() []string {
	return slices.SortedFunc(maps.Keys(measureKinds), func(a, b string) int { return measureKinds[a].place - measureKinds[b].place })
}

// gatheredOf is what is known of the values of an expression in a group.
type gatheredOf struct {
	filled          int64
	sum             table.Decimal
	lowest, highest table.Value
	counted         profile.Counted
}

// add takes in a value that so many rows have.
func (g *gatheredOf) add(v *table.Value, rows int64, counted bool) {
	g.extend(v)
	if g.filled += rows; v.Kind == table.Number {
		g.sum = g.sum.Add(v.Number.Times(rows))
	}
	if counted {
		g.counted.Add(v, rows)
	}
}

func (g *gatheredOf) extend(v *table.Value) {
	if g.lowest.Kind == table.Missing || table.Compare(*v, g.lowest) < 0 {
		g.lowest = lasting(v)
	}
	if g.highest.Kind == table.Missing || table.Compare(*v, g.highest) > 0 {
		g.highest = lasting(v)
	}
}

// lasting returns a value whose text may stand in the bytes of a batch, to be kept beyond it.
func lasting(v *table.Value) table.Value {
	out := *v
	out.Text = strings.Clone(v.Text)
	return out
}

func (g *gathered) merge(o *gathered) {
	g.rows += o.rows
	for i := range o.of {
		a, b := &g.of[i], &o.of[i]
		if b.filled == 0 {
			continue
		}
		a.filled += b.filled
		a.sum = a.sum.Add(b.sum)
		a.extend(&b.lowest)
		a.extend(&b.highest)
		a.counted.Merge(&b.counted)
	}
}

// held is how many values are held.
func (g *gathered) held() (n int) {
	for i := range g.of {
		n += g.of[i].counted.Len()
	}
	return n
}

// gather merges what may become of many groups, and is estimated where it holds too many values.
func (g *gathered) gather(o *gathered) {
	if g.merge(o); g.held() > valuesHeld {
		g.estimate(valuesWorth)
	}
}

// estimate lets go of values where more than so many are held, and returns how many, and how often.
func (g *gathered) estimate(worth int) (values, times int) {
	for i := range g.of {
		c := &g.of[i].counted
		if n := c.Len(); n > worth {
			c.Estimate()
			values, times = values+n, times+1
		}
	}
	return values, times
}

// shareOf tells a part of a whole in percent, to six digits; nothing where the whole is.
func shareOf(part, whole string) string {
	a, ok := table.ParseDecimal(part)
	b, also := table.ParseDecimal(whole)
	if !ok || !also || b.Sign() == 0 {
		return ""
	}
	return strconv.FormatFloat(100*a.Float()/b.Float(), 'g', 6, 64)
}

// changeOf tells how many percent more a value is than the one before, to six digits; nothing where that is zero or none.
func changeOf(before, now string) string {
	a, ok := table.ParseDecimal(before)
	b, also := table.ParseDecimal(now)
	if !ok || !also || a.Sign() == 0 {
		return ""
	}
	return strconv.FormatFloat(100*b.Sub(a).Float()/a.Abs().Float(), 'g', 6, 64)
}

package relation

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/table"
)

// Crossing is a cross-tabulation of two columns.
type Crossing struct {
	Down     string   `json:"down"`             // the column whose values stand beside the rows
	Across   string   `json:"across,omitempty"` // the one whose values stand above the columns; empty for none
	Measure  string   `json:"measure,omitempty"`
	Downs    []string `json:"downs"` // values, the most frequent first; missing ones are "" and come last
	Acrosses []string `json:"acrosses"`
	// Cells holds the cells by down and across. The last of each, where More says so, gathers
	// all values beyond the MostValues most frequent.
	Cells      [][]Crossed `json:"cells"`
	MoreDowns  int         `json:"more_downs,omitempty"`
	MoreAcross int         `json:"more_across,omitempty"`
	Rows       int64       `json:"rows"`
	Sum        string      `json:"sum,omitempty"` // of the measure over all rows, exact
}

// Crossed is one cell of a cross-tabulation.
type Crossed struct {
	Rows    int64  `json:"rows"`
	Numbers int64  `json:"numbers,omitempty"` // of the measure
	Sum     string `json:"sum,omitempty"`     // exact
	Mean    string `json:"mean,omitempty"`
}

const (
	// MostValues is how many values of a column are shown on their own.
	MostValues = 40
	// crossedCap bounds how many pairs of values are held.
	crossedCap = 1 << 20
)

// ErrTooManyPairs says that two columns have too many pairs of values to be crossed.
var ErrTooManyPairs = fmt.Errorf("the two columns have more than %d different pairs of values; choose one with fewer",
	crossedCap)

type pair struct{ down, across string }

type crossed struct {
	rows, numbers int64
	sum           table.Decimal
}

type crossing struct {
	cells map[pair]*crossed
	over  bool
}

func (c *crossing) at(p pair) *crossed {
	one := c.cells[p]
	if one == nil {
		if len(c.cells) >= crossedCap {
			c.over = true
			return nil
		}
		p.down, p.across = strings.Clone(p.down), strings.Clone(p.across)
		one = &crossed{}
		c.cells[p] = one
	}
	return one
}

// Cross counts the rows by the values of one or two columns, and sums a measure over
// them. rows, unless nil, are those that count.
func Cross(ctx context.Context, t *Table, down, across, measure string, rows *table.RowSet) (*Crossing, error) {
	names := []string{down}
	if across != "" {
		names = append(names, across)
	}
	if measure != "" {
		names = append(names, measure)
	}
	at, err := t.positions(names)
	if err != nil {
		return nil, err
	}
	begin := func() *crossing { return &crossing{cells: map[pair]*crossed{}} }
	work := func(c *crossing, r *Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if rows != nil && !rows.Contains(row) {
				continue
			}
			p := pair{down: value(r, b, 0, k)}
			if across != "" {
				p.across = value(r, b, 1, k)
			}
			one := c.at(p)
			if one == nil {
				return
			}
			one.rows++
			if measure == "" {
				continue
			}
			if v := r.Cell(b, len(at)-1, k).Value; v.Kind == table.Number {
				one.numbers++
				one.sum = one.sum.Add(v.Number)
			}
		}
	}
	whole := begin()
	if err := Scan(ctx, t, at, begin, work, func(c *crossing) {
		whole.over = whole.over || c.over
		for p, one := range c.cells {
			if to := whole.at(p); to != nil {
				to.merge(one)
			}
		}
	}); err != nil {
		return nil, err
	}
	if whole.over {
		return nil, ErrTooManyPairs
	}
	return whole.shown(down, across, measure), nil
}

func (c *crossed) merge(o *crossed) {
	c.rows += o.rows
	c.numbers += o.numbers
	c.sum = c.sum.Add(o.sum)
}

// value is what a cell counts as: its text, nothing where it is missing.
func value(r *Readers, b *table.Batch, i, k int) string {
	if r.Cell(b, i, k).Missing {
		return ""
	}
	return b.Columns[r.at[i]].At(k)
}

func (c *crossing) shown(down, across, measure string) *Crossing {
	out := &Crossing{Down: down, Across: across, Measure: measure}
	downs, acrosses := map[string]int64{}, map[string]int64{}
	total := crossed{}
	for p, one := range c.cells {
		downs[p.down] += one.rows
		acrosses[p.across] += one.rows
		total.merge(one)
	}
	out.Rows = total.rows
	var placeDown, placeAcross map[string]int
	out.Downs, placeDown, out.MoreDowns = ordered(downs)
	out.Acrosses, placeAcross, out.MoreAcross = ordered(acrosses)
	grid := make([][]crossed, len(out.Downs)+min(out.MoreDowns, 1))
	for i := range grid {
		grid[i] = make([]crossed, len(out.Acrosses)+min(out.MoreAcross, 1))
	}
	for p, one := range c.cells {
		grid[placeDown[p.down]][placeAcross[p.across]].merge(one)
	}
	for _, line := range grid {
		cells := make([]Crossed, len(line))
		for i := range line {
			cells[i] = line[i].shown(measure != "")
		}
		out.Cells = append(out.Cells, cells)
	}
	if measure != "" {
		out.Sum = total.sum.Shortest()
	}
	return out
}

func (c *crossed) shown(measured bool) Crossed {
	out := Crossed{Rows: c.rows, Numbers: c.numbers}
	if measured && c.numbers > 0 {
		out.Sum = c.sum.Shortest()
		mean, _ := c.sum.Div(table.DecimalOf(c.numbers, 0))
		out.Mean = mean.Shortest()
	}
	return out
}

// ordered returns the most frequent values, missing ones last, and the place of each; all
// others share the place after them.
func ordered(counts map[string]int64) (shown []string, place map[string]int, more int) {
	all := make([]string, 0, len(counts))
	for v := range counts {
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	shown = all[:min(len(all), MostValues)]
	if at := slices.Index(shown, ""); at >= 0 {
		shown = append(slices.Delete(slices.Clone(shown), at, at+1), "")
	}
	place = make(map[string]int, len(all))
	for i, v := range shown {
		place[v] = i
	}
	for _, v := range all {
		if _, ok := place[v]; !ok {
			place[v] = len(shown)
			more++
		}
	}
	return shown, place, more
}

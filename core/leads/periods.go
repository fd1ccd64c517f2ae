package leads

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/profile"
)

const (
	// seriesAtLeast is how many periods a series has at least, and gapsMost the part, one in so many, of them that may
	// be missing and still be gaps.
	seriesAtLeast = 6
	gapsMost      = 5
	// fewerByChance is the square of how many standard deviations of a count (its root, where rows fall by chance) a last
	// period is smaller than the middle one, at the least.
	fewerByChance = 16
	// yearsOff is how many empty years lie between a date that is decades off and the others.
	yearsOff = 8
)

func init() {
	Register(Kind{
		Name: "last_period", Like: "The last period is only partly there in %d columns: %s.",
		Finds:     "a last month or year that is only partly there",
		Threshold: "four periods; its last date a tenth of it before its end, fewer rows than three quarters of the median, and than by chance (four standard deviations), unless all others have as many",
		OfColumn: func(t *Table, c *Column) []Lead {
			d := c.Dates
			if d == nil || !d.LastPartial {
				return nil
			}
			last := d.Periods[len(d.Periods)-1]
			if few, median, many := middleOf(d.Periods); many-few > 1 && (median-last.Rows)*(median-last.Rows) < fewerByChance*median {
				return nil
			}
			return []Lead{{Rows: last.Rows, Sure: 0.15, Says: fmt.Sprintf(
				"The last %s of %s, %s, is only partly there: %s, up to %s.", d.Unit, c.Name, last.Start,
				document.Counted(last.Rows, "row", "rows"), c.Highest)}}
		},
	})
	Register(Kind{
		Name: "missing_periods", Finds: "days, months or years that are missing from a series",
		Threshold: "six periods, no more than a fifth of them missing; ten rows in the middle one and a quarter of that in nine in ten, or as many in each but for one",
		OfColumn: func(t *Table, c *Column) []Lead {
			d := c.Dates
			if d == nil {
				return nil
			}
			bulk := bulkOf(d.Periods)
			var missing []string
			for _, p := range bulk {
				if p.Rows == 0 {
					missing = append(missing, p.Start)
				}
			}
			n := len(bulk)
			if len(missing) == 0 || n < seriesAtLeast || len(missing)*gapsMost > n || !dense(bulk) {
				return nil
			}
			return []Lead{{Sure: 0.6, Share: float64(len(missing)) / float64(n), Says: fmt.Sprintf("%s missing from %s: %s.",
				document.Plural(int64(len(missing)), "A "+d.Unit+" is", fmt.Sprintf("%d %ss are", len(missing), d.Unit)), c.Name,
				document.First(missing))}}
		},
	})
	Register(Kind{
		Name: "years_off", Finds: "dates that lie years away from the others",
		Threshold: "eight years or more without a date between; at most 1 % of the rows, or two",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Dates == nil {
				return nil
			}
			years := map[int]int64{}
			for _, p := range c.Dates.Periods {
				if y, err := strconv.Atoi(p.Start[:4]); err == nil && p.Rows > 0 {
					years[y] += p.Rows
				}
			}
			off, rows := yearsApart(years)
			if rows == 0 || rows*100 > c.Filled && rows > 2 || c.Filled < 20 {
				return nil
			}
			says := make([]string, len(off))
			for i, y := range off {
				says[i] = strconv.Itoa(y)
			}
			return []Lead{{Rows: rows, Sure: 0.9, Condition: c.within(years, off), Says: fmt.Sprintf("%s of %s %s years away from the others, in %s.",
				document.Counted(rows, "date", "dates"), c.Name, document.Plural(rows, "lies", "lie"), document.First(says))}}
		},
	})
}

// bulkOf returns the periods between the first and the last that are not years away from the others.
func bulkOf(periods []profile.Period) []profile.Period {
	years := map[int]int64{}
	for _, p := range periods {
		if y, err := strconv.Atoi(p.Start[:4]); err == nil && p.Rows > 0 {
			years[y] += p.Rows
		}
	}
	off, _ := yearsApart(years)
	var out []profile.Period
	for _, p := range periods {
		if y, _ := strconv.Atoi(p.Start[:4]); !slices.Contains(off, y) && (p.Rows > 0 || len(out) > 0) {
			out = append(out, p)
		}
	}
	for len(out) > 0 && out[len(out)-1].Rows == 0 {
		out = out[:len(out)-1]
	}
	return out
}

// dense reports whether rows fall into periods so regularly that one without any is missing: nine in ten of them have at
// least a quarter of the rows of the one in the middle, which are ten or more (that a period has none by chance is e to the
// minus 10 then), or all have as many, but for one row.
func dense(periods []profile.Period) bool {
	few, median, many := middleOf(periods)
	several := slices.ContainsFunc(periods, func(p profile.Period) bool { return p.Rows > 1 })
	return median >= 10 && few*4 >= median || median >= 3 && many-few <= 1 || !several
}

// middleOf returns the rows of the tenth, the middle and the ninetieth of a hundred periods that have some.
func middleOf(periods []profile.Period) (few, median, many int64) {
	var rows []int64
	for _, p := range periods {
		if p.Rows > 0 {
			rows = append(rows, p.Rows)
		}
	}
	slices.Sort(rows)
	return rows[len(rows)/10], rows[len(rows)/2], rows[len(rows)*9/10]
}

// yearsApart returns the years that lie years away from those in which most dates lie, with their rows.
func yearsApart(years map[int]int64) (off []int, rows int64) {
	all := make([]int, 0, len(years))
	most := 0
	for y := range years {
		all = append(all, y)
	}
	slices.Sort(all)
	for i, y := range all {
		if years[y] > years[all[most]] {
			most = i
		}
	}
	from, to := most, most
	for from > 0 && all[from]-all[from-1] <= yearsOff {
		from--
	}
	for to < len(all)-1 && all[to+1]-all[to] <= yearsOff {
		to++
	}
	for i, y := range all {
		if i < from || i > to {
			off = append(off, y)
			rows += years[y]
		}
	}
	return off, rows
}

// within writes that dates lie in the years in which most of them do, on the side from which others are away.
func (c *Column) within(years map[int]int64, off []int) string {
	first, last := 0, 0
	for y := range years {
		if !slices.Contains(off, y) {
			if first == 0 || y < first {
				first = y
			}
			last = max(last, y)
		}
	}
	var parts []string
	if off[0] < first {
		parts = append(parts, fmt.Sprintf("%s >= DATE '%04d-01-01'", condition.Column(c.Name), first))
	}
	if off[len(off)-1] > last {
		parts = append(parts, fmt.Sprintf("%s < DATE '%04d-01-01'", condition.Column(c.Name), last+yearsOff))
	}
	return strings.Join(parts, " AND ")
}

package leads

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

const (
	// groupAtLeast is how many rows a group has that were picked, and groupsMost how many groups a column makes.
	groupAtLeast = 12
	groupsMost   = 300
	// groupKnown is how many rows tell what lies far from a group.
	groupKnown = 40
	// tight is the ratio of the numbers between which nine in ten of a group lie, up to which one that is ten times
	// too great or too small stands out.
	tight = 8
	// groupedRare is the part, one in so many, of the rows that stand out in their groups.
	groupedRare = 50
	// groupedFew is that of the rows that lie far from their groups, for which less speaks.
	groupedFew = 1000
)

func init() {
	Register(Kind{
		Name: "shifted_point", Like: "%d columns hold numbers as if a digit or the point had slipped: %s.",
		Finds:     "numbers ten, a hundred or a thousand times too great or too small for their group: a digit lost or added, a point shifted",
		Threshold: "nine in ten of the group's numbers within a factor of 8; the number outside three times that and three interquartile ranges, and inside once it is shifted; one in 50 at most",
		OfRows:    func(s *Sample) []Suspicion { return s.grouped(true) },
	})
	Register(Kind{
		Name: "group_outliers", Like: "%d columns hold numbers far from those of their group: %s.",
		Finds:     "numbers far from those of their group that are none far from all others",
		Threshold: "four interquartile ranges outside the quartiles of the group (above by logarithms, where all are positive), and no digit lost or added; one in 1,000 at most, or two",
		OfRows:    func(s *Sample) []Suspicion { return s.grouped(false) },
	})
}

// group is how the numbers of a group lie.
type group struct {
	low, high, first, third float64
	rows                    int // that were picked
}

// grouped suspects numbers that stand out in the groups of the column that tells their numbers apart best; of the
// whole column where none does.
func (s *Sample) grouped(shifted bool) []Suspicion {
	var out []Suspicion
	for c := range s.Columns {
		if s.floats[c] == nil || s.Columns[c].Distinct < 10 || s.Columns[c].Column == nil {
			continue
		}
		by, groups := s.bestGroups(c)
		if len(groups) == 0 || by < 0 && (!shifted || !groups[""].reached(&s.Columns[c])) {
			continue
		}
		column := &s.Columns[c]
		far := column.Numbers.Outliers.Far
		stands := func(g group, d table.Decimal) bool {
			x := d.Float()
			if g.shifted(x) {
				return shifted
			}
			return !shifted && g.beyond(x) && (far == nil || !far.Beyond(d))
		}
		row := func(r *Row) (bool, bool) {
			v := r.Cell(c).Value
			if v.Kind != table.Number {
				return false, false
			}
			g, ok := groups[s.groupOf(r, by)]
			return ok, ok && stands(g, v.Number)
		}
		out = append(out, Suspicion{Row: row, Told: func(answer Answer) (Lead, bool) {
			of, columns := "the others", []string{column.Name}
			if by >= 0 {
				of, columns = "those of the same "+s.Columns[by].Name, append(columns, s.Columns[by].Name)
			}
			l := Lead{Column: column.Name, Columns: columns, Rows: answer.Rows, Sure: 0.8, Condition: s.within(c, by, groups, shifted)}
			if shifted {
				l.Says = fmt.Sprintf("%s of %s %s ten, a hundred or a thousand times as great or small as %s, as if a digit or the point had slipped.",
					document.Counted(answer.Rows, "number", "numbers"), column.Name, document.Plural(answer.Rows, "is", "are"), of)
			} else {
				l.Sure = 0.6
				l.Says = fmt.Sprintf("%s of %s %s far from %s.", document.Counted(answer.Rows, "number", "numbers"), column.Name,
					document.Plural(answer.Rows, "lies", "lie"), of)
			}
			rare := answer.Rows*groupedRare <= answer.Applies
			if !shifted {
				rare = answer.Rows <= 2 || answer.Rows*groupedFew <= answer.Applies
			}
			return l, answer.Rows > 0 && rare
		}})
	}
	return out
}

// shifted reports whether a number stands outside its group, far from its quartiles too, and would lie inside with its
// point moved.
func (g group) shifted(x float64) bool {
	if g.low <= 0 || x <= 0 || g.high/g.low > tight || x > g.low/3 && x < g.high*3 {
		return false
	}
	if reach := 3 * (g.third - g.first); x > g.first-reach && x < g.third+reach {
		return false
	}
	for _, factor := range []float64{10, 100, 1000, 0.1, 0.01, 0.001} {
		if y := x * factor; y >= g.low*0.9 && y <= g.high*1.1 {
			return true
		}
	}
	return false
}

// reached reports whether a column's numbers reach so far outside a group that one could be shifted.
func (g group) reached(c *Column) bool {
	lowest, highest := quartile(c, 0), quartile(c, 1)
	return lowest <= g.low/3 || highest >= g.high*3
}

// groupReach is how many interquartile ranges a number lies outside the quartiles of its group to stand out.
const groupReach = 4

// beyond reports whether a number stands far outside its group.
func (g group) beyond(x float64) bool {
	low, high := g.fences()
	return g.low != 0 && g.rows >= groupKnown && g.third > g.first && (x < low || x > high) // what begins at nothing trails off above
}

// fences are the numbers between which those of a group are not far from it: above by logarithms where all are positive,
// since what is skewed trails off there.
func (g group) fences() (low, high float64) {
	reach := groupReach * (g.third - g.first)
	low, high = g.first-reach, g.third+reach
	if g.low > 0 {
		high = g.third * math.Pow(g.third/g.first, groupReach)
	}
	return low, high
}

// groupOf names the group of a row.
func (s *Sample) groupOf(r *Row, by int) string {
	if by < 0 {
		return ""
	}
	cell := r.Cell(by)
	return table.Level(cell.Identity(r.Text(by)))
}

// bestGroups returns the column by whose values the numbers of a column are told apart best, and how they lie in each
// group: -1 for none, which makes one group of all.
func (s *Sample) bestGroups(c int) (by int, groups map[string]group) {
	if known, ok := s.grouping[c]; ok {
		return known.by, known.groups
	}
	by, groups = s.findGroups(c)
	if s.grouping == nil {
		s.grouping = map[int]grouping{}
	}
	s.grouping[c] = grouping{by, groups}
	return by, groups
}

// grouping is the column by whose values the numbers of another one are told apart best, and how they lie in each group.
type grouping struct {
	by     int
	groups map[string]group
}

func (s *Sample) findGroups(c int) (by int, groups map[string]group) {
	by = -1
	all := s.groupsBy(c, -1)
	whole, ok := all[""]
	if !ok {
		return -1, nil
	}
	groups, best := all, whole.spread()
	tried := 0
	for g := range s.Columns {
		if tried == columnsCompared {
			break
		}
		other := &s.Columns[g]
		if g == c || other.Column == nil || other.Numbers != nil || other.Dates != nil || other.Distinct < 2 ||
			other.Distinct > groupsMost || other.Distinct*groupAtLeast > other.Filled {
			continue
		}
		tried++
		of := s.groupsBy(c, g)
		if len(of) < 2 {
			continue
		}
		spreads, middles := make([]float64, 0, len(of)), make([]float64, 0, len(of))
		for _, one := range of {
			spreads, middles = append(spreads, one.spread()), append(middles, one.third-one.first)
		}
		slices.Sort(spreads)
		slices.Sort(middles)
		// It must tell them apart clearly, by the middle half of the numbers too, or any column of chance would.
		if median := spreads[len(spreads)/2]; median < best*0.7 && middles[len(middles)/2] < (whole.third-whole.first)*0.7 {
			by, groups, best = g, of, median
		}
	}
	return by, groups
}

// spread is how widely the numbers of a group lie.
func (g group) spread() float64 {
	if g.low > 0 {
		return math.Log(g.high / g.low)
	}
	if scale := max(math.Abs(g.low), math.Abs(g.high)); scale > 0 {
		return 3 + (g.high-g.low)/scale
	}
	return 0
}

// names are those of the groups of a column, per picked row.
func (s *Sample) names(by int) []string {
	if s.named[by] == nil {
		s.named[by] = make([]string, s.Picked)
		for i := range s.named[by] {
			s.named[by][i] = table.Level(s.cells[by][i].Identity(s.texts[by][i]))
		}
	}
	return s.named[by]
}

func (s *Sample) groupsBy(c, by int) map[string]group {
	numbers := map[string][]float64{}
	for i, x := range s.floats[c] {
		if math.IsNaN(x) {
			continue
		}
		name := ""
		if by >= 0 {
			if s.cells[by][i].Missing {
				continue
			}
			name = s.names(by)[i]
		}
		numbers[name] = append(numbers[name], x)
	}
	out := map[string]group{}
	for name, some := range numbers {
		if len(some) < groupAtLeast {
			continue
		}
		slices.Sort(some)
		at := func(share float64) float64 { return some[int(share*float64(len(some)-1))] }
		out[name] = group{low: at(0.05), high: at(0.95), first: at(0.25), third: at(0.75), rows: len(some)}
	}
	return out
}

// groupsWritten is how many groups a condition names at most.
const groupsWritten = 12

// within writes between what the numbers of each group lie, as a condition has it.
func (s *Sample) within(c, by int, groups map[string]group, shifted bool) string {
	if len(groups) > groupsWritten {
		return ""
	}
	column := condition.Column(s.Columns[c].Name)
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		g := groups[name]
		low, high := g.low/3, g.high*3
		if !shifted {
			low, high = g.fences()
		}
		within := fmt.Sprintf("%s BETWEEN %s AND %s", column, figure(low), figure(high))
		if by >= 0 {
			within = fmt.Sprintf("(LOWER(TRIM(%s)) <> %s OR %s)", condition.Column(s.Columns[by].Name), condition.Text(name), within)
		}
		parts = append(parts, within)
	}
	return strings.Join(parts, " AND ")
}

// figure writes a bound with three digits that count.
func figure(x float64) string {
	if x == 0 {
		return "0"
	}
	return table.DecimalNear(x).Round(2 - int(math.Floor(math.Log10(math.Abs(x))))).Shortest()
}

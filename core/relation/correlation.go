package relation

import (
	"context"
	"math"
	"slices"

	"proudsieve/core/table"
)

// Correlations holds a number for every pair of columns, in the order of Columns.
type Correlations struct {
	Columns []string `json:"columns"`
	// Pearson is the linear correlation, Spearman that of the ranks (equal numbers share the
	// middle of theirs), over the rows in which both are numbers. Nil where it is not defined.
	Pairs    [][]int64    `json:"pairs"` // rows in which both are numbers
	Pearson  [][]*float64 `json:"pearson"`
	Spearman [][]*float64 `json:"spearman"`
	// RankError is the greatest relative distance of numbers that share a rank although they
	// differ, in columns with more than RankCap different ones; 0 where ranks are exact.
	RankError float64 `json:"rank_error,omitempty"`
	// Along is the first column of dates; without one, "" stands for the order of the rows.
	Along string `json:"along"`
	// Trend is the linear correlation of each column with that.
	Trend []*float64 `json:"trend"`
	// Apart is the linear correlation once what goes with that is taken out of both columns: the partial
	// correlation (r - tu) / sqrt((1 - t²)(1 - u²)), with t and u from Trend.
	Apart [][]*float64 `json:"apart"`
	// Trending says of which pairs the correlation tells little, since both merely run along.
	Trending [][]bool `json:"trending"`
}

// A pair is merely trending where it goes together at least so much, each of the two goes with what they run
// along at least so much, and less than half of it is left apart from that.
const trendingLeast = 0.5

// trend fills in what the columns have to do with what they run along.
func (c *Correlations) trend(along []comoment) {
	n := len(c.Columns)
	for i := range n {
		c.Trend = append(c.Trend, along[i].correlation())
		c.Apart, c.Trending = append(c.Apart, make([]*float64, n)), append(c.Trending, make([]bool, n))
	}
	for i := range n {
		for j := range n {
			r, t, u := c.Pearson[i][j], c.Trend[i], c.Trend[j]
			if r == nil || t == nil || u == nil || i == j {
				continue
			}
			left := (*r - *t**u) / math.Sqrt((1-*t**t)*(1-*u**u))
			if math.IsNaN(left) || math.IsInf(left, 0) {
				continue // one of them is nothing but the trend
			}
			left = min(max(left, -1), 1)
			c.Apart[i][j] = &left
			c.Trending[i][j] = min(math.Abs(*r), math.Abs(*t), math.Abs(*u)) >= trendingLeast &&
				math.Abs(left) < math.Abs(*r)/2
		}
	}
}

// along returns the column that rows run along, the first one of dates; "" for the order of the rows.
func (t *Table) along() string {
	for _, name := range t.Source.Columns() {
		if kind := t.Book.Cells(name).Type; kind == table.TypeDate || kind == table.TypeDateTime {
			return name
		}
	}
	return ""
}

// RankCap is how many different numbers of a column are ranked exactly.
const RankCap = 1 << 16

// rankShift is the number of bits that numbers lose where they are too many: what is left
// of the significand is 12 bits.
const rankShift, rankError = 40, 1.0 / 4096

// Correlate correlates columns of numbers with one another.
func Correlate(ctx context.Context, t *Table, columns []string) (*Correlations, error) {
	at, err := t.positions(columns)
	if err != nil {
		return nil, err
	}
	out := &Correlations{Columns: columns, Along: t.along()}
	ranks, coarse, err := rankings(ctx, t, at)
	if err != nil {
		return nil, err
	}
	if coarse {
		out.RankError = rankError
	}
	n := len(columns)
	if out.Along != "" {
		when, err := t.position(out.Along)
		if err != nil {
			return nil, err
		}
		at = append(at, when)
	}
	begin := func() *moments { return newMoments(n) }
	work := func(m *moments, r *Readers, b *table.Batch) {
		numbers, ranked := make([][]float64, n), make([][]float64, n)
		for i := range n {
			numbers[i], ranked[i] = make([]float64, b.Len()), make([]float64, b.Len())
			for k := range b.Rows {
				v := r.Cell(b, i, k).Value
				numbers[i][k], ranked[i][k] = math.NaN(), math.NaN()
				if v.Kind == table.Number {
					x := v.Number.Float()
					numbers[i][k], ranked[i][k] = x, ranks[i].of(x)
				}
			}
		}
		along := make([]float64, b.Len())
		for k, row := range b.Rows {
			if along[k] = float64(row); out.Along != "" {
				along[k] = moment(r.Cell(b, n, k).Value)
			}
		}
		for i := range n {
			m.along[i].add(numbers[i], along)
			for j := range i + 1 {
				m.numbers[i][j].add(numbers[i], numbers[j])
				m.ranks[i][j].add(ranked[i], ranked[j])
			}
		}
	}
	whole := newMoments(n)
	if err := Scan(ctx, t, at, begin, work, whole.merge); err != nil {
		return nil, err
	}
	for range n {
		out.Pairs = append(out.Pairs, make([]int64, n))
		out.Pearson, out.Spearman = append(out.Pearson, make([]*float64, n)), append(out.Spearman, make([]*float64, n))
	}
	for i := range n {
		for j := range i + 1 {
			out.Pairs[i][j], out.Pairs[j][i] = whole.numbers[i][j].n, whole.numbers[i][j].n
			p, s := whole.numbers[i][j].correlation(), whole.ranks[i][j].correlation()
			out.Pearson[i][j], out.Pearson[j][i], out.Spearman[i][j], out.Spearman[j][i] = p, p, s, s
		}
	}
	out.trend(whole.along)
	return out, nil
}

// moment is when a date or an instant is, in days; not a number where the cell holds none.
func moment(v table.Value) float64 {
	switch v.Kind {
	case table.Date:
		return float64(v.When)
	case table.Instant:
		return float64(v.When) / 86_400e6
	}
	return math.NaN()
}

type moments struct {
	numbers, ranks [][]comoment
	along          []comoment // of each column with what the rows run along
}

func newMoments(n int) *moments {
	m := &moments{make([][]comoment, n), make([][]comoment, n), make([]comoment, n)}
	for i := range n {
		m.numbers[i], m.ranks[i] = make([]comoment, i+1), make([]comoment, i+1)
	}
	return m
}

func (m *moments) merge(o *moments) {
	for i := range m.numbers {
		m.along[i].merge(o.along[i])
		for j := range m.numbers[i] {
			m.numbers[i][j].merge(o.numbers[i][j])
			m.ranks[i][j].merge(o.ranks[i][j])
		}
	}
}

// comoment gathers pairs of numbers around their means, so that large means cost no
// digits (Chan, Golub and LeVeque 1979).
type comoment struct {
	n            int64
	meanX, meanY float64
	xx, yy, xy   float64
}

// add takes in the pairs without a NaN.
func (c *comoment) add(x, y []float64) {
	var one comoment
	sumX, sumY := 0.0, 0.0
	for k := range x {
		if x[k] == x[k] && y[k] == y[k] { // neither is NaN
			one.n++
			sumX += x[k]
			sumY += y[k]
		}
	}
	if one.n == 0 {
		return
	}
	one.meanX, one.meanY = sumX/float64(one.n), sumY/float64(one.n)
	for k := range x {
		if dx, dy := x[k]-one.meanX, y[k]-one.meanY; dx == dx && dy == dy {
			one.xx += dx * dx
			one.yy += dy * dy
			one.xy += dx * dy
		}
	}
	c.merge(one)
}

func (c *comoment) merge(o comoment) {
	if c.n == 0 || o.n == 0 {
		if c.n == 0 {
			*c = o
		}
		return
	}
	n := float64(c.n + o.n)
	dx, dy := o.meanX-c.meanX, o.meanY-c.meanY
	weight := float64(c.n) * float64(o.n) / n
	c.xx += o.xx + dx*dx*weight
	c.yy += o.yy + dy*dy*weight
	c.xy += o.xy + dx*dy*weight
	c.meanX += dx * float64(o.n) / n
	c.meanY += dy * float64(o.n) / n
	c.n += o.n
}

func (c *comoment) correlation() *float64 {
	r := c.xy / math.Sqrt(c.xx*c.yy)
	if c.n < 2 || math.IsNaN(r) || math.IsInf(r, 0) {
		return nil
	}
	r = min(max(r, -1), 1)
	return &r
}

// ranking holds the rank of every number of a column.
type ranking struct {
	counts map[float64]int64
	ranks  map[float64]float64
	coarse bool
}

func coarsened(x float64) float64 {
	return math.Float64frombits(math.Float64bits(x) >> rankShift << rankShift)
}

func (r *ranking) of(x float64) float64 {
	if r.coarse {
		x = coarsened(x)
	}
	return r.ranks[x]
}

func (r *ranking) count(x float64, rows int64) {
	if x == 0 {
		x = 0 // not -0
	}
	if r.coarse {
		x = coarsened(x)
	}
	r.counts[x] += rows
	if len(r.counts) > RankCap && !r.coarse {
		r.coarse = true
		fine := r.counts
		r.counts = map[float64]int64{}
		for x, n := range fine {
			r.counts[coarsened(x)] += n
		}
	}
}

func rankings(ctx context.Context, t *Table, at []int) (ranks []*ranking, coarse bool, err error) {
	fresh := func() []*ranking {
		out := make([]*ranking, len(at))
		for i := range out {
			out[i] = &ranking{counts: map[float64]int64{}}
		}
		return out
	}
	ranks = fresh()
	work := func(s []*ranking, r *Readers, b *table.Batch) {
		for i := range s {
			for k := range b.Rows {
				if v := r.Cell(b, i, k).Value; v.Kind == table.Number {
					s[i].count(v.Number.Float(), 1)
				}
			}
		}
	}
	err = Scan(ctx, t, at, fresh, work, func(s []*ranking) {
		for i, one := range s {
			if one.coarse && !ranks[i].coarse {
				ranks[i].coarse = true
				fine := ranks[i].counts
				ranks[i].counts = map[float64]int64{}
				for x, n := range fine {
					ranks[i].count(x, n)
				}
			}
			for x, n := range one.counts {
				ranks[i].count(x, n)
			}
		}
	})
	for _, r := range ranks {
		numbers := make([]float64, 0, len(r.counts))
		for x := range r.counts {
			numbers = append(numbers, x)
		}
		slices.Sort(numbers)
		r.ranks = make(map[float64]float64, len(numbers))
		before := int64(0)
		for _, x := range numbers {
			r.ranks[x] = float64(before) + float64(r.counts[x]+1)/2
			before += r.counts[x]
		}
		coarse = coarse || r.coarse
	}
	return ranks, coarse, err
}

package relation

import (
	"cmp"
	"container/heap"
	"context"
	"math"
	"slices"

	"proudsieve/core/table"
)

// Points are two columns of numbers against one another: some of the rows as points, and the line through all.
type Points struct {
	X string `json:"x"`
	Y string `json:"y"`
	// Rows is how many rows hold a number in both columns, of those that were asked for.
	Rows int64 `json:"rows"`
	// Points are all of them, or a sample of as many as were asked for, in the order of the rows. A row is in
	// the sample by its number alone, so that the sample is the same every time.
	Points []Point `json:"points"`
	// Slope and Intercept are those of the line of least squares through all rows, not only through the sample;
	// nil where it is not defined, as Correlation is.
	Slope       *float64 `json:"slope"`
	Intercept   *float64 `json:"intercept"`
	Correlation *float64 `json:"correlation"`
}

// Point is one row.
type Point struct {
	Row uint32  `json:"row"`
	X   float64 `json:"x"`
	Y   float64 `json:"y"`
}

// draw is a number that looks drawn by chance, and is the same for a row every time (the finalizer of MurmurHash3).
func draw(row uint32) uint32 {
	h := row + 0x9e3779b9
	h = (h ^ h>>16) * 0x85ebca6b
	h = (h ^ h>>13) * 0xc2b2ae35
	return h ^ h>>16
}

// sample keeps the points whose rows draw the smallest numbers.
type sample struct {
	most   int
	points []Point
	all    comoment
}

func (s *sample) Len() int           { return len(s.points) }
func (s *sample) Less(i, j int) bool { return draw(s.points[i].Row) > draw(s.points[j].Row) }
func (s *sample) Swap(i, j int)      { s.points[i], s.points[j] = s.points[j], s.points[i] }
func (s *sample) Push(p any)         { s.points = append(s.points, p.(Point)) }
func (s *sample) Pop() any {
	last := s.points[len(s.points)-1]
	s.points = s.points[:len(s.points)-1]
	return last
}

func (s *sample) add(p Point) {
	if len(s.points) < s.most {
		heap.Push(s, p)
	} else if draw(p.Row) < draw(s.points[0].Row) {
		s.points[0] = p
		heap.Fix(s, 0)
	}
}

// PointsOf returns up to so many rows as points of two columns of numbers; rows, unless nil, are those that count.
func PointsOf(ctx context.Context, t *Table, x, y string, most int, rows *table.RowSet) (*Points, error) {
	at, err := t.positions([]string{x, y})
	if err != nil {
		return nil, err
	}
	begin := func() *sample { return &sample{most: most} }
	work := func(s *sample, r *Readers, b *table.Batch) {
		xs, ys := make([]float64, b.Len()), make([]float64, b.Len())
		for k, row := range b.Rows {
			xs[k], ys[k] = math.NaN(), math.NaN()
			if rows != nil && !rows.Contains(row) {
				continue
			}
			one, other := r.Cell(b, 0, k).Value, r.Cell(b, 1, k).Value
			if one.Kind == table.Number && other.Kind == table.Number {
				xs[k], ys[k] = one.Number.Float(), other.Number.Float()
				s.add(Point{row, xs[k], ys[k]})
			}
		}
		s.all.add(xs, ys)
	}
	whole := begin()
	if err := Scan(ctx, t, at, begin, work, func(s *sample) {
		for _, p := range s.points {
			whole.add(p)
		}
		whole.all.merge(s.all)
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(whole.points, func(a, b Point) int { return cmp.Compare(a.Row, b.Row) })
	out := &Points{X: x, Y: y, Rows: whole.all.n, Points: whole.points, Correlation: whole.all.correlation()}
	if out.Points == nil {
		out.Points = []Point{}
	}
	if slope := whole.all.xy / whole.all.xx; whole.all.n > 1 && !math.IsNaN(slope) && !math.IsInf(slope, 0) {
		through := whole.all.meanY - slope*whole.all.meanX
		out.Slope, out.Intercept = &slope, &through
	}
	return out, nil
}

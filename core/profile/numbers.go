package profile

import (
	"cmp"
	"math"
	"math/big"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

// Numbers gathers the numbers of a column. The zero value is empty. Count, sum and sum
// of squares are exact, whatever the order in which numbers are added.
type Numbers struct {
	count  int64
	scales [scales]ofScale
	wide   []wideNumber // beyond a machine word; rare
	// one at least is not whole
	fractions bool
	around    moments // for the skewness alone, and thus in floating point
	buckets   buckets
	told      *ToldNumbers // what an engine worked out instead; nil where it was done here
}

// moments are the sums of the first three powers of the distances from one of the numbers. Those
// from zero would lose everything where numbers are large and lie close together.
type moments struct {
	from                 float64
	any                  bool
	first, second, third float64
}

func (m *moments) add(x float64, rows int64) {
	if !m.any {
		m.any, m.from = true, x
	}
	d, n := x-m.from, float64(rows)
	m.first += n * d
	m.second += n * d * d
	m.third += n * d * d * d
}

// merge takes in the moments of count other numbers.
func (m *moments) merge(o *moments, count int64) {
	if !m.any {
		*m = *o
		return
	}
	d, n := o.from-m.from, float64(count)
	m.first += o.first + n*d
	m.second += o.second + 2*d*o.first + n*d*d
	m.third += o.third + 3*d*o.second + 3*d*d*o.first + n*d*d*d
}

// central returns the mean of the third powers of the distances from the mean of count numbers.
func (m *moments) central(count int64) float64 {
	n := float64(count)
	mean := m.first / n
	return m.third/n - 3*mean*m.second/n + 2*mean*mean*mean
}

// scales is how many numbers of digits after the point fit a machine word.
const scales = 19

// ofScale is what is known of the numbers with so many digits after the point, in units of the last of them.
type ofScale struct {
	any             bool
	lowest, highest int64
	sumLo           uint64
	sumHi           int64
	squares         [3]uint64
}

type wideNumber struct {
	number table.Decimal
	rows   int64
}

var unit = func() (u [scales]float64) {
	for i := range u {
		u[i] = math.Pow10(-i)
	}
	return u
}()

// Add takes in a number that stands in so many rows.
func (n *Numbers) Add(d table.Decimal, rows int64) {
	n.count += rows
	n.fractions = n.fractions || !d.IsWhole()
	if c, scale, ok := d.Word(); ok {
		n.addWord(c, scale, rows)
	} else {
		n.wide = append(n.wide, wideNumber{d, rows})
		x := d.Float()
		n.around.add(x, rows)
		n.buckets.add(x, rows)
	}
}

// addWord adds c x 10^-scale.
func (n *Numbers) addWord(c int64, scale int, rows int64) {
	s := &n.scales[scale]
	if !s.any {
		s.any, s.lowest, s.highest = true, c, c
	}
	s.lowest, s.highest = min(s.lowest, c), max(s.highest, c)
	size := uint64(c)
	if c < 0 {
		size = -size
	}
	hi, lo := bits.Mul64(size, uint64(rows))
	var carry uint64
	if c < 0 {
		s.sumLo, carry = bits.Sub64(s.sumLo, lo, 0)
		s.sumHi -= int64(hi + carry)
	} else {
		s.sumLo, carry = bits.Add64(s.sumLo, lo, 0)
		s.sumHi += int64(hi + carry)
	}
	s.addSquare(size, uint64(rows))
	x := float64(c) * unit[scale]
	n.around.add(x, rows)
	n.buckets.add(x, rows)
}

// addEach adds coefficients x 10^-scales, one row each.
func (n *Numbers) addEach(coefficients []int64, scales []uint8) {
	n.count += int64(len(coefficients))
	if !n.around.any && len(coefficients) > 0 {
		n.around.any, n.around.from = true, float64(coefficients[0])*unit[scales[0]]
	}
	for start := 0; start < len(coefficients); {
		scale := scales[start]
		s := &n.scales[scale]
		if !s.any {
			s.any, s.lowest, s.highest = true, coefficients[start], coefficients[start]
		}
		var (
			carry            uint64
			lowest, highest  = s.lowest, s.highest
			sumLo, sumHi     = s.sumLo, s.sumHi
			squares          = s.squares
			around, unit, at = n.around, unit[scale], start
		)
		for ; at < len(coefficients) && scales[at] == scale; at++ {
			c := coefficients[at]
			lowest, highest = min(lowest, c), max(highest, c)
			sumLo, carry = bits.Add64(sumLo, uint64(c), 0)
			sumHi += c>>63 + int64(carry)
			size := uint64(max(c, -c))
			hi, lo := bits.Mul64(size, size)
			squares[0], carry = bits.Add64(squares[0], lo, 0)
			squares[1], carry = bits.Add64(squares[1], hi, carry)
			squares[2] += carry
			x := float64(c) * unit
			d := x - around.from
			around.first += d
			around.second += d * d
			around.third += d * d * d
			n.buckets.addOne(x)
		}
		n.fractions = n.fractions || scale > 0 && anyFraction(coefficients[start:at], scale)
		start = at
		n.around, s.lowest, s.highest = around, lowest, highest
		s.sumLo, s.sumHi, s.squares = sumLo, sumHi, squares
	}
}

// anyFraction reports whether one of coefficients x 10^-scale is not whole.
func anyFraction(coefficients []int64, scale uint8) bool {
	whole := int64(1)
	for range scale {
		whole *= 10
	}
	for _, c := range coefficients {
		if c%whole != 0 {
			return true
		}
	}
	return false
}

// addSquare adds size x size x rows to the 192 bits of squares.
func (s *ofScale) addSquare(size, rows uint64) {
	hi, lo := bits.Mul64(size, size)
	top := uint64(0)
	if rows != 1 {
		h1, l1 := bits.Mul64(lo, rows)
		h2, l2 := bits.Mul64(hi, rows)
		var carry uint64
		lo = l1
		hi, carry = bits.Add64(l2, h1, 0)
		top = h2 + carry
	}
	var carry uint64
	s.squares[0], carry = bits.Add64(s.squares[0], lo, 0)
	s.squares[1], carry = bits.Add64(s.squares[1], hi, carry)
	s.squares[2] += top + carry
}

// Merge takes in what another one gathered after n.
func (n *Numbers) Merge(o *Numbers) {
	if o.count == 0 {
		return
	}
	n.count += o.count
	n.fractions = n.fractions || o.fractions
	n.around.merge(&o.around, o.count)
	n.wide = append(n.wide, o.wide...)
	for i := range o.scales {
		a, b := &n.scales[i], &o.scales[i]
		if !b.any {
			continue
		}
		if !a.any {
			*a = *b
			continue
		}
		a.lowest, a.highest = min(a.lowest, b.lowest), max(a.highest, b.highest)
		var carry uint64
		a.sumLo, carry = bits.Add64(a.sumLo, b.sumLo, 0)
		a.sumHi += b.sumHi + int64(carry)
		for k := range a.squares {
			a.squares[k], carry = bits.Add64(a.squares[k], b.squares[k], carry*boolean(k > 0))
		}
	}
	n.buckets.merge(&o.buckets)
}

func boolean(b bool) uint64 {
	if b {
		return 1
	}
	return 0
}

// reset empties n and keeps its memory.
func (n *Numbers) reset() {
	if n.count == 0 {
		return
	}
	n.buckets.reset()
	n.count, n.wide, n.fractions, n.around = 0, nil, false, moments{}
	clear(n.scales[:])
}

// Count returns how many numbers were added.
func (n *Numbers) Count() int64 { return n.count }

// Sum returns the exact sum.
func (n *Numbers) Sum() table.Decimal {
	if n.told != nil {
		return n.told.Sum
	}
	sum := table.Decimal{}
	for scale := range n.scales {
		if s := &n.scales[scale]; s.any {
			sum = sum.Add(table.DecimalFromBig(s.sum(), scale))
		}
	}
	for _, w := range n.wide {
		sum = sum.Add(w.number.Times(w.rows))
	}
	return sum
}

func (s *ofScale) sum() *big.Int {
	sum := big.NewInt(s.sumHi)
	return sum.Add(sum.Lsh(sum, 64), new(big.Int).SetUint64(s.sumLo))
}

// squared returns the exact sum of squares.
func (n *Numbers) squared() table.Decimal {
	sum := table.Decimal{}
	for scale := range n.scales {
		s := &n.scales[scale]
		if !s.any {
			continue
		}
		total := new(big.Int)
		for k := 2; k >= 0; k-- {
			total.Add(total.Lsh(total, 64), new(big.Int).SetUint64(s.squares[k]))
		}
		sum = sum.Add(table.DecimalFromBig(total, 2*scale))
	}
	for _, w := range n.wide {
		sum = sum.Add(w.number.Mul(w.number).Times(w.rows))
	}
	return sum
}

// extremes returns the least and the greatest number; ok is false where there is none.
func (n *Numbers) extremes() (lowest, highest table.Decimal, ok bool) {
	if n.told != nil {
		return n.told.Lowest, n.told.Highest, true
	}
	take := func(low, high table.Decimal) {
		if !ok || low.Cmp(lowest) < 0 {
			lowest = low
		}
		if !ok || high.Cmp(highest) > 0 {
			highest = high
		}
		ok = true
	}
	for scale := range n.scales {
		if s := &n.scales[scale]; s.any {
			take(table.DecimalOf(s.lowest, scale), table.DecimalOf(s.highest, scale))
		}
	}
	for _, w := range n.wide {
		take(w.number, w.number)
	}
	return lowest, highest, ok
}

// deviation returns the standard deviation of the numbers as a sample (divided by n-1),
// from the exact sums. It is NaN for fewer than two numbers.
func (n *Numbers) deviation() float64 {
	if n.told != nil {
		return n.told.Deviation
	}
	if n.count < 2 {
		return math.NaN()
	}
	return math.Sqrt(n.around2() / float64(n.count-1))
}

// around2 returns the sum of squared differences from the mean: sum of squares - sum² / n.
func (n *Numbers) around2() float64 {
	sum := n.Sum()
	count := table.DecimalOf(n.count, 0)
	// n·Σx² - (Σx)² is exact; only the division by n rounds.
	return n.squared().Mul(count).Sub(sum.Mul(sum)).Float() / float64(n.count)
}

// noise is the skewness below which rounding alone speaks.
const noise = 1e-9

// skewness returns the third standardised moment g1 = m3 / m2^1.5 (Fisher-Pearson),
// NaN where all numbers are equal or there are fewer than three.
func (n *Numbers) skewness() float64 {
	if n.told != nil {
		return n.told.Skewness
	}
	m2 := n.around2() / float64(n.count)
	if n.count < 3 || m2 <= 0 {
		return math.NaN()
	}
	g1 := n.around.central(n.count) / math.Pow(m2, 1.5)
	if math.Abs(g1) < noise {
		return 0
	}
	return g1
}

// buckets counts numbers by their leading binary digits: 1024 buckets for each power of
// two, so that the middle of a bucket is within 0.05% of every number in it. Pages are
// made where numbers fall.
type buckets struct {
	books [128]*[128]*page // by the first and the second seven bits of a number
	paged bool             // there is a page
	// few are the buckets of numbers in one row each that no page counts yet: where a table has many columns a stretch has
	// fewer rows than pages have room for.
	few []bucket
}

// bucket is the first 22 bits of a number: its sign, exponent and ten more.
type bucket uint32

const (
	bucketShift = 42
	fewBuckets  = 2048
)

type page [256]uint32 // by the last eight bits of a bucket; a table has fewer rows than that holds

// bucketError is the greatest relative distance of a number from the middle of its bucket.
const bucketError = 1.0 / 2048

func (b *buckets) add(x float64, rows int64) {
	if rows == 1 {
		b.addOne(x)
	} else {
		b.count(bucketOf(x), uint32(rows))
	}
}

// addOne is add for a number in one row.
func (b *buckets) addOne(x float64) {
	if b.few = append(b.few, bucketOf(x)); len(b.few) == fewBuckets {
		b.countFew()
	}
}

func bucketOf(x float64) bucket {
	return bucket(math.Float64bits(x+0) >> bucketShift) // -0 becomes 0
}

// countFew counts the numbers that no page counts yet.
func (b *buckets) countFew() {
	for _, one := range b.few {
		b.count(one, 1)
	}
	b.few = b.few[:0]
}

func (b *buckets) count(at bucket, rows uint32) {
	book := b.books[at>>15]
	if book == nil {
		book, b.paged = new([128]*page), true
		b.books[at>>15] = book
	}
	p := book[at>>8&127]
	if p == nil {
		p = new(page)
		book[at>>8&127] = p
	}
	p[uint8(at)] += rows
}

// each calls f for every page and the bucket of its first place.
func (b *buckets) each(f func(start bucket, p *page)) {
	if !b.paged {
		return
	}
	for i, book := range b.books {
		if book == nil {
			continue
		}
		for k, p := range book {
			if p != nil {
				f(bucket(i)<<15|bucket(k)<<8, p)
			}
		}
	}
}

func (b *buckets) merge(o *buckets) {
	for _, one := range o.few {
		b.count(one, 1)
	}
	o.each(func(start bucket, from *page) {
		for at, n := range from {
			if n > 0 {
				b.count(start|bucket(at), n)
			}
		}
	})
}

func (b *buckets) reset() {
	b.few = b.few[:0]
	b.each(func(_ bucket, p *page) { clear(p[:]) })
}

// ascending returns the middles of the buckets in the order of numbers.
func (b *buckets) ascending() *ordered {
	type middle struct {
		number float64
		rows   int64
	}
	var middles []middle
	b.countFew()
	b.each(func(start bucket, p *page) {
		for at, rows := range p {
			if rows > 0 {
				x := math.Float64frombits(uint64(start|bucket(at))<<bucketShift | 1<<(bucketShift-1))
				middles = append(middles, middle{x, int64(rows)})
			}
		}
	})
	slices.SortFunc(middles, func(a, b middle) int { return cmp.Compare(a.number, b.number) })
	o := &ordered{upTo: make([]int64, len(middles)), middles: make([]float64, len(middles))}
	for i, m := range middles {
		o.middles[i], o.upTo[i] = m.number, o.before(i)+m.rows
	}
	return o
}

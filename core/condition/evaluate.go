package condition

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"sync"

	"proudsieve/core/table"
)

// Truth is one of SQL's three truth values.
type Truth int8

// The truth values, ordered so that AND is the lesser and OR the greater of two.
const (
	False Truth = iota - 1
	Unknown
	True
)

// Rows gives a condition the rows of a batch, column-wise.
type Rows interface {
	Len() int
	// Values returns a column's typed values: row i holds values[codes[i]].
	Values(column string) (values []table.Value, codes []uint32)
}

// LastingRows are Rows whose values outlive the batch.
type LastingRows interface {
	Rows
	// Begun tells when the values of a column were begun anew: as long as it says the same,
	// those returned before are still the first of those returned now. 0 says that they are
	// those of this batch alone.
	Begun(column string) uint64
}

// vector is one value per row: row i holds of[codes[i]]. Without codes it holds
// of[0] for every row. What depends on one column alone is worked out once per
// distinct value of that column, since its codes are passed on untouched.
type vector[T any] struct {
	of     []T
	codes  []uint32
	known  int  // how many of the first are what they were at the last evaluation
	perRow bool // each row has a value of its own
}

func (v vector[T]) at(i int) T {
	if v.codes == nil {
		return v.of[0]
	}
	return v.of[v.codes[i]]
}

func (v vector[T]) shape() shape { return shape{v.codes, len(v.of), v.known, v.perRow} }

// Evaluate returns the condition's truth for each row. The condition must have passed Check.
func (c *Condition) Evaluate(rows Rows) []Truth {
	e := evaluations.Get().(*Evaluator)
	defer evaluations.Put(e)
	e.condition = c
	e.evaluation.forget()
	return slices.Clone(e.Evaluate(rows))
}

var evaluations = sync.Pool{New: func() any { return (*Condition)(nil).Evaluator(NewMemory(1)) }}

// Evaluator works a condition out for one batch after the other. It remembers what depends
// on one column alone for the values met so far, where the rows are LastingRows.
type Evaluator struct {
	condition *Condition
	evaluation
	out []Truth
}

// Evaluator returns an Evaluator of the condition, which must have passed Check. All those of
// one memory are used by one goroutine.
func (c *Condition) Evaluator(memory *Memory) *Evaluator {
	return &Evaluator{condition: c, evaluation: evaluation{memory: memory}}
}

// rememberedValues is how many values are remembered in all; conditions have a few steps that
// remember them, of up to 56 bytes for a value.
const rememberedValues = 1 << 17

// Evaluate returns the condition's truth for each row; the slice is good until the next call.
func (e *Evaluator) Evaluate(rows Rows) []Truth {
	if rows.Len() == 0 {
		return nil
	}
	v := e.work(rows)
	if cap(e.out) < e.n {
		e.out = make([]Truth, e.n*5/4)
	}
	e.out = e.out[:e.n]
	for i, code := range codesOf(&e.evaluation, v) {
		e.out[i] = v.of[code]
	}
	return e.out
}

// EachNotTrue calls visit for the rows for which the condition is false or unknown.
func (e *Evaluator) EachNotTrue(rows Rows, visit func(row int, truth Truth)) {
	if rows.Len() == 0 {
		return
	}
	v := e.work(rows)
	if e.allTrue(v) {
		return
	}
	for i, code := range codesOf(&e.evaluation, v) {
		if truth := v.of[code]; truth != True {
			visit(i, truth)
		}
	}
}

func (e *Evaluator) work(rows Rows) vector[Truth] {
	e.begin(rows)
	v := e.truth(e.condition.root)
	e.rows, e.lasting = nil, nil
	return v
}

// evaluation works a condition out for the rows of a batch. The same steps are taken in the
// same order for every batch, so that each finds what it came to the last time.
type evaluation struct {
	memory  *Memory
	rows    Rows
	lasting LastingRows // or nil
	n       int
	own     []uint32 // 0, 1, 2, …
	none    []uint32 // 0, 0, 0, …
	columns steps[columnStep]
	values  steps[step[table.Value]]
	truths  steps[step[Truth]]
	words   steps[step[int64]]
}

// columnStep is what was seen of a column at the last evaluation.
type columnStep struct {
	begun uint64
	known int
}

func (e *evaluation) begin(rows Rows) {
	e.rows, e.n = rows, rows.Len()
	e.lasting, _ = rows.(LastingRows)
	e.columns.used, e.values.used, e.truths.used, e.words.used = 0, 0, 0, 0
	e.memory.values.used, e.memory.truths.used, e.memory.words.used = 0, 0, 0
}

// forget drops what was seen of columns, and with it all that follows from it.
func (e *evaluation) forget() {
	for _, c := range e.columns.all {
		*c = columnStep{}
	}
}

// instead returns what AND or OR comes to where one side is true for all rows. It is one step
// all the same, of which nothing is known.
func (e *evaluation) instead(always, other vector[Truth], or bool) vector[Truth] {
	e.truths.next().valid = 0
	if !or {
		always = other
	}
	always.known = 0
	return always
}

// allTrue reports whether there is nothing but True, where there are no more values than rows.
func (e *evaluation) allTrue(v vector[Truth]) bool {
	if len(v.of) > e.n {
		return false
	}
	for _, truth := range v.of {
		if truth != True {
			return false
		}
	}
	return true
}

// column returns a column, of which it knows how much is as it was.
func (e *evaluation) column(name string) vector[table.Value] {
	values, codes := e.rows.Values(name)
	begun := uint64(0)
	if e.lasting != nil {
		begun = e.lasting.Begun(name)
	}
	seen, known := e.columns.next(), 0
	if begun != 0 && begun == seen.begun {
		known = seen.known
	}
	*seen = columnStep{begun, len(values)}
	return vector[table.Value]{of: values, codes: codes, known: known}
}

// shape says for what there are results: for each row, or once where there are no codes, else
// for each of so many values that the codes tell, of which the first are known.
type shape struct {
	codes  []uint32
	values int
	known  int
	perRow bool
}

// with is the shape of what is made of two vectors.
func (s shape) with(o shape) shape {
	switch {
	case o.codes == nil:
		return s
	case s.codes == nil:
		return o
	case s.perRow || o.perRow || &s.codes[0] != &o.codes[0]:
		return shape{codes: s.codes, perRow: true}
	}
	return shape{s.codes, s.values, min(s.known, o.known), false}
}

// each returns the codes of rows that have a value of their own each. All such vectors share
// these.
func (e *evaluation) each() []uint32 {
	for i := len(e.own); i < e.n; i++ {
		e.own = append(e.own, uint32(i))
	}
	return e.own[:e.n]
}

// codesOf returns the codes of a vector, zeros where it has none.
func codesOf[T any](e *evaluation, v vector[T]) []uint32 {
	if v.codes != nil {
		return v.codes
	}
	if len(e.none) < e.n {
		e.none = make([]uint32, e.n*5/4)
	}
	return e.none[:e.n]
}

func each[A, B any](e *evaluation, v vector[A], f func(A) B) vector[B] {
	p := placeFor[B](e, v.shape())
	if p.perRow {
		for i, code := range v.codes {
			p.of[i] = f(v.of[code])
		}
		return p.vector
	}
	for i := p.from; i < len(p.of); i++ {
		p.of[i] = f(v.of[i])
	}
	return p.vector
}

// pairs works f out for two vectors; it is given places, since values are large.
func pairs[A, B, C any](e *evaluation, a vector[A], b vector[B], f func(a *A, b *B) C) vector[C] {
	p := placeFor[C](e, a.shape().with(b.shape()))
	if p.perRow {
		as, bs := codesOf(e, a), codesOf(e, b)
		for i := range p.of {
			p.of[i] = f(&a.of[as[i]], &b.of[bs[i]])
		}
		return p.vector
	}
	for i := p.from; i < len(p.of); i++ {
		p.of[i] = f(&a.of[min(i, len(a.of)-1)], &b.of[min(i, len(b.of)-1)])
	}
	return p.vector
}

// combine is pairs for any number of vectors.
func combine(e *evaluation, vectors []vector[table.Value], f func([]table.Value) table.Value) vector[table.Value] {
	var all shape
	for _, v := range vectors {
		all = all.with(v.shape())
	}
	p := placeFor[table.Value](e, all)
	args := make([]table.Value, len(vectors))
	if p.perRow {
		for i := range p.of {
			for a, v := range vectors {
				args[a] = v.at(i)
			}
			p.of[i] = f(args)
		}
		return p.vector
	}
	for i := p.from; i < len(p.of); i++ {
		for a, v := range vectors {
			args[a] = v.of[min(i, len(v.of)-1)]
		}
		p.of[i] = f(args)
	}
	return p.vector
}

func (e *evaluation) truth(n node) vector[Truth] {
	switch n := n.(type) {
	case comparison:
		left, right := e.value(n.left), e.value(n.right)
		if n.words && left.codes != nil && right.codes != nil && left.shape().with(right.shape()).perRow {
			return e.compareWords(left, right, n.sign)
		}
		return e.compare(left, right, n.sign)
	case isNull:
		return each(e, e.value(n.of), func(v table.Value) Truth { return truthOf((v.Kind == table.Missing) != n.not) })
	case isGap:
		return each(e, e.value(n.of), func(v table.Value) Truth {
			return truthOf((v.Kind == table.Missing && v.Mistyped() == n.mistyped) != n.not)
		})
	case between:
		of := e.value(n.of)
		low := e.compare(of, e.value(n.low), ">=")
		high := e.compare(of, e.value(n.high), "<=")
		return e.negateIf(n.not, pairs(e, low, high, minimum))
	case within:
		of, found := e.value(n.of), vector[Truth]{of: []Truth{False}}
		if n.listed != nil {
			return e.negateIf(n.not, each(e, of, n.listed))
		}
		for _, one := range n.list {
			found = pairs(e, found, e.compare(of, e.value(one), "="), maximum)
		}
		return e.negateIf(n.not, found)
	case negation:
		return e.negateIf(true, e.truth(n.of))
	case junction:
		join := minimum
		if n.or {
			join = maximum
		}
		left, right := e.truth(n.left), e.truth(n.right)
		switch { // often one side holds for all values, which is seen at a glance
		case e.allTrue(left):
			return e.instead(left, right, n.or)
		case e.allTrue(right):
			return e.instead(right, left, n.or)
		}
		return pairs(e, left, right, join)
	}
	return each(e, e.value(n), func(v table.Value) Truth {
		if v.Kind == table.Missing {
			return Unknown
		}
		return truthOf(v.True)
	})
}

// listOf looks values up in a list of literals of one kind, however long it is. It returns
// nil where the list is something else.
func listOf(list []node) (find func(table.Value) Truth) {
	among, kind, missing := map[string]bool{}, table.Missing, False
	for _, n := range list {
		one, ok := n.(literal)
		switch {
		case !ok || one.value.Kind == table.Date || one.value.Kind == table.Instant: // which are equal across kinds
			return nil
		case one.value.Kind == table.Missing:
			missing = Unknown
		case kind != table.Missing && one.value.Kind != kind:
			return nil
		default:
			kind = one.value.Kind
			among[one.value.Identity()] = true
		}
	}
	return func(v table.Value) Truth {
		switch {
		case v.Kind == table.Missing:
			return Unknown
		case among[v.Identity()]:
			return True
		}
		return missing
	}
}

func minimum(a, b *Truth) Truth { return min(*a, *b) }

func maximum(a, b *Truth) Truth { return max(*a, *b) }

func truthOf(b bool) Truth {
	if b {
		return True
	}
	return False
}

func (e *evaluation) negateIf(not bool, v vector[Truth]) vector[Truth] {
	if !not {
		return v
	}
	return each(e, v, func(t Truth) Truth { return -t })
}

var comparisons = map[string]func(int) bool{
	"=":  func(order int) bool { return order == 0 },
	"<>": func(order int) bool { return order != 0 },
	"<":  func(order int) bool { return order < 0 },
	"<=": func(order int) bool { return order <= 0 },
	">":  func(order int) bool { return order > 0 },
	">=": func(order int) bool { return order >= 0 },
}

// verdictOf returns what a comparison comes to for less, equal and greater.
func verdictOf(sign string) [3]Truth {
	holds := comparisons[sign]
	return [3]Truth{truthOf(holds(-1)), truthOf(holds(0)), truthOf(holds(1))}
}

func (e *evaluation) compare(left, right vector[table.Value], sign string) vector[Truth] {
	return pairs(e, left, right, comparing(verdictOf(sign)))
}

func comparing(verdict [3]Truth) func(a, b *table.Value) Truth {
	return func(a, b *table.Value) Truth {
		switch {
		case a.Kind == table.Missing || b.Kind == table.Missing:
			return Unknown
		case a.Kind != b.Kind:
			return verdict[1+table.Compare(*a, *b)]
		case a.Kind == table.Number:
			return verdict[1+a.Number.Cmp(b.Number)]
		case a.Kind == table.Text:
			return verdict[1+strings.Compare(a.Text, b.Text)]
		case a.Kind == table.Boolean:
			return verdict[1+table.Compare(*a, *b)]
		}
		return verdict[1+cmp.Compare(a.When, b.When)]
	}
}

// compareWords is compare for two columns of numbers or of dates, by machine words in the
// order of the values, which read little memory. The few that have none are compared in full.
func (e *evaluation) compareWords(left, right vector[table.Value], sign string) vector[Truth] {
	p := placeFor[Truth](e, left.shape().with(right.shape()))
	verdict := verdictOf(sign)
	full := comparing(verdict)
	as, bs := each(e, left, wordOf), each(e, right, wordOf)
	for i := range p.of {
		x, y := as.of[as.codes[i]], bs.of[bs.codes[i]]
		if x <= noWord || y <= noWord {
			p.of[i] = full(&left.of[left.codes[i]], &right.of[right.codes[i]])
			continue
		}
		p.of[i] = verdict[1+cmp.Compare(x, y)]
	}
	return p.vector
}

const (
	noWord    = math.MinInt64
	wordScale = 6 // digits after the point that a number's word has room for
)

// wordOf returns a machine word in the order of values of a kind, or noWord.
func wordOf(v table.Value) int64 {
	switch v.Kind {
	case table.Date, table.Instant:
		return v.When
	case table.Number:
		if word, ok := v.Number.Scaled(wordScale); ok {
			return word
		}
	}
	return noWord
}

func (e *evaluation) value(n node) vector[table.Value] {
	switch n := n.(type) {
	case literal:
		return vector[table.Value]{of: []table.Value{n.value}}
	case column:
		return e.column(n.name)
	case negative:
		return each(e, e.value(n.node), func(v table.Value) table.Value {
			if v.Kind == table.Missing {
				return v
			}
			return table.NumberValue(v.Number.Neg())
		})
	case arithmetic:
		return pairs(e, e.value(n.left), e.value(n.right), calculations[n.sign])
	case moved:
		return each(e, e.value(n.of), func(v table.Value) table.Value { return n.by.add(&v) })
	case call:
		args := make([]vector[table.Value], len(n.args))
		for i, one := range n.args {
			args[i] = e.value(one)
		}
		return combine(e, args, n.apply)
	}
	return each(e, e.truth(n), func(t Truth) table.Value {
		if t == Unknown {
			return table.Value{}
		}
		return table.BooleanValue(t == True)
	})
}

var calculations = map[byte]func(a, b *table.Value) table.Value{
	'+': ofNumbers(func(a, b table.Decimal) (table.Decimal, bool) { return a.Add(b), true }),
	'-': ofNumbers(func(a, b table.Decimal) (table.Decimal, bool) { return a.Sub(b), true }),
	'*': ofNumbers(func(a, b table.Decimal) (table.Decimal, bool) { return a.Mul(b), true }),
	'/': ofNumbers(table.Decimal.Div),
}

// ofNumbers makes a calculation that has no value where a side has none, or where f has none.
func ofNumbers(f func(a, b table.Decimal) (table.Decimal, bool)) func(a, b *table.Value) table.Value {
	return func(a, b *table.Value) table.Value {
		if a.Kind == table.Missing || b.Kind == table.Missing {
			return table.Value{}
		}
		n, ok := f(a.Number, b.Number)
		if !ok {
			return table.Value{}
		}
		return table.NumberValue(n)
	}
}

package condition

import (
	"cmp"
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

// vector is one value per row: row i holds of[codes[i]]. Without codes it holds
// of[0] for every row. What depends on one column alone is worked out once per
// distinct value of that column, since its codes are passed on untouched.
type vector[T any] struct {
	of    []T
	codes []uint32
}

func (v vector[T]) at(i int) T {
	if v.codes == nil {
		return v.of[0]
	}
	return v.of[v.codes[i]]
}

// Evaluate returns the condition's truth for each row. The condition must have passed Check.
func (c *Condition) Evaluate(rows Rows) []Truth {
	e := evaluations.Get().(*evaluation)
	defer evaluations.Put(e)
	e.rows, e.n = rows, rows.Len()
	e.values.used, e.truths.used = 0, 0
	v := e.truth(c.root)
	out := make([]Truth, e.n)
	for i := range out {
		out[i] = v.at(i)
	}
	e.rows = nil
	return out
}

// evaluation works a condition out for the rows of a batch. What it needs on the way is used
// again for the next one: making room is a good part of the work.
type evaluation struct {
	rows   Rows
	n      int
	own    []uint32 // 0, 1, 2, …
	values room[table.Value]
	truths room[Truth]
}

var evaluations = sync.Pool{New: func() any { return &evaluation{} }}

// room hands out slices, which are good until the evaluation ends.
type room[T any] struct {
	slices [][]T
	used   int
}

func (r *room[T]) take(n int) []T {
	if r.used == len(r.slices) {
		r.slices = append(r.slices, nil)
	}
	s := &r.slices[r.used]
	if r.used++; cap(*s) < n {
		*s = make([]T, n+n/4)
	}
	return (*s)[:n]
}

// taking returns room for what vectors of a kind hold; all of it is to be written.
func taking[T any](e *evaluation, n int) []T {
	switch r := any(&e.values).(type) {
	case *room[T]:
		return r.take(n)
	}
	switch r := any(&e.truths).(type) {
	case *room[T]:
		return r.take(n)
	}
	return make([]T, n)
}

// each row has a value of its own where a column has more distinct values than the batch
// has rows: the codes of such a vector. All of them share these, which pairs makes use of.
func (e *evaluation) each() []uint32 {
	for i := len(e.own); i < e.n; i++ {
		e.own = append(e.own, uint32(i))
	}
	return e.own[:e.n]
}

func each[A, B any](e *evaluation, v vector[A], f func(A) B) vector[B] {
	if v.codes != nil && len(v.of) > e.n {
		out := taking[B](e, e.n)
		for i, code := range v.codes {
			out[i] = f(v.of[code])
		}
		return vector[B]{out, e.each()}
	}
	out := taking[B](e, len(v.of))
	for i, one := range v.of {
		out[i] = f(one)
	}
	return vector[B]{out, v.codes}
}

func pairs[A, B, C any](e *evaluation, a vector[A], b vector[B], f func(A, B) C) vector[C] {
	switch {
	case a.codes == nil:
		return each(e, b, func(y B) C { return f(a.of[0], y) })
	case b.codes == nil:
		return each(e, a, func(x A) C { return f(x, b.of[0]) })
	case e.n > 0 && &a.codes[0] == &b.codes[0] && len(a.of) <= e.n:
		out := taking[C](e, len(a.of))
		for i := range out {
			out[i] = f(a.of[i], b.of[i])
		}
		return vector[C]{out, a.codes}
	}
	out := taking[C](e, e.n)
	for i := range out {
		out[i] = f(a.of[a.codes[i]], b.of[b.codes[i]])
	}
	return vector[C]{out, e.each()}
}

// combine is pairs for any number of vectors.
func combine(e *evaluation, vectors []vector[table.Value], f func([]table.Value) table.Value) vector[table.Value] {
	var shared []uint32 // the codes of all vectors that have some, where they are the same
	distinct, alone := 1, true
	for _, v := range vectors {
		switch {
		case v.codes == nil:
		case shared == nil:
			shared, distinct = v.codes, len(v.of)
		case e.n == 0 || &shared[0] != &v.codes[0]:
			alone = false
		}
	}
	args := make([]table.Value, len(vectors))
	if alone && (shared == nil || distinct <= e.n) {
		out := taking[table.Value](e, distinct)
		for i := range out {
			for a, v := range vectors {
				args[a] = v.of[min(i, len(v.of)-1)]
			}
			out[i] = f(args)
		}
		return vector[table.Value]{out, shared}
	}
	out := taking[table.Value](e, e.n)
	for i := range out {
		for a, v := range vectors {
			args[a] = v.at(i)
		}
		out[i] = f(args)
	}
	return vector[table.Value]{out, e.each()}
}

func (e *evaluation) truth(n node) vector[Truth] {
	switch n := n.(type) {
	case comparison:
		return e.compare(e.value(n.left), e.value(n.right), n.sign)
	case isNull:
		return each(e, e.value(n.of), func(v table.Value) Truth { return truthOf((v.Kind == table.Missing) != n.not) })
	case between:
		of := e.value(n.of)
		low := e.compare(of, e.value(n.low), ">=")
		high := e.compare(of, e.value(n.high), "<=")
		return e.negateIf(n.not, pairs(e, low, high, minimum))
	case within:
		of, found := e.value(n.of), vector[Truth]{of: []Truth{False}}
		if listed, ok := listOf(n.list); ok {
			return e.negateIf(n.not, each(e, of, listed))
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
		return pairs(e, e.truth(n.left), e.truth(n.right), join)
	}
	return each(e, e.value(n), func(v table.Value) Truth {
		if v.Kind == table.Missing {
			return Unknown
		}
		return truthOf(v.True)
	})
}

// listOf looks values up in a list of literals of one kind, however long it is. ok is
// false where the list is something else.
func listOf(list []node) (find func(table.Value) Truth, ok bool) {
	among, kind, missing := map[string]bool{}, table.Missing, False
	for _, n := range list {
		one, ok := n.(literal)
		switch {
		case !ok || one.value.Kind == table.Date || one.value.Kind == table.Instant: // which are equal across kinds
			return nil, false
		case one.value.Kind == table.Missing:
			missing = Unknown
		case kind != table.Missing && one.value.Kind != kind:
			return nil, false
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
	}, true
}

func minimum(a, b Truth) Truth { return min(a, b) }
func maximum(a, b Truth) Truth { return max(a, b) }

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

func (e *evaluation) compare(left, right vector[table.Value], sign string) vector[Truth] {
	holds := comparisons[sign]
	verdict := [...]Truth{truthOf(holds(-1)), truthOf(holds(0)), truthOf(holds(1))}
	return through(e, left, right, func(a, b *table.Value) Truth {
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
	})
}

// through is pairs for values, which are large, and so are not copied.
func through[C any](e *evaluation, a, b vector[table.Value], f func(a, b *table.Value) C) vector[C] {
	wide := len(a.of) > e.n || len(b.of) > e.n
	switch {
	case a.codes == nil && b.codes == nil:
		return vector[C]{of: []C{f(&a.of[0], &b.of[0])}}
	case a.codes == nil && !wide:
		out := taking[C](e, len(b.of))
		for i := range out {
			out[i] = f(&a.of[0], &b.of[i])
		}
		return vector[C]{out, b.codes}
	case b.codes == nil && !wide:
		out := taking[C](e, len(a.of))
		for i := range out {
			out[i] = f(&a.of[i], &b.of[0])
		}
		return vector[C]{out, a.codes}
	case a.codes == nil:
		out := taking[C](e, e.n)
		for i, code := range b.codes {
			out[i] = f(&a.of[0], &b.of[code])
		}
		return vector[C]{out, e.each()}
	case b.codes == nil:
		out := taking[C](e, e.n)
		for i, code := range a.codes {
			out[i] = f(&a.of[code], &b.of[0])
		}
		return vector[C]{out, e.each()}
	case e.n > 0 && &a.codes[0] == &b.codes[0] && !wide:
		out := taking[C](e, len(a.of))
		for i := range out {
			out[i] = f(&a.of[i], &b.of[i])
		}
		return vector[C]{out, a.codes}
	}
	out := taking[C](e, e.n)
	for i := range out {
		out[i] = f(&a.of[a.codes[i]], &b.of[b.codes[i]])
	}
	return vector[C]{out, e.each()}
}

func (e *evaluation) value(n node) vector[table.Value] {
	switch n := n.(type) {
	case literal:
		return vector[table.Value]{of: []table.Value{n.value}}
	case column:
		values, codes := e.rows.Values(n.name)
		return vector[table.Value]{values, codes}
	case negative:
		return each(e, e.value(n.node), func(v table.Value) table.Value {
			if v.Kind == table.Missing {
				return v
			}
			return table.NumberValue(v.Number.Neg())
		})
	case arithmetic:
		return through(e, e.value(n.left), e.value(n.right), calculations[n.sign])
	case moved:
		return through(e, e.value(n.of), vector[table.Value]{of: []table.Value{{}}}, func(v, _ *table.Value) table.Value { return n.by.add(v) })
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

package condition

import (
	"cmp"

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
	e := evaluation{rows}
	v := e.truth(c.root)
	out := make([]Truth, rows.Len())
	for i := range out {
		out[i] = v.at(i)
	}
	return out
}

type evaluation struct{ rows Rows }

func each[A, B any](v vector[A], f func(A) B) vector[B] {
	out := make([]B, len(v.of))
	for i, one := range v.of {
		out[i] = f(one)
	}
	return vector[B]{out, v.codes}
}

func pairs[A, B, C any](rows int, a vector[A], b vector[B], f func(A, B) C) vector[C] {
	switch {
	case a.codes == nil:
		return each(b, func(y B) C { return f(a.of[0], y) })
	case b.codes == nil:
		return each(a, func(x A) C { return f(x, b.of[0]) })
	case rows > 0 && &a.codes[0] == &b.codes[0]:
		out := make([]C, len(a.of))
		for i := range out {
			out[i] = f(a.of[i], b.of[i])
		}
		return vector[C]{out, a.codes}
	}
	out, codes := make([]C, rows), make([]uint32, rows)
	for i := range rows {
		out[i], codes[i] = f(a.of[a.codes[i]], b.of[b.codes[i]]), uint32(i)
	}
	return vector[C]{out, codes}
}

// combine is pairs for any number of vectors.
func combine(rows int, vectors []vector[table.Value], f func([]table.Value) table.Value) vector[table.Value] {
	var shared []uint32 // the codes of all vectors that have some, where they are the same
	distinct, alone := 1, true
	for _, v := range vectors {
		switch {
		case v.codes == nil:
		case shared == nil:
			shared, distinct = v.codes, len(v.of)
		case rows == 0 || &shared[0] != &v.codes[0]:
			alone = false
		}
	}
	args := make([]table.Value, len(vectors))
	if alone {
		out := make([]table.Value, distinct)
		for i := range out {
			for a, v := range vectors {
				args[a] = v.of[min(i, len(v.of)-1)]
			}
			out[i] = f(args)
		}
		return vector[table.Value]{out, shared}
	}
	out, codes := make([]table.Value, rows), make([]uint32, rows)
	for i := range rows {
		for a, v := range vectors {
			args[a] = v.at(i)
		}
		out[i], codes[i] = f(args), uint32(i)
	}
	return vector[table.Value]{out, codes}
}

func (e evaluation) truth(n node) vector[Truth] {
	switch n := n.(type) {
	case comparison:
		return e.compare(e.value(n.left), e.value(n.right), n.sign)
	case isNull:
		return each(e.value(n.of), func(v table.Value) Truth { return truthOf((v.Kind == table.Missing) != n.not) })
	case between:
		of := e.value(n.of)
		low := e.compare(of, e.value(n.low), ">=")
		high := e.compare(of, e.value(n.high), "<=")
		return e.negateIf(n.not, pairs(e.rows.Len(), low, high, minimum))
	case within:
		of, found := e.value(n.of), vector[Truth]{of: []Truth{False}}
		if listed, ok := listOf(n.list); ok {
			return e.negateIf(n.not, each(of, listed))
		}
		for _, one := range n.list {
			found = pairs(e.rows.Len(), found, e.compare(of, e.value(one), "="), maximum)
		}
		return e.negateIf(n.not, found)
	case negation:
		return e.negateIf(true, e.truth(n.of))
	case junction:
		join := minimum
		if n.or {
			join = maximum
		}
		return pairs(e.rows.Len(), e.truth(n.left), e.truth(n.right), join)
	}
	return each(e.value(n), func(v table.Value) Truth {
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

func (e evaluation) negateIf(not bool, v vector[Truth]) vector[Truth] {
	if !not {
		return v
	}
	return each(v, func(t Truth) Truth { return -t })
}

var comparisons = map[string]func(int) bool{
	"=":  func(order int) bool { return order == 0 },
	"<>": func(order int) bool { return order != 0 },
	"<":  func(order int) bool { return order < 0 },
	"<=": func(order int) bool { return order <= 0 },
	">":  func(order int) bool { return order > 0 },
	">=": func(order int) bool { return order >= 0 },
}

func (e evaluation) compare(left, right vector[table.Value], sign string) vector[Truth] {
	holds := comparisons[sign]
	verdict := [...]Truth{truthOf(holds(-1)), truthOf(holds(0)), truthOf(holds(1))}
	one := func(a, b *table.Value) Truth {
		if a.Kind == table.Missing || b.Kind == table.Missing {
			return Unknown
		}
		if a.Kind == b.Kind && (a.Kind == table.Date || a.Kind == table.Instant) { // as often as not
			return verdict[1+cmp.Compare(a.When, b.When)]
		}
		return verdict[1+table.Compare(*a, *b)]
	}
	rows := e.rows.Len()
	if left.codes == nil || right.codes == nil || rows > 0 && &left.codes[0] == &right.codes[0] {
		return pairs(rows, left, right, func(a, b table.Value) Truth { return one(&a, &b) })
	}
	out, codes := make([]Truth, rows), make([]uint32, rows)
	for i := range rows {
		out[i], codes[i] = one(&left.of[left.codes[i]], &right.of[right.codes[i]]), uint32(i)
	}
	return vector[Truth]{out, codes}
}

func (e evaluation) value(n node) vector[table.Value] {
	switch n := n.(type) {
	case literal:
		return vector[table.Value]{of: []table.Value{n.value}}
	case column:
		values, codes := e.rows.Values(n.name)
		return vector[table.Value]{values, codes}
	case negative:
		return each(e.value(n.node), func(v table.Value) table.Value {
			if v.Kind == table.Missing {
				return v
			}
			return table.NumberValue(v.Number.Neg())
		})
	case arithmetic:
		return pairs(e.rows.Len(), e.value(n.left), e.value(n.right), func(a, b table.Value) table.Value {
			return calculate(n.sign, a, b)
		})
	case call:
		args := make([]vector[table.Value], len(n.args))
		for i, one := range n.args {
			args[i] = e.value(one)
		}
		return combine(e.rows.Len(), args, n.apply)
	}
	return each(e.truth(n), func(t Truth) table.Value {
		if t == Unknown {
			return table.Value{}
		}
		return table.BooleanValue(t == True)
	})
}

func calculate(sign byte, a, b table.Value) table.Value {
	if a.Kind == table.Missing || b.Kind == table.Missing {
		return table.Value{}
	}
	x, y := a.Number, b.Number
	switch sign {
	case '+':
		return table.NumberValue(x.Add(y))
	case '-':
		return table.NumberValue(x.Sub(y))
	case '*':
		return table.NumberValue(x.Mul(y))
	}
	q, ok := x.Div(y)
	if !ok {
		return table.Value{}
	}
	return table.NumberValue(q)
}

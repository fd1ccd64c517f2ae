package condition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Check types the condition against the columns of a table: every name must be a
// column, and only like kinds may be compared. It returns all mistakes, each an
// *Error, and resolves names that differ from a column in case alone.
func (c *Condition) Check(types map[string]table.Type) []error {
	k := &checker{types: types}
	root, kind := k.check(c.root)
	if kind != table.Boolean && kind != table.Missing && len(k.errors) == 0 {
		k.fail(c.root.place(), "the condition is a %s, not true or false; compare it with something", kind)
	}
	if len(k.errors) == 0 {
		c.root, c.names = root, k.names
	}
	return k.errors
}

// Compile parses and checks a condition; every mistake is an *Error.
func Compile(source string, types map[string]table.Type) (*Condition, []error) {
	c, mistakes := Parse(source)
	if len(mistakes) > 0 {
		return nil, mistakes
	}
	return c, c.Check(types)
}

type checker struct {
	types  map[string]table.Type
	names  []string
	errors []error
}

func (k *checker) fail(place int, format string, args ...any) {
	e := &Error{place, fmt.Sprintf(format, args...)}
	for _, known := range k.errors { // BETWEEN and IN look at their left side once per bound
		if *known.(*Error) == *e {
			return
		}
	}
	k.errors = append(k.errors, e)
}

// check returns the node, with names and literals resolved, and its kind; Missing for NULL.
func (k *checker) check(n node) (node, table.Kind) {
	switch n := n.(type) {
	case literal:
		return n, n.value.Kind
	case column:
		return k.column(n)
	case negative:
		of, kind := k.check(n.node)
		k.want(of, kind, table.Number, "a minus sign")
		return negative{of}, table.Number
	case interval:
		k.fail(n.place(), "an interval is added to or taken from a date")
		return n, table.Missing
	case call:
		return k.call(n)
	case arithmetic:
		left, a := k.operand(n.left)
		right, b := k.operand(n.right)
		if moves(left, a) || moves(right, b) {
			return k.moving(n, left, a, right, b)
		}
		k.want(left, a, table.Number, "arithmetic")
		k.want(right, b, table.Number, "arithmetic")
		return arithmetic{n.at, n.sign, left, right}, table.Number
	case comparison:
		left, a := k.check(n.left)
		right, b := k.check(n.right)
		left, right = k.alike(left, a, right, b, n.sign)
		return comparison{n.at, n.sign, left, right, a == b && (a == table.Number || a == table.Date ||
			a == table.Instant)}, table.Boolean
	case isNull:
		of, _ := k.check(n.of)
		return isNull{n.at, of, n.not}, table.Boolean
	case isGap:
		of, _ := k.check(n.of)
		return isGap{n.at, of, n.mistyped, n.not}, table.Boolean
	case between:
		of, kind := k.check(n.of)
		low, lowKind := k.check(n.low)
		high, highKind := k.check(n.high)
		of, low = k.alike(of, kind, low, lowKind, "BETWEEN")
		of, high = k.alike(of, kind, high, highKind, "BETWEEN")
		return between{n.at, of, low, high, n.not}, table.Boolean
	case within:
		of, kind := k.check(n.of)
		list := make([]node, len(n.list))
		for i, one := range n.list {
			one, oneKind := k.check(one)
			of, list[i] = k.alike(of, kind, one, oneKind, "IN")
		}
		return within{n.at, of, list, n.not, listOf(list)}, table.Boolean
	case negation:
		of, kind := k.check(n.of)
		k.want(of, kind, table.Boolean, "NOT")
		return negation{n.at, of}, table.Boolean
	case junction:
		word := "AND"
		if n.or {
			word = "OR"
		}
		left, a := k.check(n.left)
		right, b := k.check(n.right)
		k.want(left, a, table.Boolean, word)
		k.want(right, b, table.Boolean, word)
		return junction{n.at, n.or, left, right}, table.Boolean
	}
	panic(fmt.Sprintf("condition: unknown node %T", n))
}

// operand checks a side of a sum, which may be an interval.
func (k *checker) operand(n node) (node, table.Kind) {
	if by, ok := n.(interval); ok {
		return by, table.Missing
	}
	if minus, ok := n.(negative); ok {
		if by, ok := minus.node.(interval); ok {
			return interval{by.at, by.span.negative()}, table.Missing
		}
	}
	return k.check(n)
}

// moves reports whether a side of a sum makes it one of dates.
func moves(n node, kind table.Kind) bool {
	_, by := n.(interval)
	return by || kind == table.Date || kind == table.Instant
}

func (k *checker) want(n node, kind, wanted table.Kind, for_ string) {
	if kind != wanted && kind != table.Missing {
		k.fail(n.place(), "%s wants a %s, and this is a %s", for_, wanted, kind)
	}
}

// alike checks two sides that are to be compared. A text literal beside a date or
// datetime is read as one, as SQL does.
func (k *checker) alike(left node, a table.Kind, right node, b table.Kind, for_ string) (node, node) {
	left, a = k.coerce(left, a, b)
	right, b = k.coerce(right, b, a)
	temporal := (a == table.Date || a == table.Instant) && (b == table.Date || b == table.Instant)
	if a != b && a != table.Missing && b != table.Missing && !temporal {
		k.fail(right.place(), "%s compares a %s with a %s; both sides must be of one kind", for_, a, b)
	}
	return left, right
}

func (k *checker) coerce(n node, kind, other table.Kind) (node, table.Kind) {
	text, ok := n.(literal)
	if !ok || kind != table.Text || (other != table.Date && other != table.Instant) {
		return n, kind
	}
	for _, t := range []table.Type{table.TypeDate, table.TypeDateTime} {
		if v, ok := table.StandardFormat.Parse(t, text.value.Text); ok {
			return literal{text.at, v}, v.Kind
		}
	}
	k.fail(text.place(), "%q is no date of the calendar; write it as DATE '2024-05-31'", text.value.Text)
	return n, table.Missing
}

func (k *checker) column(n column) (node, table.Kind) {
	kind, ok := k.types[n.name]
	if !ok {
		var same []string
		for name := range k.types {
			if strings.EqualFold(name, n.name) {
				same = append(same, name)
			}
		}
		if len(same) != 1 {
			k.fail(n.place(), "there is no column %q%s", n.name,
				document.Nearest(n.name, slices.Sorted(maps.Keys(k.types))))
			return n, table.Missing
		}
		n.name, kind = same[0], k.types[same[0]]
	}
	n.kind = kind.Kind()
	for _, name := range k.names {
		if name == n.name {
			return n, n.kind
		}
	}
	k.names = append(k.names, n.name)
	return n, n.kind
}

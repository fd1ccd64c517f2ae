package condition

import (
	"strings"

	"proudsieve/core/table"
)

// Expression is what has a value in each row: a column, what is worked out of several, what a function makes of them.
type Expression struct {
	condition Condition
	// Kind is that of its values.
	Kind table.Kind
}

// CompileExpression parses and checks an expression; every mistake is an *Error.
func CompileExpression(source string, types map[string]table.Type) (*Expression, []error) {
	c, mistakes := Parse(source)
	if len(mistakes) > 0 {
		return nil, mistakes
	}
	k := &checker{types: types}
	root, kind := k.check(c.root)
	if kind == table.Missing && len(k.errors) == 0 {
		k.fail(c.root.place(), "this has no value in any row")
	}
	if len(k.errors) > 0 {
		return nil, k.errors
	}
	c.root, c.names = root, k.names
	return &Expression{*c, kind}, nil
}

// String returns the source.
func (x *Expression) String() string { return x.condition.source }

// Names returns the columns that the expression speaks of.
func (x *Expression) Names() []string { return x.condition.names }

// ExpressionEvaluator works an expression out for one batch after the other.
type ExpressionEvaluator struct{ evaluator *Evaluator }

// Evaluator returns an evaluator of the expression. All those of one memory are used by one goroutine.
func (x *Expression) Evaluator(memory *Memory) *ExpressionEvaluator {
	return &ExpressionEvaluator{x.condition.Evaluator(memory)}
}

// Values returns the value of each row, values[codes[i]] of row i; they are good until the next call. A value that cannot
// be worked out is missing.
func (x *ExpressionEvaluator) Values(rows Rows) (values []table.Value, codes []uint32) {
	e := x.evaluator
	if rows.Len() == 0 {
		return nil, nil
	}
	e.begin(rows)
	v := e.value(e.condition.root)
	e.rows, e.lasting = nil, nil
	return v.of, codesOf(&e.evaluation, v)
}

// Next returns a function that tells the period after one, where the values of the expression are periods, as those of
// DATE_TRUNC('month', day); nil for other expressions.
func (x *Expression) Next() func(period table.Value) table.Value {
	c, ok := x.condition.root.(call)
	if !ok || c.name != "DATE_TRUNC" {
		return nil
	}
	unit, ok := c.args[0].(literal)
	of, known := periods[strings.ToLower(unit.value.Text)]
	if !ok || !known {
		return nil
	}
	return func(period table.Value) table.Value { return of.length.add(&period) }
}

package fix

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Frame is what the steps before it leave to a step: the columns, and how the cells of each are read.
type Frame struct {
	Names []string
	Cells []*rulebook.Cells
}

func frameOf(book *rulebook.Rulebook, names []string) *Frame {
	f := &Frame{Names: names}
	for _, name := range names {
		f.Cells = append(f.Cells, book.Cells(name))
	}
	return f
}

// At returns the place of a column, -1 where there is none of that name.
func (f *Frame) At(name string) int { return slices.Index(f.Names, name) }

// Types returns what conditions and expressions may name.
func (f *Frame) Types() map[string]table.Type {
	types := make(map[string]table.Type, len(f.Names))
	for i, name := range f.Names {
		types[name] = f.Cells[i].Type
	}
	return types
}

// With returns the frame with one more column at its end.
func (f *Frame) With(name string, cells *rulebook.Cells) *Frame {
	return &Frame{append(slices.Clone(f.Names), name), append(slices.Clone(f.Cells), cells)}
}

// Clone returns a frame whose columns can be changed.
func (f *Frame) Clone() *Frame { return &Frame{slices.Clone(f.Names), slices.Clone(f.Cells)} }

// All returns the place of every column.
func (f *Frame) All() []int {
	all := make([]int, len(f.Names))
	for i := range all {
		all[i] = i
	}
	return all
}

// Binder fits a step to the columns that it finds, when the plan is read and again when it meets a table. It gathers what
// does not fit.
type Binder struct {
	*Frame
	Book *rulebook.Rulebook // of the dataset
	// Result is the rulebook of the dataset that the plan makes, which says of what type new columns are.
	Result *rulebook.Rulebook
	// Reading says that the plan is being read, and the columns are those that are declared.
	Reading bool
	// Earlier says that the plan is one of Plan.AsEarlier.
	Earlier bool
	wrong   func(field, item string, err error)
	fails   bool
}

// Wrong records a mistake in a field; an empty field stands for the step.
func (b *Binder) Wrong(field, format string, args ...any) {
	b.wrongIn(field, "", fmt.Errorf(format, args...))
}

func (b *Binder) wrongIn(field, item string, err error) {
	b.fails = true
	b.wrong(field, item, err)
}

// Column returns the place of a column that a field names; -1 where there is none, which is a mistake.
func (b *Binder) Column(field, name string) int {
	at := b.At(name)
	if at < 0 {
		b.wrongIn(field, name, &noColumn{name, b.Names})
	}
	return at
}

// Columns returns the places of columns that a field names.
func (b *Binder) Columns(field string, names []string) []int {
	out := make([]int, len(names))
	for i, name := range names {
		out[i] = b.Column(field, name)
		if slices.Index(names, name) != i {
			b.wrongIn(field, name, fmt.Errorf("the column %q stands twice", name))
		}
	}
	return out
}

// Numbers is Columns of numbers alone.
func (b *Binder) Numbers(field string, names []string) []int {
	out := b.Columns(field, names)
	for i, at := range out {
		if at >= 0 && !b.Cells[at].Type.IsNumber() {
			b.wrongIn(field, names[i], fmt.Errorf("the values of %q are of type %s; this is for numbers", names[i], b.Cells[at].Type))
		}
	}
	return out
}

// New checks the name of a column that the step makes.
func (b *Binder) New(field, name string) {
	switch {
	case strings.TrimSpace(name) == "" || name != strings.TrimSpace(name):
		b.wrongIn(field, name, fmt.Errorf("%q is no name of a column; it has letters or digits, and no spaces around them", name))
	case b.At(name) >= 0:
		b.wrongIn(field, name, fmt.Errorf("there is a column %q already", name))
	}
}

// NewIn is New for the columns that a step leaves; mistakes are those of the step that b is for.
func (f *Frame) NewIn(b *Binder, field, name string) {
	check := Binder{Frame: f, wrong: b.wrongIn}
	check.New(field, name)
}

// Made returns how the cells of a new column are read: by its declaration where the rulebook has one, or by the type of
// what is put into it.
func (b *Binder) Made(name string, kind table.Kind) *rulebook.Cells {
	if b.Result.Column(name) != nil {
		return b.Result.Cells(name).InStandardForm()
	}
	switch kind {
	case table.Number:
		return rulebook.OfType(table.TypeDecimal)
	case table.Boolean:
		return rulebook.OfType(table.TypeBoolean)
	case table.Date:
		return rulebook.OfType(table.TypeDate)
	case table.Instant:
		return rulebook.OfType(table.TypeDateTime)
	}
	return rulebook.OfType(table.TypeText)
}

// Condition compiles a condition on the columns; nil where it has mistakes.
func (b *Binder) Condition(field, source string) *condition.Condition {
	c, errs := condition.Compile(source, b.Types())
	for _, err := range errs {
		b.wrongIn(field, "", inside{"in the condition: ", err})
	}
	if len(errs) > 0 {
		return nil
	}
	return c
}

// Expression compiles an expression on the columns; nil where it has mistakes.
func (b *Binder) Expression(field, source string) *condition.Expression {
	x, errs := condition.CompileExpression(source, b.Types())
	for _, err := range errs {
		b.wrongIn(field, "", inside{"in the expression: ", err})
	}
	if len(errs) > 0 {
		return nil
	}
	return x
}

// inside is a mistake at a place in the text of a field.
type inside struct {
	prefix string
	err    error
}

// Error implements error.
func (i inside) Error() string { return i.prefix + i.err.Error() }

// noColumn is a column that a step names and the table does not have.
type noColumn struct {
	name  string
	known []string
}

// Error implements error.
func (n *noColumn) Error() string {
	return fmt.Sprintf("the table has no column %q; its columns are %s", n.name, strings.Join(n.known, ", "))
}

// Work is what a step does to the table that it was bound to. It is Edit, then Drop, for each batch by itself; or
// Settle, which looks at the whole table first; or Make, which makes other rows of it. None of them only gives the columns
// other names or places.
type Work struct {
	// Frame has the columns that the step leaves; nil where they stay as they are.
	Frame *Frame
	// From says of each column of Frame which it was before; -1 for a new one, which is empty until Edit fills it. Nil
	// where columns stay where they are, and others may follow them.
	From []int
	// Edit returns what stands in columns of Frame then. It is called by several goroutines at once.
	Edit func(rows *Rows) ([]Edit, error)
	// Drop returns which rows leave.
	Drop func(rows *Rows) (func(at int) Leaves, error)
	// Settle reads the whole table, and returns the Edit or Drop that follows from it.
	Settle func(ctx context.Context, t *Table) (*Work, error)
	// Make reads the whole table and writes the rows of the next one.
	Make func(ctx context.Context, t *Table, out *Maker) error
	// Note says what a steward should look at, by what was counted.
	Note func(counts map[string]int64) string
	// Judge says, by what was counted of the whole table, why the step must not be done, and how many rows that is about; an
	// empty text where nothing speaks against it.
	Judge func(counts map[string]int64) (why string, rows int64)
	// Estimates, where it is set, says how cells are estimated: all that Edit changes are marked by it. It has no rows.
	Estimates *table.Mark
	// Estimated says, of a step that estimates, what it went by; the engine adds what became of it.
	Estimated *Estimated
	// Compare says, of a step that estimates, what each method would make of the gaps.
	Compare func(ctx context.Context, t *Table) (*estimate.Comparison, error)
	// Reads are, of what Settle returns, the columns that Edit and Drop look at; nil for all.
	Reads []int
	// Close, where it is set, gives back what Edit or Drop look at.
	Close func()
}

// Leaves says what becomes of a row.
type Leaves struct {
	Table bool
	// KeptBy is the row that stays in its place, with its cells; 0 for none.
	KeptBy uint32
	Stays  []string
}

// Edit is what stands in a column of a batch once a step has changed it.
type Edit struct {
	Column int
	New    table.Column
	// Draws returns, where it is set, all estimates of a cell that is changed, the one of New first.
	Draws func(at int) []table.Value
}

// Package export writes a table for those who analyse it: dates as dates, decimals as decimals, codes with their labels if
// wanted, estimates marked. A kind of file is one file of this package.
//
// What a file of typed columns cannot hold as it is, is never altered in silence: a column with a text that is no value of its
// type is refused, unless such columns are asked for as text, whole.
package export

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Asked is what is to be written.
type Asked struct {
	Format  *Format
	Packing string // one of Packings; empty for none
	// Columns are those that are written, in this order; none for all.
	Columns []string
	Rows    *table.RowSet // those that are written; nil for all
	// Labels writes, beside each code, what it stands for.
	Labels bool
	// Mixed writes a column that has texts that are no values of its type as text, whole.
	Mixed bool
	// Exact leaves texts of CSV as they are that a spreadsheet would run as a formula; others get an apostrophe before them.
	Exact   bool
	Title   string // of the table
	Workers int
}

// Column is a column of the file.
type Column struct {
	Name  string
	Title string
	Unit  string
	Of    string // the column of the table that it is of, or beside which it stands
	Type  table.Type
	// Mixed says that it is written as text, since so many of its texts are no value of its type.
	Mixed int64
	// Scale is how many digits its numbers have after the point at the most, and Whole before it.
	Scale, Whole int

	at        int // in the table
	cells     *rulebook.Cells
	labels    map[string]string // of a column of labels, by code
	estimated *table.RowSet     // of a column that says which cells are estimates
}

// File is a table that was measured, and can be written.
type File struct {
	Columns []Column
	Count   int64 // rows
	asked   *Asked
	source  table.Source
}

// ErrMixed tells that columns have texts that are no values of their type, and ErrUnheld that the format cannot hold what is there.
var (
	ErrMixed  = errors.New("a column has texts that are no values of its type")
	ErrUnheld = errors.New("the format cannot hold it")
	// ErrColumns tells that a column is asked for that is not there, or twice.
	ErrColumns = errors.New("the columns cannot be written so")
)

// Measure goes through a table once, for what its columns need, so that whatever cannot be written is told before anything is.
func Measure(ctx context.Context, source table.Source, book *rulebook.Rulebook, asked *Asked) (*File, error) {
	f := &File{asked: asked, source: source}
	if err := f.lay(book); err != nil {
		return nil, err
	}
	whole := make([]measured, len(f.Columns))
	err := scan(ctx, f, func(b *table.Batch) (*pieces, error) {
		p := &pieces{rows: int64(b.Len()), columns: make([]measured, len(f.Columns))}
		for i := range f.Columns {
			p.columns[i].measure(&f.Columns[i], b, asked.Format.Unheld)
		}
		return p, nil
	}, func(p *pieces) error {
		f.Count += p.rows
		for i := range whole {
			whole[i].add(&p.columns[i])
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var refused []string
	for i := range f.Columns {
		c, m := &f.Columns[i], &whole[i]
		c.Scale, c.Whole = m.scale, m.whole
		if m.unheld > 0 {
			return nil, fmt.Errorf("%w: %s of %s %s; leave the column out, or choose another format", ErrUnheld, document.Counted(m.unheld, "cell", "cells"), c.Name, m.why)
		}
		if m.mistyped == 0 || !asked.Format.Typed {
			continue
		}
		if c.Mixed = m.mistyped; !asked.Mixed {
			refused = append(refused, fmt.Sprintf("%s of %s %s no %s, as %q", document.Counted(m.mistyped, "cell", "cells"), c.Name, document.Plural(m.mistyped, "is", "are"), c.Type, m.first))
		}
		c.Type = table.TypeText
	}
	if len(refused) > 0 {
		return nil, fmt.Errorf("%w: %s. Put them right, or ask for such columns as text", ErrMixed, strings.Join(refused, "; "))
	}
	if most := asked.Format.MostRows; most > 0 && f.Count > most {
		return nil, fmt.Errorf("%w: %s takes %s at the most, and there are %s; choose fewer, or another format", ErrUnheld, asked.Format.Says, document.Counted(most, "row", "rows"),
			document.Grouped(f.Count))
	}
	return f, nil
}

// lay lays out the columns of the file.
func (f *File) lay(book *rulebook.Rulebook) error {
	names := f.source.Columns()
	columns := f.asked.Columns
	if len(columns) == 0 {
		columns = names
	}
	marks := table.MarksOf(f.source)
	taken := slices.Clone(names)
	beside := func(name, what string) string {
		name = table.Beside(name, what, taken)
		taken = append(taken, name)
		return name
	}
	for i, name := range columns {
		if slices.Contains(columns[:i], name) {
			return fmt.Errorf("%w: %q is asked for twice", ErrColumns, name)
		}
		at := slices.Index(names, name)
		if at < 0 {
			return fmt.Errorf("%w: the table has no column %q", ErrColumns, name)
		}
		c := Column{Name: name, Of: name, Type: table.TypeText, at: at, cells: book.Cells(name)}
		c.Type = c.cells.Type
		declared := c.cells.Declared
		if declared != nil {
			c.Title, c.Unit = declared.Title, declared.Unit
		}
		f.Columns = append(f.Columns, c)
		if f.asked.Labels && declared != nil && c.Type == table.TypeCode {
			if labels := labelsOf(book.CodeLists[declared.CodeList]); len(labels) > 0 {
				f.Columns = append(f.Columns, Column{Name: beside(name, "_label"), Title: "What " + name + " stands for", Of: name, Type: table.TypeText, at: at, cells: c.cells, labels: labels})
			}
		}
		if rows := marks.In(name); rows != nil {
			f.Columns = append(f.Columns, Column{Name: beside(name, "_estimated"), Title: "Whether " + name + " is an estimate", Of: name, Type: table.TypeBoolean, at: at, estimated: rows})
		}
	}
	return nil
}

func labelsOf(list *rulebook.CodeList) map[string]string {
	labels := map[string]string{}
	if list != nil {
		for _, c := range list.Codes {
			if c.Label != "" {
				labels[c.Code] = c.Label
			}
		}
	}
	return labels
}

// pieces are what was measured of a batch.
type pieces struct {
	rows    int64
	columns []measured
}

// measured is what a column needs.
type measured struct {
	mistyped     int64
	first        string // that is of another type
	unheld       int64  // cells that the format cannot hold
	why          string // it cannot
	scale, whole int
}

func (m *measured) measure(c *Column, b *table.Batch, unheld func(string) string) {
	plain := c.Type == table.TypeText || c.Type == table.TypeCode
	if c.estimated != nil || c.labels != nil || plain && unheld == nil {
		return
	}
	column := &b.Columns[c.at]
	counts := column.Counts(nil)
	for i, text := range column.Texts {
		if counts[i] == 0 {
			continue
		}
		if unheld != nil {
			if why := unheld(text); why != "" {
				m.unheld, m.why = m.unheld+counts[i], cmp.Or(m.why, why)
			}
		}
		if plain {
			continue
		}
		switch cell := c.cells.Read(text); {
		case cell.Mistyped:
			if m.mistyped += counts[i]; m.first == "" {
				m.first = text
			}
		case c.Type.IsNumber() && !cell.Missing:
			written := strings.TrimPrefix(cell.Value.Number.String(), "-")
			before, after, _ := strings.Cut(written, ".")
			m.scale, m.whole = max(m.scale, len(after)), max(m.whole, len(strings.TrimLeft(before, "0")))
		}
	}
}

func (m *measured) add(o *measured) {
	if m.first == "" {
		m.first = o.first
	}
	m.mistyped += o.mistyped
	m.unheld, m.why = m.unheld+o.unheld, cmp.Or(m.why, o.why)
	m.scale, m.whole = max(m.scale, o.scale), max(m.whole, o.whole)
}

// Lines are rows of the file.
type Lines [][]table.Value

// Write writes the file. It streams: what it holds does not grow with the rows.
func (f *File) Write(ctx context.Context, out io.Writer) error {
	packed, err := pack(out, f.asked.Packing)
	if err != nil {
		return err
	}
	w, err := f.asked.Format.begin(packed, f)
	if err != nil {
		return err
	}
	err = scan(ctx, f, func(b *table.Batch) (Lines, error) { return f.lines(b), nil }, w.write)
	if err := errors.Join(err, w.end(err == nil)); err != nil {
		return err
	}
	return packed.Close()
}

func (f *File) lines(b *table.Batch) Lines {
	out := make(Lines, b.Len())
	cells := make([]table.Value, b.Len()*len(f.Columns))
	for r := range out {
		out[r] = cells[r*len(f.Columns) : (r+1)*len(f.Columns)]
	}
	for i := range f.Columns {
		c := &f.Columns[i]
		if c.estimated != nil {
			for r, row := range b.Rows {
				out[r][i] = table.BooleanValue(c.estimated.Contains(row))
			}
			continue
		}
		column := &b.Columns[c.at]
		values := make([]table.Value, len(column.Texts)) // of each text once
		for t, text := range column.Texts {
			values[t] = c.value(text)
		}
		for r := range out {
			out[r][i] = values[column.Codes[r]]
		}
	}
	return out
}

// value is what the file has for a text.
func (c *Column) value(text string) table.Value {
	cell := c.cells.Read(text)
	switch {
	case cell.Missing:
		return table.Value{}
	case c.labels != nil:
		if label, ok := c.labels[cell.Value.Text]; ok {
			return table.TextValue(label)
		}
		return table.Value{}
	case cell.Mistyped, c.Type == table.TypeText, c.Type == table.TypeCode:
		return table.TextValue(text) // as it stands: another spelling of a code is told apart from it
	}
	return cell.Value
}

// scan goes through the rows that are written, in their order.
func scan[T any](ctx context.Context, f *File, work func(*table.Batch) (T, error), take func(T) error) error {
	if f.asked.Rows != nil && f.asked.Rows.IsEmpty() {
		return nil
	}
	return table.ScanBatches(ctx, table.Where(f.source, f.asked.Rows), f.asked.Workers, func(b *table.Batch) (T, error) {
		if rows := f.asked.Rows; rows != nil {
			b = b.Keep(func(i int) bool { return !rows.Contains(b.Rows[i]) })
		}
		return work(b)
	}, take)
}

// units is a decimal as a whole number of units of its scale.
func units(d table.Decimal, scale int) *big.Int {
	text := d.String()
	before, after, _ := strings.Cut(text, ".")
	n, _ := new(big.Int).SetString(before+after+strings.Repeat("0", max(scale-len(after), 0)), 10)
	return n
}

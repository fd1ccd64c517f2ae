// Package waiver says what a finding is accepted for, and what of a later finding that covers.
//
// Somebody who waives a finding accepts what there is of it, and no more: some texts, some rows, or so many of them. A
// Scope says which. Cover holds a finding against the scopes in force and tells what is beyond them, row by row, so that
// a waiver never grows with the data.
package waiver

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/table"
)

// Most is how many texts, or rows, one scope can name.
const Most = 10_000

// Scope is what a finding is accepted for: texts of a column, rows, a number of rows, or what it says.
type Scope struct {
	// Texts are those that are accepted in Column, compared as values of its type; "" stands for a missing value.
	Column string   `json:"column,omitempty"`
	Texts  []string `json:"texts,omitempty"`
	// Rows are those that are accepted, each by what stands in Columns: the columns of a key, and those that the rule
	// names, so that a row in which something else stands is another one.
	Columns []string   `json:"columns,omitempty"`
	Rows    []NamedRow `json:"rows,omitempty"`
	// Count is how many rows are accepted, whichever they are, of a table of Of rows. Of a smaller table as great a share
	// is, rounded up; of a greater one no more than Count.
	Count int64 `json:"count,omitempty"`
	Of    int64 `json:"of,omitempty"`
	// Says is what the finding said, of one that is not of rows; another sentence is not covered.
	Says string `json:"says,omitempty"`
}

// NamedRow is a row as a scope names it, and how many such rows there may be.
type NamedRow struct {
	Cells []string `json:"cells"`
	Times int64    `json:"times"`
}

// Kind says what a scope is of.
func (s *Scope) Kind() string {
	switch {
	case len(s.Texts) > 0:
		return "texts"
	case len(s.Rows) > 0:
		return "rows"
	case s.Says != "":
		return "sentence"
	}
	return "count"
}

// Check says what is wrong with a scope that somebody wrote; nil where nothing is.
func (s *Scope) Check() error {
	ways := 0
	for _, given := range []bool{len(s.Texts) > 0, len(s.Rows) > 0, s.Count > 0, s.Says != ""} {
		if given {
			ways++
		}
	}
	switch {
	case ways != 1:
		return fmt.Errorf("a waiver is for texts, for rows or for a number of rows, one of them")
	case len(s.Texts) > 0 && s.Column == "":
		return fmt.Errorf("texts are accepted in a column; name it")
	case len(s.Texts) > Most || len(s.Rows) > Most:
		return fmt.Errorf("a waiver names at most %s texts or rows", document.Grouped(Most))
	case s.Count > 0 && s.Of < s.Count:
		return fmt.Errorf("%d rows are accepted of a table of %d", s.Count, s.Of)
	}
	for _, r := range s.Rows {
		if len(r.Cells) != len(s.Columns) || r.Times < 1 {
			return fmt.Errorf("a row is named by its %d columns, and is there once at least", len(s.Columns))
		}
	}
	return nil
}

// textsSaid is how many texts a scope names in words.
const textsSaid = 5

// String says in words what is accepted, as "3 texts of parameter: a, b and c".
func (s *Scope) String() string {
	switch s.Kind() {
	case "texts":
		quoted := []string{}
		for _, t := range s.Texts[:min(len(s.Texts), textsSaid)] {
			quoted = append(quoted, strconv.Quote(t))
		}
		n := int64(len(s.Texts))
		says := document.Counted(n, "text", "texts") + " of " + s.Column + ": " + strings.Join(quoted, ", ")
		if rest := n - int64(len(quoted)); rest > 0 {
			says += " and " + document.Grouped(rest) + " more"
		}
		return says
	case "rows":
		return document.Counted(s.times(), "row", "rows") + ", by " + document.Join(s.Columns)
	case "sentence":
		return "what it said: " + s.Says
	}
	return document.Counted(s.Count, "row", "rows") + " of " + document.Grouped(s.Of)
}

func (s *Scope) times() (n int64) {
	for _, r := range s.Rows {
		n += r.Times
	}
	return n
}

// allows is how many rows of a table a scope accepts, whichever they are.
func (s *Scope) allows(rows int64) int64 {
	if s.Count == 0 {
		return 0
	}
	if rows >= s.Of {
		return s.Count
	}
	// The share, rounded up. Both are at most 2^32, so that the product is exact.
	return min(s.Count, int64((uint64(s.Count)*uint64(rows)+uint64(s.Of)-1)/uint64(s.Of)))
}

// Finding is what is held against scopes.
type Finding struct {
	Says string
	Rows int64
	// Of is how many rows the table has.
	Of int64
	// Set holds the rows; it is asked for only where a scope names texts or rows.
	Set func() (*table.RowSet, error)
}

// Covered is what scopes accept of a finding.
type Covered struct {
	Rows    int64 `json:"rows"`    // of the finding
	Covered int64 `json:"covered"` // that are accepted
	Beyond  int64 `json:"beyond"`  // that are not
	// Otherwise says that the finding is not of rows, and says something else than what was accepted.
	Otherwise bool `json:"otherwise,omitempty"`
	// First are the first rows beyond the texts and rows that are named, where any are named.
	First []uint32 `json:"first_rows,omitempty"`
}

// All reports whether nothing of the finding is beyond what was accepted.
func (c *Covered) All() bool { return c.Beyond == 0 && !c.Otherwise }

// Cover tells what scopes accept of a finding. open opens the table, and is called where one of them names texts or rows.
// Texts and rows are accepted one by one; of what is left, as many rows as the greatest number accepts.
func Cover(ctx context.Context, open func() (*relation.Table, error), f Finding, scopes []Scope) (*Covered, error) {
	out := &Covered{Rows: f.Rows}
	if f.Rows == 0 {
		out.Otherwise = !slices.ContainsFunc(scopes, func(s Scope) bool { return s.Says == f.Says })
		return out, nil
	}
	var named []Scope
	allowed := int64(0)
	for _, s := range scopes {
		allowed = max(allowed, s.allows(f.Of))
		if len(s.Texts) > 0 || len(s.Rows) > 0 {
			named = append(named, s)
		}
	}
	if len(named) > 0 {
		t, err := open()
		if err != nil {
			return nil, err
		}
		set, err := f.Set()
		if err != nil {
			return nil, err
		}
		if out.Covered, out.First, err = coverRows(ctx, t, set, named); err != nil {
			return nil, err
		}
	}
	out.Beyond = f.Rows - out.Covered
	more := min(out.Beyond, allowed)
	out.Covered, out.Beyond = out.Covered+more, out.Beyond-more
	return out, nil
}

// Count counts the rows of a set that a scope names by their texts or cells.
func Count(ctx context.Context, t *relation.Table, set *table.RowSet, s Scope) (int64, error) {
	n, _, err := coverRows(ctx, t, set, []Scope{s})
	return n, err
}

// EveryRow is the set of all rows of whatever table.
func EveryRow() *table.RowSet {
	every := table.NewRowSet()
	every.AddRange(1, table.MaxRows+1)
	return every
}

// firstKept is how many rows beyond are named.
const firstKept = 20

// coverRows counts the rows of a set that scopes name by their texts or cells.
func coverRows(ctx context.Context, t *relation.Table, set *table.RowSet, scopes []Scope) (covered int64, first []uint32, err error) {
	w := &watch{}
	for i := range scopes {
		w.add(t, &scopes[i])
	}
	type met struct {
		row uint32
		by  []string // identities of the cells that some scope names rows by; nil where its text is accepted
	}
	err = relation.Scan(ctx, t, w.at, func() *[]met { return new([]met) }, func(found *[]met, r *relation.Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if !set.Contains(row) {
				continue
			}
			one := met{row: row}
			if !w.text(r, b, k) {
				one.by = w.identities(r, b, k)
			}
			*found = append(*found, one)
		}
	}, func(found *[]met) {
		for _, one := range *found {
			switch {
			case one.by == nil || w.takes(one.by):
				covered++
			case len(first) < firstKept:
				first = append(first, one.row)
			}
		}
	})
	return covered, first, err
}

// watch looks for what scopes name.
type watch struct {
	at    []int // columns of the table that are looked at
	texts []textsOf
	rows  []rowsOf
}

type textsOf struct {
	at   int // among the columns that are looked at
	have map[string]bool
}

type rowsOf struct {
	at   []int
	left map[string]int64 // by identity: how many more such rows are accepted
}

// add watches for what a scope names; a scope of columns that the table lacks names nothing.
func (w *watch) add(t *relation.Table, s *Scope) {
	names := t.Source.Columns()
	look := func(column string) (int, bool) {
		c := slices.Index(names, column)
		if c < 0 {
			return 0, false
		}
		if at := slices.Index(w.at, c); at >= 0 {
			return at, true
		}
		w.at = append(w.at, c)
		return len(w.at) - 1, true
	}
	if len(s.Texts) > 0 {
		at, ok := look(s.Column)
		if !ok {
			return
		}
		one := textsOf{at, map[string]bool{}}
		for _, text := range s.Texts {
			one.have[identity(t, s.Column, text)] = true
		}
		w.texts = append(w.texts, one)
		return
	}
	one := rowsOf{left: map[string]int64{}}
	for _, column := range s.Columns {
		at, ok := look(column)
		if !ok {
			return
		}
		one.at = append(one.at, at)
	}
	for _, r := range s.Rows {
		parts := make([]string, len(r.Cells))
		for i, text := range r.Cells {
			parts[i] = identity(t, s.Columns[i], text)
		}
		one.left[joined(parts)] += r.Times
	}
	w.rows = append(w.rows, one)
}

func identity(t *relation.Table, column, text string) string {
	cell := t.Book.Cells(column).Read(text)
	if cell.Missing {
		return ""
	}
	return cell.Identity(text)
}

// joined makes one text of several, no two lists of which make the same one.
func joined(parts []string) string {
	var b strings.Builder
	for _, p := range parts {
		fmt.Fprintf(&b, "%d:%s", len(p), p)
	}
	return b.String()
}

// text reports whether a row has an accepted text.
func (w *watch) text(r *relation.Readers, b *table.Batch, k int) bool {
	for _, one := range w.texts {
		if one.have[w.cell(r, b, one.at, k)] {
			return true
		}
	}
	return false
}

// cell is the identity of a cell in one of the columns that are looked at.
func (w *watch) cell(r *relation.Readers, b *table.Batch, at, k int) string {
	cell := r.Cell(b, at, k)
	if cell.Missing {
		return ""
	}
	return cell.Identity(b.Columns[w.at[at]].At(k))
}

// identities are those of a row, for each scope that names rows.
func (w *watch) identities(r *relation.Readers, b *table.Batch, k int) []string {
	out := make([]string, len(w.rows))
	for i, one := range w.rows {
		parts := make([]string, len(one.at))
		for p, at := range one.at {
			parts[p] = w.cell(r, b, at, k)
		}
		out[i] = joined(parts)
	}
	return out
}

// takes reports whether some scope accepts one more such row.
func (w *watch) takes(by []string) bool {
	for i := range by {
		if w.rows[i].left[by[i]] > 0 {
			w.rows[i].left[by[i]]--
			return true
		}
	}
	return false
}

// OfRows makes a scope of rows of a table: each is named by what stands in the columns of a key and in those that the rule
// names. More than Most rows are refused.
func OfRows(ctx context.Context, t *relation.Table, rows *table.RowSet, key, named []string) (*Scope, error) {
	if n := int64(rows.GetCardinality()); n > Most {
		return nil, fmt.Errorf("a waiver names at most %s rows, and these are %s; accept a number of rows instead", document.Grouped(Most), document.Grouped(n))
	}
	s := &Scope{}
	for _, column := range append(slices.Clone(key), named...) {
		if !slices.Contains(s.Columns, column) && slices.Contains(t.Source.Columns(), column) {
			s.Columns = append(s.Columns, column)
		}
	}
	if len(s.Columns) == 0 {
		s.Columns = slices.Clone(t.Source.Columns()) // nothing names a row but all that stands in it
	}
	w := &watch{}
	w.add(t, s)
	place := map[string]int{}
	type met struct {
		by    string
		cells []string
	}
	err := relation.Scan(ctx, t, w.at, func() *[]met { return new([]met) }, func(found *[]met, r *relation.Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if !rows.Contains(row) {
				continue
			}
			one := met{by: w.identities(r, b, k)[0]}
			for _, c := range w.at {
				one.cells = append(one.cells, strings.Clone(b.Columns[c].At(k)))
			}
			*found = append(*found, one)
		}
	}, func(found *[]met) {
		for _, one := range *found {
			at, known := place[one.by]
			if !known {
				at = len(s.Rows)
				place[one.by] = at
				s.Rows = append(s.Rows, NamedRow{Cells: one.cells})
			}
			s.Rows[at].Times++
		}
	})
	return s, err
}

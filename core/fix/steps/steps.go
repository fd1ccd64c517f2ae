// Package steps holds the kinds of steps that a fix plan can have, one file each. A kind
// registers itself as the program starts (fix.Register); whoever reads fix plans imports this
// package for it.
//
// To add a kind: write a file with its declaration (a fix.Kind: its fields, and what reads
// them) and its action, whose Bind makes a fix.Work: Edit (cells), Drop (rows), Settle (either,
// once the whole table was looked at) or Make (other rows). Beside it goes a test. Parsing, the
// preview, applying, the ledger, the change log, the map of rows and the forms know the kind from
// then on.
package steps

import (
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/fix"
)

var (
	columnsField = fix.Field{Name: "columns", Kind: "columns", Says: "The columns whose cells are changed", Required: true}
	whereField   = fix.Field{Name: "where", Kind: "condition", Says: "The rows that are meant, by a condition; all where it is left out"}
	groupField   = fix.Field{Name: "group", Kind: "columns", Says: "The columns whose values make rows belong together"}
	orderField   = fix.Field{Name: "order", Kind: "columns", Says: "The columns by whose values rows follow on each other"}
)

// rewriter is a step that gives the texts of some columns other ones, each text by itself.
type rewriter struct {
	columns []string
	// rewrite returns what stands instead of a text, and what is counted of it; nothing is counted where that is empty.
	rewrite func(column *bound, text string) (now, counted string)
	// note makes the note of the step of what was counted.
	note func(counts map[string]int64) string
	// fits says what is wrong with a column; nil where any will do.
	fits func(b *fix.Binder, name string, at int)
}

// bound is a column that is rewritten.
type bound struct {
	*fix.Rows
	at int
}

// Bind implements fix.Action.
func (r rewriter) Bind(b *fix.Binder) *fix.Work {
	at := b.Columns("columns", r.columns)
	if r.fits != nil {
		for i, c := range at {
			if c >= 0 {
				r.fits(b, r.columns[i], c)
			}
		}
	}
	return &fix.Work{Note: r.note, Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		edits := make([]fix.Edit, len(at))
		for i, c := range at {
			one, counted := &bound{rows, c}, map[string][]int{}
			code := -1
			edits[i] = rows.Rewrite(c, func(text string) (string, bool) {
				code++
				now, what := r.rewrite(one, text)
				if what != "" {
					counted[what] = append(counted[what], code)
				}
				return now, false
			})
			if len(counted) == 0 {
				continue
			}
			counts := rows.Counts(c)
			for what, codes := range counted {
				for _, code := range codes {
					rows.Count(what, counts[code])
				}
			}
		}
		return edits, nil
	}}
}

// counting says how many there are of something; nothing of none.
func counting(n int64, one, several string) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%s.", document.Counted(n, one, several))
}

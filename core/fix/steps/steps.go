// Package steps holds the kinds of steps that a fix plan can have, one file each. A kind
// registers itself as the program starts (fix.Register); whoever reads fix plans imports this
// package for it.
//
// To add a kind: write a file with its declaration (a fix.Kind: its fields, and what reads
// them) and its action, which is a fix.Rewriter (texts, once each), a fix.Setter (cells of
// some rows), a fix.Remover (rows) or a fix.Chooser (one of several rows, found in a reading
// of its own). Beside it goes a test. Parsing, the preview, applying, the ledger, the change
// log and the number of readings know the kind from then on.
package steps

import "proudsieve/core/fix"

var columnsField = fix.Field{Name: "columns", Kind: "columns", Says: "The columns whose cells are changed",
	Required: true}

// columns are those that a step names.
type columns []string

// Columns implements fix.Action.
func (c columns) Columns() []string { return c }

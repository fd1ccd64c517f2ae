package propose

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
)

// Pointed is what a steward points at in a table: rows, or a cell, where it is one row and a column is named.
type Pointed struct {
	Book   *rulebook.Rulebook
	Names  []string   // of the table's columns
	Rows   [][]string // the texts of each row
	Column string
	// Count tells for how many rows of the table a condition holds.
	Count func(where string) (int64, error)
}

// Steps proposes what can be done with what is pointed at. The rows are named by a key where one tells them from all
// others, else by all their cells; that other rows are met too is a doubt of the step. What a cell should be is left open,
// for the steward to write.
func (p Pointed) Steps() ([]Step, error) {
	named, others, err := p.naming()
	if err != nil {
		return nil, err
	}
	doubt := ""
	if others > 0 {
		doubt = fmt.Sprintf("%s of the table cannot be told from what was chosen, and would be met too",
			document.Counted(others, "row", "rows"))
	}
	w := &stepWriter{book: p.Book}
	chosen := Step{Evidence: "chosen in the table"}
	where := p.where(named)
	if at := slices.Index(p.Names, p.Column); at >= 0 && len(p.Rows) == 1 {
		row, s := p.Rows[0], chosen
		s.Column = p.Column
		if others == 0 {
			key := edit.Field{Name: "key"}
			for _, c := range named {
				key.Pairs = append(key.Pairs, edit.Pair{Name: p.Names[c], Text: row[c]})
			}
			w.add(s, "", "set_cell", key, set("column", p.Column))
		}
		w.add(s, "", "replace", columnsOf(p.Column), set("find", row[at]), set("match", "whole_cell"))
		if row[at] != "" && others >= 0 {
			w.add(s, doubt, "set_missing", columnsOf(p.Column), set("where", where))
		}
	}
	if others >= 0 {
		w.add(chosen, doubt, "set_aside", set("where", where))
	}
	return w.steps, nil
}

// naming returns the columns that the rows are named by, and how many other rows are met by them; less than 0 where some of
// the rows themselves are not.
func (p Pointed) naming() (columns []int, others int64, err error) {
	every := make([]int, len(p.Names))
	for i := range every {
		every[i] = i
	}
	ways := [][]int{every}
	for _, d := range p.Book.Rules {
		if d.Kind.Section != "keys" {
			continue
		}
		var key []int
		for _, name := range d.Rule.Columns() {
			key = append(key, slices.Index(p.Names, name))
		}
		if !slices.Contains(key, -1) {
			ways = slices.Insert(ways, len(ways)-1, key)
		}
	}
	for _, columns = range ways {
		met, err := p.Count(p.where(columns))
		if err != nil {
			return nil, 0, err
		}
		if others = met - int64(len(p.Rows)); others == 0 {
			break
		}
	}
	return columns, others, nil
}

// where writes the condition that holds for the rows, by some columns.
func (p Pointed) where(columns []int) string {
	var rows []string
	for _, row := range p.Rows {
		var cells []string
		for _, c := range columns {
			cells = append(cells, p.isAs(c, row[c]))
		}
		rows = append(rows, strings.Join(cells, " AND "))
	}
	slices.Sort(rows)
	rows = slices.Compact(rows)
	if len(rows) > 1 && len(columns) > 1 {
		for i, row := range rows {
			rows[i] = "(" + row + ")"
		}
	}
	return strings.Join(rows, " OR ")
}

// isAs writes the condition that a cell is as this one.
func (p Pointed) isAs(column int, text string) string {
	name := condition.Column(p.Names[column])
	switch cell := p.Book.Cells(p.Names[column]).Read(text); {
	case cell.Missing:
		return name + " IS MISSING"
	case cell.Mistyped:
		return name + " IS MISTYPED"
	default:
		return name + " = " + condition.Literal(cell.Value)
	}
}

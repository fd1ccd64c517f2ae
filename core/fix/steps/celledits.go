package steps

import (
	"context"
	"encoding/binary"
	"strings"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

// cellEdits are new texts of cells, and rows that leave, as a step found them out that looked at the whole table. They are
// kept on disk by their rows.
type cellEdits struct {
	columns []int
	values  table.RowValues
}

func newCellEdits(columns []int) *cellEdits { return &cellEdits{columns: columns} }

// What the first byte of a value says.
const (
	editCell = iota
	editGone
)

// set says what stands in the cell of a row, by the place of its column among columns.
func (e *cellEdits) set(row uint32, column int, text string) error {
	value := binary.AppendUvarint([]byte{editCell}, uint64(column))
	return e.values.Add(row, append(value, text...))
}

// drop says that a row leaves, and which one stays, with its cells, which may be nil.
func (e *cellEdits) drop(row, kept uint32, stays []string) error {
	value := binary.AppendUvarint([]byte{editGone}, uint64(kept))
	for _, text := range stays {
		value = append(binary.AppendUvarint(value, uint64(len(text))), text...)
	}
	return e.values.Add(row, value)
}

func (e *cellEdits) close() { e.values.Close() }

// work makes of the edits what is done to the table.
func (e *cellEdits) work(ctx context.Context) (*fix.Work, error) {
	if err := e.values.Settle(ctx); err != nil {
		e.close()
		return nil, err
	}
	return &fix.Work{Close: e.close, Edit: e.edit, Drop: e.leaves, Reads: append([]int{}, e.columns...)}, nil
}

// each visits what is known of the rows of a batch, by their place in it.
func (e *cellEdits) each(rows *fix.Rows, visit func(at int, value []byte)) error {
	if rows.Len() == 0 {
		return nil
	}
	at := 0
	return e.values.Between(rows.Rows[0], rows.Rows[rows.Len()-1], func(row uint32, value []byte) error {
		for rows.Rows[at] < row {
			at++
		}
		if rows.Rows[at] == row {
			visit(at, value)
		}
		return nil
	})
}

func (e *cellEdits) edit(rows *fix.Rows) ([]fix.Edit, error) {
	texts := make([]map[int]string, len(e.columns))
	if err := e.each(rows, func(at int, value []byte) {
		if value[0] != editCell {
			return
		}
		column, size := binary.Uvarint(value[1:])
		if texts[column] == nil {
			texts[column] = map[int]string{}
		}
		texts[column][at] = string(value[1+size:])
	}); err != nil {
		return nil, err
	}
	var edits []fix.Edit
	for i, c := range e.columns {
		if texts[i] == nil {
			continue
		}
		edits = append(edits, rows.Each(c, func(at int) (string, bool) {
			text, there := texts[i][at]
			return text, !there
		}))
	}
	return edits, nil
}

func (e *cellEdits) leaves(rows *fix.Rows) (func(at int) fix.Leaves, error) {
	gone := map[int]fix.Leaves{}
	err := e.each(rows, func(at int, value []byte) {
		if value[0] != editGone {
			return
		}
		kept, size := binary.Uvarint(value[1:])
		value = value[1+size:]
		leaves := fix.Leaves{Table: true, KeptBy: uint32(kept)}
		for len(value) > 0 {
			length, used := binary.Uvarint(value)
			leaves.Stays = append(leaves.Stays, string(value[used:used+int(length)]))
			value = value[used+int(length):]
		}
		gone[at] = leaves
	})
	return func(at int) fix.Leaves { return gone[at] }, err
}

// joined puts notes together.
func joined(notes ...string) string {
	var out []string
	for _, note := range notes {
		if note != "" {
			out = append(out, note)
		}
	}
	return strings.Join(out, " ")
}

package steps

import (
	"encoding/binary"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

// record is a row on its way to be sorted.
type record struct{ key, value []byte }

// addRecords puts what work makes of each batch into a sorter, in the order of the table.
func addRecords(sorter *table.Sorter) func([]record) error {
	return func(all []record) error {
		for _, one := range all {
			if err := sorter.Add(one.key, one.value); err != nil {
				return err
			}
		}
		return nil
	}
}

// appendTexts appends the texts of some columns of a row.
func appendTexts(value []byte, rows *fix.Rows, columns []int, at int) []byte {
	for _, c := range columns {
		value = appendSized(value, rows.Text(c, at))
	}
	return value
}

// appendRow appends the number of a row to a key.
func appendRow(key []byte, row uint32) []byte { return binary.BigEndian.AppendUint32(key, row) }

// rowIn returns the number of a row at the end of a key.
func rowIn(key []byte) uint32 { return binary.BigEndian.Uint32(key[len(key)-4:]) }

// appendSized appends a text with its length.
func appendSized(value []byte, text string) []byte {
	return append(binary.AppendUvarint(value, uint64(len(text))), text...)
}

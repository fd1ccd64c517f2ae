package merge

import (
	"slices"
	"strconv"

	"proudsieve/core/table"
)

// unmetColumns are those of the table of rows that met nothing, or for which others stand, before the columns of the stack: which
// dataset's table a row is from, which one where it has a number, its number there from 1, why it is here, and its key.
var unmetColumns = []string{"from_dataset", "from_table", "from_row", "why", "key"}

// Why a row is in that table.
const (
	noPartner     = "no partner in " // a joined dataset
	anotherStands = "another row of the stack stands for it"
)

// unmetNames are the columns of the table of rows that met nothing. A name that the stack has is told apart by a line below.
func (m *merger) unmetNames() []string {
	names := make([]string, 0, len(unmetColumns)+len(m.stacked))
	for _, name := range unmetColumns {
		for slices.Contains(m.stacked, name) {
			name += "_"
		}
		names = append(names, name)
	}
	return append(names, m.stacked...)
}

// unmetRows are the rows of a batch that a join found no partner for, as they are written, and how many; a row that a join before
// had multiplied is there once for each of its keys. Keys go with the rows.
func (m *merger) unmetRows(b *table.Batch, rows []int, keys []string, in *Input, why string) ([]byte, int64) {
	once, texts := rows[:0:0], make([]string, 0, len(keys))
	for k, i := range rows {
		if k > 0 && b.Rows[rows[k-1]] == b.Rows[i] && keys[k-1] == keys[k] {
			continue
		}
		once, texts = append(once, i), append(texts, keys[k])
	}
	some := gather(b, once)
	number := ""
	if in.Table > 0 {
		number = strconv.FormatInt(in.Table, 10)
	}
	alike := func(text string) table.Column {
		return table.Column{Texts: []string{text}, Codes: make([]uint32, len(once))}
	}
	key := table.Column{Texts: texts, Codes: make([]uint32, len(texts))}
	for k := range key.Codes {
		key.Codes[k] = uint32(k)
	}
	some.Columns = append([]table.Column{alike(in.Dataset), alike(number), numbered(some.Rows), alike(why), key}, some.Columns[:len(m.stacked)]...)
	return table.AppendRows(nil, some), int64(len(once))
}

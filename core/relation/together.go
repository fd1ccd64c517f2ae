package relation

import (
	"context"
	"math/bits"

	"proudsieve/core/table"
)

// Together says of columns which of their cells are missing in the same rows.
type Together struct {
	Columns []string `json:"columns"`
	// Rows is how many rows lack both columns of a pair; beside itself, how many lack the column.
	Rows [][]int64 `json:"rows"`
}

// MissTogether counts the rows that lack each pair of columns.
func MissTogether(ctx context.Context, t *Table, columns []string) (*Together, error) {
	at, err := t.positions(columns)
	if err != nil {
		return nil, err
	}
	n := len(columns)
	square := func() [][]int64 {
		out := make([][]int64, n)
		for i := range out {
			out[i] = make([]int64, n)
		}
		return out
	}
	work := func(pairs [][]int64, r *Readers, b *table.Batch) {
		// One bit for each row: pairs are counted a word of rows at a time.
		lacks := make([][]uint64, n)
		for i := range n {
			lacks[i] = make([]uint64, (b.Len()+63)/64)
			for k := range b.Rows {
				if r.Cell(b, i, k).Missing {
					lacks[i][k/64] |= 1 << (k % 64)
				}
			}
		}
		for i := range n {
			for j := range i + 1 {
				for w, word := range lacks[i] {
					pairs[i][j] += int64(bits.OnesCount64(word & lacks[j][w]))
				}
			}
		}
	}
	whole := square()
	err = Scan(ctx, t, at, square, work, func(pairs [][]int64) {
		for i := range n {
			for j := range i + 1 {
				whole[i][j] += pairs[i][j]
			}
		}
	})
	for i := range n {
		for j := range i {
			whole[j][i] = whole[i][j]
		}
	}
	return &Together{columns, whole}, err
}

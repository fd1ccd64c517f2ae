package steps

import (
	"context"

	"proudsieve/core/fix"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example:    fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\nS1;AV-001;PH;7,1;31/05/2024\n", Step: "{do: remove_equal_rows}"},
		KeepsMarks: true,
		Name:       "remove_equal_rows", Says: "keeps the first of rows that are equal in every cell",
		Fields:  []fix.Field{whereField},
		Declare: func(*fix.Item) fix.Action { return removeEqualRows{} },
	})
}

type removeEqualRows struct{}

// Bind implements fix.Action.
func (removeEqualRows) Bind(*fix.Binder) *fix.Work {
	return &fix.Work{Settle: func(ctx context.Context, t *fix.Table) (*fix.Work, error) {
		edits := newCellEdits(nil)
		err := repeated(ctx, t, func(rows *fix.Rows) func(at int) (table.Hash, bool) {
			hashes := table.HashRows(rows.Batch.Batch)
			return func(at int) (table.Hash, bool) { return hashes[at], true }
		}, func(group []uint32) error {
			for _, row := range group[1:] {
				if err := edits.drop(row, group[0], nil); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			edits.close()
			return nil, err
		}
		return edits.work(ctx)
	}}
}

// repeated visits the rows that share a hash, those of each in the order of the table. Rows that are not meant, or that
// have none, belong to no group.
func repeated(ctx context.Context, t *fix.Table, hash func(*fix.Rows) func(at int) (table.Hash, bool), visit func(group []uint32) error) error {
	groups := table.NewGroups(table.NewRoom(2))
	defer groups.Close()
	if err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) (*table.HashedRows, error) {
		of := hash(rows)
		out := &table.HashedRows{}
		for at, row := range rows.Rows {
			if !rows.Means(at) {
				continue
			}
			if h, whole := of(at); whole {
				out.Add(h, row)
			}
		}
		return out, nil
	}, groups.Take); err != nil {
		return err
	}
	return groups.Repeated(t.Workers(), func(_ table.Hash, rows []uint32) error { return visit(rows) })
}

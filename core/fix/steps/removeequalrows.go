package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Name: "remove_equal_rows", Says: "keeps the first of rows that are equal in every cell",
		Declare: func(*fix.Item) fix.Action { return removeEqualRows{} },
	})
}

type removeEqualRows struct{ columns }

func (removeEqualRows) Groups(rows rulebook.Batch) func(at int) (table.Hash, bool) {
	return func(at int) (table.Hash, bool) { return table.HashRow(rows.Batch, at), true }
}

func (removeEqualRows) Ranks(rulebook.Batch) func(at int) table.Value {
	return func(int) table.Value { return table.Value{} }
}

func (removeEqualRows) Better(_, _ table.Value) bool { return false }

package steps

import (
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Which of several rows with one key survives; the earliest of equals does.
const (
	earliestRow  = "earliest_row"  // in file order
	latestRow    = "latest_row"    // in file order
	fullestRow   = "fullest_row"   // with the fewest missing cells
	largestValue = "largest_value" // of the column named by "by", the latest for dates
	leastValue   = "least_value"   // of that column, the earliest for dates
)

// oldSurvivors are the words that earlier versions had.
var oldSurvivors = map[string]string{"first": earliestRow, "last": latestRow, "fullest": fullestRow,
	"largest": largestValue, "least": leastValue}

func init() {
	fix.Register(fix.Kind{
		Name: "keep_one", Says: "keeps one of several rows with the same key",
		Fields: []fix.Field{
			{Name: "columns", Kind: "columns", Says: "The columns of the key", Required: true},
			{Name: "survivor", Kind: "choice",
				Choices:  []string{earliestRow, latestRow, fullestRow, largestValue, leastValue},
				Says:     "Which one stays: earliest_row, latest_row, fullest_row, largest_value or least_value",
				Required: true, Old: "keep"},
			{Name: "by", Kind: "column", Says: "The column whose value decides"}},
		Declare: func(i *fix.Item) fix.Action {
			k := keepOne{i.ColumnsOf("columns"), i.ChoiceOf("survivor", "a way to choose a row", oldSurvivors,
				earliestRow, latestRow, fullestRow, largestValue, leastValue), i.ColumnOf("by")}
			if byColumn := k.survivor == largestValue || k.survivor == leastValue; byColumn != i.Gives("by") {
				i.Wrong("",
					"\"by\" names the column that decides; it goes with survivor: largest_value and survivor: least_value, and these need it")
			}
			return k
		},
	})
}

type keepOne struct {
	key          []string
	survivor, by string
}

func (k keepOne) Columns() []string {
	if k.by == "" {
		return k.key
	}
	return append(slices.Clone(k.key), k.by)
}

func (k keepOne) Groups(rows rulebook.Batch) func(at int) (table.Hash, bool) {
	at := make([]int, len(k.key))
	for i, name := range k.key {
		at[i] = slices.Index(rows.Names, name)
	}
	parts := make([]string, len(at))
	return func(row int) (table.Hash, bool) {
		whole := true
		for i, c := range at {
			text := rows.Columns[c].At(row)
			cell := rows.Cells[c].Read(text)
			whole = whole && !cell.Missing
			parts[i] = cell.Identity(text)
		}
		return table.HashTexts(parts...), whole
	}
}

func (k keepOne) Ranks(rows rulebook.Batch) func(at int) table.Value {
	by := slices.Index(rows.Names, k.by)
	return func(row int) table.Value {
		switch k.survivor {
		case largestValue, leastValue:
			return rows.Cells[by].Read(rows.Columns[by].At(row)).Value
		case fullestRow:
			filled := int64(0)
			for c := range rows.Columns {
				if !rows.Cells[c].Read(rows.Columns[c].At(row)).Missing {
					filled++
				}
			}
			return table.NumberValue(table.DecimalOf(filled, 0))
		}
		return table.Value{}
	}
}

func (k keepOne) Better(value, chosen table.Value) bool {
	switch k.survivor {
	case latestRow:
		return true
	case largestValue, fullestRow:
		return table.Compare(value, chosen) > 0
	case leastValue:
		if value.Kind == table.Missing || chosen.Kind == table.Missing {
			return chosen.Kind == table.Missing && value.Kind != table.Missing
		}
		return table.Compare(value, chosen) < 0
	}
	return false
}

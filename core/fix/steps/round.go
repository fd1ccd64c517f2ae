package steps

import (
	"proudsieve/core/fix"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,149;31/05/2024\n", Step: "{do: round, columns: [value], decimals: 1}"},
		Name:    "round", Says: "rounds numbers to so many decimals, half away from zero; what is lost is counted",
		Fields: []fix.Field{columnsField, {Name: "decimals", Kind: "number", Says: "How many there are then; -2 rounds to hundreds", Required: true}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			decimals := i.WholeOf("decimals", -12, 12)
			return rewriter{columns: i.TextsOf("columns"), fits: numbersOnly, note: func(counts map[string]int64) string {
				return counting(counts["lost"], "number loses digits that were not zero", "numbers lose digits that were not zero")
			}, rewrite: func(c *bound, text string) (string, string) {
				v := c.Cells[c.at].Read(text).Value
				if v.Kind != table.Number {
					return text, ""
				}
				rounded := v.Number.Round(decimals)
				now, ok := c.Cells[c.at].Write(table.NumberValue(rounded))
				switch {
				case !ok || rounded.Cmp(v.Number) == 0 && v.Number.Places() <= max(decimals, 0):
					return text, ""
				case rounded.Cmp(v.Number) == 0:
					return now, ""
				}
				return now, "lost"
			}}
		},
	})
}

// numbersOnly says that a column is none of numbers.
func numbersOnly(b *fix.Binder, name string, _ int) { b.Numbers("columns", []string{name}) }

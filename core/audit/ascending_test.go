package audit_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const ascendingBook = `dataset: ascending
columns:
  - {name: id, type: decimal}
  - {name: code}
keys:
  - {id: one_id, columns: [id]}
  - {id: one_code, columns: [code]}
`

// A key that ascends is not hashed row by row. Whatever order rows come in, those that share a
// key are found, and no others.
func TestKeysInAnyOrder(t *testing.T) {
	const rows = 60_000 // of 60 bytes: several stretches
	filler := strings.Repeat("x", 40)
	for name, id := range map[string]func(i int) string{
		"ascending":                    func(i int) string { return fmt.Sprint(i) },
		"ascending by even steps":      func(i int) string { return fmt.Sprintf("%08d", i*3) },
		"descending":                   func(i int) string { return fmt.Sprint(rows - i) },
		"each twice":                   func(i int) string { return fmt.Sprint(i / 2) },
		"the first and the last alike": func(i int) string { return fmt.Sprint(i % (rows - 1)) },
		"one in the middle as one before": func(i int) string {
			return fmt.Sprint(map[bool]int{true: 7, false: i}[i == rows/2])
		},
		"one as one of the next stretch": func(i int) string {
			return fmt.Sprint(map[bool]int{true: rows - 9, false: i}[i == 100])
		},
		"in runs that lie apart":    func(i int) string { return fmt.Sprint((9-i/20_000)*1_000_000 + i) },
		"in runs that are the same": func(i int) string { return fmt.Sprint(i % 20_000) },
		"in runs that overlap":      func(i int) string { return fmt.Sprint(i%30_000 + i/30_000*29_000) },
		"some missing": func(i int) string {
			return map[bool]string{true: "", false: fmt.Sprint(i)}[i%7 == 0]
		},
		"written in two ways": func(i int) string { return fmt.Sprint(i/2) + []string{"", ".0"}[i%2] },
		"some that are no numbers": func(i int) string {
			return fmt.Sprint(i) + map[bool]string{true: "?"}[i%5000 == 1]
		},
		"the same with a space, and a long": func(i int) string {
			return map[bool]string{true: "7 ", false: fmt.Sprintf("%020d", i)}[i%9000 == 8]
		},
	} {
		t.Run(name, func(t *testing.T) {
			var content strings.Builder
			content.WriteString("id,code,filler\n")
			met := [2]map[string]bool{{}, {}}
			var want [2][]uint32
			for i := range rows {
				text := id(i)
				fmt.Fprintf(&content, "%s,%s,%s\n", text, text, filler)
				value := text
				if number, ok := table.ParseDecimal(text); ok {
					value = number.Shortest()
				}
				for k, key := range []string{value, text} {
					if strings.TrimSpace(key) != "" && met[k][key] {
						want[k] = append(want[k], uint32(i)+1)
					}
					met[k][key] = true
				}
			}
			file := testkit.File(t, content.String(), intake.Reading{})
			for _, workers := range []int{1, 4} {
				result, err := audit.Run(t.Context(), file, testkit.Book(t, ascendingBook), workers)
				if err != nil {
					t.Fatal(err)
				}
				for k, rule := range []string{"one_id", "one_code"} {
					var got []uint32
					for _, f := range result.Findings {
						if f.Rule == rule {
							got = f.RowSet.ToArray()
						}
					}
					if !slices.Equal(got, want[k]) {
						t.Errorf("%s with %d workers: %d rows, want %d", rule, workers, len(got), len(want[k]))
					}
				}
			}
		})
	}
}

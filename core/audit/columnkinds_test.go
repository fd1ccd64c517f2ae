package audit_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/audit/audittest"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// columnKinds are kinds of cells, each of which the engine has a way of its own for; a cell is given as its text, which is quoted in the
// file where it has to be.
var columnKinds = map[string]func(r *rand.Rand, row int) string{
	"codes":              func(r *rand.Rand, _ int) string { return fmt.Sprintf("AV-%03d", r.IntN(60)) },
	"whole numbers":      func(r *rand.Rand, _ int) string { return fmt.Sprint(r.IntN(1e9) - 5e8) },
	"decimals":           func(r *rand.Rand, _ int) string { return fmt.Sprintf("%.3f", r.Float64()*1000-200) },
	"scientific":         func(r *rand.Rand, _ int) string { return fmt.Sprintf("%.5e", r.NormFloat64()*1e6) },
	"seventeen digits":   func(r *rand.Rand, _ int) string { return fmt.Sprintf("%.17f", r.Float64()) },
	"beyond a word":      func(r *rand.Rand, _ int) string { return fmt.Sprintf("%d%019d", 1+r.IntN(9), r.Int64N(1e18)) },
	"half empty":         func(r *rand.Rand, _ int) string { return []string{"", fmt.Sprintf("%.2f", r.Float64()*1e4)}[r.IntN(2)] },
	"dates":              func(r *rand.Rand, _ int) string { return time.Unix(r.Int64N(2e9), 0).UTC().Format("2006-01-02") },
	"times":              func(r *rand.Rand, _ int) string { return time.Unix(r.Int64N(2e9), 0).UTC().Format(time.DateTime) },
	"times with offsets": func(r *rand.Rand, _ int) string { return time.Unix(r.Int64N(2e9), 0).UTC().Format(time.RFC3339) },
	"identifiers":        func(_ *rand.Rand, row int) string { return fmt.Sprintf("R-%09d", row) },
	"digests":            func(r *rand.Rand, _ int) string { return fmt.Sprintf("%016x%016x", r.Uint64(), r.Uint64()) },
	"sentences": func(r *rand.Rand, _ int) string {
		return fmt.Sprintf("the weir, seen \"%d\" times; then\nleft", r.IntN(1e6))
	},
	"stray spaces":       func(r *rand.Rand, _ int) string { return fmt.Sprintf(" a  text of %d\u00a0", r.IntN(1e5)) },
	"beyond ASCII":       func(r *rand.Rand, _ int) string { return fmt.Sprintf("Äsche %d am Öhrdewehr", r.IntN(1e6)) },
	"short beyond ASCII": func(r *rand.Rand, _ int) string { return fmt.Sprintf("ß%d", r.IntN(1e6)) },
	"numbers and texts": func(r *rand.Rand, _ int) string {
		return []string{fmt.Sprint(r.IntN(1e7)), fmt.Sprintf("<%d", r.IntN(9))}[r.IntN(50)/49]
	},
}

// Of every kind of cell, and of all of them in a wide table, one worker and eight find the same, byte for byte; and what can be counted by
// a loop is counted right.
func TestEveryKindOfCellGivesTheSameBytesOnAnyNumberOfWorkers(t *testing.T) {
	for name, cell := range columnKinds {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			checkKind(t, []string{name}, 3<<20, func(r *rand.Rand, row, _ int) string { return cell(r, row) })
		})
	}
	t.Run("a wide table", func(t *testing.T) {
		t.Parallel()
		var names []string
		for name := range columnKinds {
			names = append(names, name)
		}
		for len(names) < 90 {
			names = append(names, names[len(names)-len(columnKinds)])
		}
		checkKind(t, names, 9<<20, func(r *rand.Rand, row, c int) string { return columnKinds[names[c]](r, row) })
	})
}

func checkKind(t *testing.T, names []string, size int, cell func(r *rand.Rand, row, column int) string) {
	t.Helper()
	var text bytes.Buffer
	r := rand.New(rand.NewPCG(51, uint64(len(names))))
	filled, distinct := make([]int64, len(names)), make([]map[string]bool, len(names))
	for c := range names {
		distinct[c] = map[string]bool{}
		fmt.Fprintf(&text, "%sc%d", []string{"", ","}[min(c, 1)], c)
	}
	fmt.Fprintln(&text, ",row") // so that no line is blank
	rows := int64(0)
	for ; text.Len() < size; rows++ {
		for c := range names {
			one := cell(r, int(rows), c)
			if one != "" {
				filled[c]++
				distinct[c][one] = true
			}
			if strings.ContainsAny(one, ",\"\n") {
				one = `"` + strings.ReplaceAll(one, `"`, `""`) + `"`
			}
			text.WriteString(one + ",")
		}
		fmt.Fprintln(&text, rows)
	}
	var first []byte
	for _, workers := range []int{1, 8} {
		d, err := detect.Detect(t.Context(), testkit.Opener(text.Bytes()), intake.Reading{})
		if err != nil {
			t.Fatal(err)
		}
		result, err := audit.Run(t.Context(), d.File, rulebook.Draft("kinds", d, d.File.Columns()), workers)
		if err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(result)
		if err != nil {
			t.Fatal(err)
		}
		if first == nil {
			first = got
		}
		if !bytes.Equal(got, first) {
			t.Fatalf("%v: %d workers can be told from one", names, workers)
		}
		if result.Rows != rows {
			t.Fatalf("%v: %d rows, want %d", names, result.Rows, rows)
		}
		for c := range names {
			column := &result.Columns[c]
			exact := column.DistinctError == 0 && column.Distinct != int64(len(distinct[c]))
			near := float64(column.Distinct) < 0.93*float64(len(distinct[c])) || float64(column.Distinct) > 1.07*float64(len(distinct[c]))
			if column.Filled != filled[c] || exact || near {
				t.Errorf("%s: %d filled with %d texts, want %d with %d", names[c], column.Filled, column.Distinct, filled[c], len(distinct[c]))
			}
		}
	}
}

// What is known of a column takes little where a table has many of them.
func TestMemoryOfManyColumnsIsBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("reads thousands of columns")
	}
	const columns = 1500
	header := strings.Repeat("c,", columns) + "last"
	r := rand.New(rand.NewPCG(52, 53))
	held := settled(t, "dataset: wide\ncolumns: [{name: last, type: integer}]\n", header, 3000, func(to *bytes.Buffer, i int) {
		for c := range columns {
			fmt.Fprintf(to, "%d.%02d,", r.IntN(100_000), c%100)
		}
		fmt.Fprintln(to, i)
	})
	if each := held / columns; each > mostOfColumn {
		t.Errorf("%d KB for each column, want %d at the most", each>>10, mostOfColumn>>10)
	}
	t.Logf("%d MB, %d KB for each column", held>>20, held/columns>>10)
}

// mostOfColumn is how many bytes are held for each of many columns of nothing but different numbers, of 3,000 rows.
const mostOfColumn = 200 << 10

func TestAColumnOfIntegersWithoutAnyInteger(t *testing.T) {
	var b strings.Builder
	b.WriteString("flow\n")
	for i := range 60 {
		fmt.Fprintf(&b, "%d.5\n", i)
	}
	r := audittest.Run(t, b.String(), "dataset: d\ncolumns:\n  - {name: flow, type: integer}\n")
	if c := audittest.Column(t, r, "flow"); c.Mistyped != 60 || c.Score != 0 {
		t.Errorf("%d of 60 are mistyped, and the score is %v", c.Mistyped, c.Score)
	}
}

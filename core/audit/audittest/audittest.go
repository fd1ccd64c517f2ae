// Package audittest holds what the tests of audits share, those with and those without a database.
package audittest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

const SamplesBook = `dataset: samples
columns:
  - {name: sample, pattern: "S-[0-9]+"}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, required: true, from: 0, to: 14}
  - {name: taken, type: date, required: true}
  - {name: received, type: date, required: true}
keys:
  - {id: one_sample, columns: [sample]}
equal_rows: {severity: warn}
code_lists:
  parameters: [PH, NO3]
rules:
  - {id: in_order, condition: received >= taken}
  - {id: acid, condition: "parameter <> 'PH' OR value < 50"}
measures: [value]
pass_mark: 20
`

// Random is a dirty table of many parts, with the truth about its keys.
func Random(rows int) string {
	r := rand.New(rand.NewPCG(21, 22))
	var b strings.Builder
	b.WriteString("sample,parameter,value,taken,received\n")
	for i := range rows {
		value := fmt.Sprintf("%.2f", r.Float64()*15)
		switch r.IntN(50) {
		case 0:
			value = ""
		case 1:
			value = "trace"
		}
		sample := i
		if r.IntN(20) == 0 {
			sample = r.IntN(rows)
		}
		fmt.Fprintf(&b, "S-%d,%s,%s,2024-05-%02d,2024-05-%02d\n", sample, []string{"PH", "ph", "NO3", "XX"}[r.IntN(4)],
			value, 1+r.IntN(28), 1+r.IntN(30))
	}
	return b.String()
}

// Run audits a text by a rulebook.
func Run(t testing.TB, content, book string) *audit.Result {
	t.Helper()
	b := testkit.Book(t, book)
	result, err := audit.Run(context.Background(), testkit.File(t, content, b.Reading), b, 2)
	if err != nil {
		t.Fatal(err)
	}
	return result
}

// Finding returns what was found of a rule.
func Finding(t testing.TB, r *audit.Result, rule string) *audit.Finding {
	t.Helper()
	for i := range r.Findings {
		if r.Findings[i].Rule == rule {
			return &r.Findings[i]
		}
	}
	return &audit.Finding{Rule: rule, RowSet: table.NewRowSet()}
}

// Beside is a rulebook's other datasets and earlier deliveries, of texts.
func Beside(t testing.TB, tables map[string]string, books map[string]string, past ...string) *rulebook.Beside {
	b := &rulebook.Beside{Today: 20_000} // 2024-10-04
	b.Open = func(_ context.Context, dataset string) (table.Source, *rulebook.Rulebook, error) {
		content, ok := tables[dataset]
		if !ok {
			return nil, nil, fmt.Errorf("there is no dataset %s", dataset)
		}
		book := testkit.Book(t, books[dataset])
		return testkit.File(t, content, book.Reading), book, nil
	}
	for _, content := range past {
		b.Past = append(b.Past, Run(t, content, "dataset: d\ncolumns:\n"+PastColumns).Past())
	}
	return b
}

// PastColumns are those of the earlier deliveries of Beside.
const PastColumns = "  - {name: k}\n  - {name: n, type: decimal}\n  - {name: d, type: date}\n"

// Column returns one column of a result.
func Column(t testing.TB, r *audit.Result, name string) *audit.Column {
	t.Helper()
	for i := range r.Columns {
		if r.Columns[i].Name == name {
			return &r.Columns[i]
		}
	}
	t.Fatalf("no column %s", name)
	return nil
}

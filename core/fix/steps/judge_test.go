package steps_test

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps"
	"proudsieve/core/testkit"
)

const book = `dataset: samples
reading: {missing: [n/a]}
columns:
  - {name: sample}
  - {name: parameter, type: code, codes: parameters}
  - {name: value, type: decimal}
code_lists:
  parameters: [{code: PH, spellings: [Acidity]}, NO3]
measures: [value]
pass_mark: 0
`

// trial is a step tried on a small table of sample, parameter and value.
type trial struct {
	name, step string
	rows, want string
	ledger     string // "cells rows sum: note" of the step
}

// try holds the table and the ledger that each step makes against those worked out by hand.
func try(t *testing.T, trials ...trial) {
	t.Helper()
	for _, one := range trials {
		b := testkit.Book(t, book)
		p, err := fix.Parse([]byte("fix_plan: p\ndataset: samples\nsteps:\n  - {"+one.step+", reason: r}\n"), b)
		if err != nil {
			t.Fatalf("%s: %v", one.name, err)
		}
		const head = "sample,parameter,value\n"
		var out, log bytes.Buffer
		ledger, err := fix.Apply(context.Background(), testkit.File(t, head+one.rows, b.Reading), b, p, 2, &out, &log)
		if err != nil {
			t.Fatalf("%s: %v", one.name, err)
		}
		if got := strings.TrimPrefix(out.String(), head); got != one.want {
			t.Errorf("%s: got %q, want %q", one.name, got, one.want)
		}
		s := ledger.Steps[0]
		if got := strings.TrimSuffix(fmt.Sprintf("%d %d %s: %s", s.Cells, s.Rows, s.Sums["value"], s.Note),
			": "); got != one.ledger {
			t.Errorf("%s: the ledger says %s, want %s", one.name, got, one.ledger)
		}
	}
}

// refused holds steps against the mistakes that they are refused for.
func refused(t *testing.T, mistakes map[string]string) {
	t.Helper()
	for step, want := range mistakes {
		_, err := fix.Parse([]byte("fix_plan: p\ndataset: samples\nsteps:\n  - {"+step+", reason: r}\n"),
			testkit.Book(t, book))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", step, err, want)
		}
	}
}

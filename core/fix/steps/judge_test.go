package steps_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
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
	tryOn(t, book, "sample,parameter,value\n", "sample,parameter,value\n", trials...)
}

// tryOn is try for a rulebook and headings of its own.
func tryOn(t *testing.T, book, head, after string, trials ...trial) {
	t.Helper()
	for _, one := range trials {
		got := played(t, book, head+one.rows, one.step)
		if got.Refused != nil {
			t.Errorf("%s: %v", one.name, got.Refused)
		}
		if made := strings.TrimPrefix(got.Table, after); made != one.want {
			t.Errorf("%s: got %q, want %q", one.name, made, one.want)
		}
		s := got.Ledger.Steps[0]
		if got := strings.TrimSuffix(fmt.Sprintf("%d %d %s: %s", s.Cells, s.Rows, s.Sums["value"], s.Note),
			": "); got != one.ledger {
			t.Errorf("%s: the ledger says %s, want %s", one.name, got, one.ledger)
		}
	}
}

func played(t *testing.T, book, content, step string) *fixtest.Played {
	t.Helper()
	b := testkit.Book(t, book)
	got, err := fixtest.Play(t, content, b, fixtest.Plan(t, b, "  - {"+step+", reason: r}\n"), 2)
	if err != nil {
		t.Fatalf("%s: %v", step, err)
	}
	return got
}

// stopped holds steps against why they must not be done as they are declared.
func stopped(t *testing.T, rows string, steps map[string]string) {
	t.Helper()
	for step, want := range steps {
		if got := played(t, book, "sample,parameter,value\n"+rows, step); got.Refused == nil || !strings.Contains(got.Refused.Error(), want) {
			t.Errorf("%s: %v, want %q", step, got.Refused, want)
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

package main

import (
	"os"
	"path/filepath"
)

// sixSteps is a fix plan of what stewards do most: texts, codes, rows that are there twice, one of several, gaps, and the
// standard form.
const sixSteps = `fix_plan: six_steps
dataset: bench
steps:
  - {do: trim, columns: [station, crew, remark], reason: Stray spaces.}
  - {do: map_codes, columns: [parameter], reason: Other spellings.}
  - {do: remove_equal_rows, reason: Twice.}
  - {do: keep_one, columns: [id], survivor: largest_value, by: received, ties: earliest_row, reason: The latest counts.}
  - {do: set_missing, columns: [value], where: value > 990, reason: Out of range.}
  - {do: standard_form, reason: For everybody.}
`

// mendedRows is how many rows the table has that is put right.
const mendedRows = 2_000_000

// mending compares a fix plan of six steps, with the audit of the table that it makes, with the audit of the table that
// arrived. A preview is the same work.
func (b *bench) mending() error {
	path, plan, into := filepath.Join(b.directory, "mended.csv"), filepath.Join(b.directory, "plan.yaml"), filepath.Join(b.directory, "cleaned.csv")
	if err := generate(path, mendedRows); err != nil {
		return err
	}
	defer os.Remove(path)
	if err := os.WriteFile(plan, []byte(sixSteps), 0o600); err != nil {
		return err
	}
	var audit, applied measured
	if err := b.inTurn([]measuring{
		{&audit, func() (measured, error) { return sift(path, b.book, 2) }},
		{&applied, func() (measured, error) {
			return command("fix-plan", "try", path, "--rules", b.book, "--plan", plan, "--into", into, "--workers", "2", "--json")
		}},
	}); err != nil {
		return err
	}
	bar("fix plan of six steps, 2 million rows, against one audit", applied.took.Seconds()/audit.took.Seconds(), "times as long", 4, false)
	bar("peak memory of it", float64(applied.memory)/(1<<20), "MiB", 512, false)
	figure("fix plan of six steps, two workers", applied, mendedRows)
	return nil
}
